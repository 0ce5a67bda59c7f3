// The namespace of this layer, and those that it sees.
#pragma once

#include "antcrew/base/layer.hpp"

namespace antcrew {

namespace machine_layer {
using namespace base_layer;
}  // namespace machine_layer
namespace layers {
using namespace machine_layer;
}
namespace internal {
using namespace machine_layer;
}

}  // namespace antcrew
