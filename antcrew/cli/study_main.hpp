// Gives a study program its command line.
//
//   int main(int argc, char** argv) { …; return antcrew::study_main(argc, argv, tides); }
//
// Takes several studies, each of which leaves one record. Exit codes: 0 done, 1 no variant of some study holds, 2 bad
// usage, 3 could not run, 4 cannot tell.
#pragma once

#include <vector>

#include "antcrew/study/build.hpp"
#include "antcrew/study/study_base.hpp"

namespace antcrew {

int study_main(int argc, char** argv, const std::vector<const StudyBase*>& studies,
               const record_layer::BuildFacts& build = build_of_this_file());

template <class... Studies>
int study_main(int argc, char** argv, const StudyBase& first, const Studies&... more) {
  return study_main(argc, argv, std::vector<const StudyBase*>{&first, &more...}, build_of_this_file());
}

}  // namespace antcrew
