// The namespaces of the layers. What a study program writes (crews, studies, plans, run(), study_main()) lives in
// antcrew itself; what only those need who read records, judge them or build tools lives in the namespace of its layer,
// so that `using namespace antcrew` leaves everyday names such as Record, Cell, Point or Machine to the program.
//
//   using namespace antcrew::layers;   // all of them
#pragma once

namespace antcrew {

namespace machine_layer {}
namespace record_layer {
using namespace machine_layer;
}
namespace analysis_layer {
using namespace machine_layer;
using namespace record_layer;
}  // namespace analysis_layer
namespace study_layer {
using namespace machine_layer;
using namespace record_layer;
using namespace analysis_layer;
}  // namespace study_layer
namespace sweep_layer {
using namespace study_layer;
}
namespace report_layer {
using namespace machine_layer;
using namespace record_layer;
using namespace analysis_layer;
using namespace study_layer;
}  // namespace report_layer
namespace store_layer {
using namespace report_layer;
}
namespace cli_layer {
using namespace report_layer;
using namespace store_layer;
using namespace sweep_layer;
}  // namespace cli_layer
namespace layers {
using namespace cli_layer;
}
namespace internal {
using namespace layers;
}

}  // namespace antcrew
