// The side of a program that a launcher began for a study: its processes are the workers of one crew.
//
//   if (const auto code = study_layer::serve_launched(argc, argv, studies)) return *code;
//
// study_main() does that first of all.
#pragma once

#include <optional>
#include <vector>

#include "antcrew/study/layer.hpp"
#include "antcrew/study/study_base.hpp"

namespace antcrew::study_layer {

// None: it was begun otherwise. Else it has served a cell of one of the studies, and this is the exit code. Throws
// Error (study.launched) where the study is another one.
std::optional<int> serve_launched(int argc, char** argv, const std::vector<const StudyBase*>& studies);

}  // namespace antcrew::study_layer
