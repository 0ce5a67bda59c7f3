// The namespace of this layer, and those that it sees.
#pragma once

#include "antcrew/report/layer.hpp"

namespace antcrew {

namespace store_layer {
using namespace base_layer;
using namespace machine_layer;
using namespace record_layer;
using namespace analysis_layer;
using namespace study_layer;
using namespace report_layer;
}  // namespace store_layer
namespace layers {
using namespace store_layer;
}
namespace internal {
using namespace store_layer;
}

}  // namespace antcrew
