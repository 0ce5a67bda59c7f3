// Gives a study program its command line.
//
//   int main(int argc, char** argv) { …; return antcrew::study_main(argc, argv, tides); }
//
// Takes several studies, each of which leaves one record. Exit codes: 0 done, 1 no variant of some study holds, 2 bad
// usage, 3 could not run, 4 cannot tell.
#pragma once

#include <cstddef>
#include <vector>

#include "antcrew/cli/layer.hpp"
#include "antcrew/study/build.hpp"
#include "antcrew/study/study_base.hpp"

namespace antcrew {

int study_main(int argc, char** argv, const std::vector<const StudyBase*>& studies,
               const FileBuild& build = build_of_this_file());
int study_main(int argc, char** argv, const StudyBase* const* studies, std::size_t count, const FileBuild& build);

template <class... Studies>
int study_main(int argc, char** argv, const StudyBase& first, const Studies&... more) {
  const StudyBase* const studies[] = {&first, &more...};
  return study_main(argc, argv, studies, 1 + sizeof...(more), build_of_this_file());
}

}  // namespace antcrew
