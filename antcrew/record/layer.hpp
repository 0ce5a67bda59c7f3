// The namespace of this layer, and those that it sees.
#pragma once

#include "antcrew/machine/layer.hpp"

namespace antcrew {

namespace record_layer {
using namespace base_layer;
using namespace machine_layer;
}  // namespace record_layer
namespace layers {
using namespace record_layer;
}
namespace internal {
using namespace record_layer;
}

}  // namespace antcrew
