// The side of a program that a study started anew for one block of its rounds.
//
//   study_layer::serve_fresh_start(argc, argv, studies);   // study_main() does that first of all
#pragma once

#include <vector>

#include "antcrew/study/layer.hpp"
#include "antcrew/study/study_base.hpp"

namespace antcrew::study_layer {

// Serves the block and ends the process, where a study started it for that. Otherwise it keeps the arguments, with
// which the program may be started anew, and returns. argv must stay.
void serve_fresh_start(int argc, char** argv, const std::vector<const StudyBase*>& studies);

}  // namespace antcrew::study_layer
