// The namespace of this layer, and those that it sees.
#pragma once

#include "antcrew/record/layer.hpp"

namespace antcrew {

namespace analysis_layer {
using namespace base_layer;
using namespace machine_layer;
using namespace record_layer;
}  // namespace analysis_layer
namespace layers {
using namespace analysis_layer;
}
namespace internal {
using namespace analysis_layer;
}

}  // namespace antcrew
