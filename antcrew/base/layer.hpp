// The namespace of what every layer needs and no program: errors that are thrown, units, hashes, names.
//
// What a study program writes (crews, studies, plans, run(), study_main()) lives in antcrew itself. What only those
// need who read records, judge them or build tools lives in the namespace of its layer, so that `using namespace
// antcrew` leaves everyday names such as Record, Cell, Point or Machine to the program. A layer sees those before it:
// each says so in a header of its own, antcrew/LAYER/layer.hpp.
//
//   using namespace antcrew::layers;   // all of them that are included
#pragma once

namespace antcrew {

namespace base_layer {}
namespace layers {
using namespace base_layer;
}
namespace internal {
using namespace base_layer;
}

}  // namespace antcrew
