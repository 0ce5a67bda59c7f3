// The namespace of this layer, and those that it sees.
#pragma once

#include "antcrew/analysis/layer.hpp"

namespace antcrew {

namespace study_layer {
using namespace base_layer;
using namespace machine_layer;
using namespace record_layer;
using namespace analysis_layer;
}  // namespace study_layer
namespace layers {
using namespace study_layer;
}
namespace internal {
using namespace study_layer;
}

}  // namespace antcrew
