// The namespace of this layer, and those that it sees.
#pragma once

#include "antcrew/study/layer.hpp"

namespace antcrew {

namespace report_layer {
using namespace base_layer;
using namespace machine_layer;
using namespace record_layer;
using namespace analysis_layer;
using namespace study_layer;
}  // namespace report_layer
namespace layers {
using namespace report_layer;
}
namespace internal {
using namespace report_layer;
}

}  // namespace antcrew
