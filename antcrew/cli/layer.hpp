// The namespace of this layer, and those that it sees.
#pragma once

#include "antcrew/store/layer.hpp"
#include "antcrew/sweep/layer.hpp"

namespace antcrew {

namespace cli_layer {
using namespace base_layer;
using namespace machine_layer;
using namespace record_layer;
using namespace analysis_layer;
using namespace study_layer;
using namespace report_layer;
using namespace store_layer;
using namespace sweep_layer;
}  // namespace cli_layer
namespace layers {
using namespace cli_layer;
}
namespace internal {
using namespace cli_layer;
}

}  // namespace antcrew
