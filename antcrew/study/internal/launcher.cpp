#include "antcrew/study/internal/launcher.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <cstdlib>
#include <utility>

#include "antcrew/base/error.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/study/layer.hpp"

namespace antcrew::internal {

int processes_for(int workers, const Point& at) {
  if (at.dimensions.count(threads_per_rank) == 0) return workers;
  const std::size_t threads = at[threads_per_rank];
  if (threads == 0 || static_cast<std::size_t>(workers) % threads != 0) {
    bad_input("study.launcher", threads_per_rank,
              fmt::format("{} workers are no whole number of ranks with {} threads", workers, threads),
              "choose worker counts that it divides");
  }
  return workers / static_cast<int>(threads);
}

std::vector<std::string> launcher_words(const std::string& launcher, int workers, const Point& at) {
  std::vector<std::string> words;
  std::string word;
  bool begun = false;
  char quote = 0;
  const auto value = [&](const std::string& name) -> std::string {
    if (name == "workers") return std::to_string(workers);
    if (name == "ranks") return std::to_string(processes_for(workers, at));
    if (name == "size" && at.size > 0) return std::to_string(at.size);
    if (const auto found = at.dimensions.find(name); found != at.dimensions.end()) return found->second.text();
    bad_input("study.launcher", printable(launcher, 80), "there is no value for @(" + printable(name, 40) + ")",
              "there are @(workers), @(ranks), @(size) where the study has sizes, and its dimensions");
  };
  for (std::size_t k = 0; k < launcher.size(); ++k) {
    const char c = launcher[k];
    if (launcher.compare(k, 2, "@(") == 0) {
      const std::size_t end = launcher.find(')', k);
      if (end == std::string::npos) {
        bad_input("study.launcher", printable(launcher, 80), "'@(' without its ')'", "write @(workers)");
      }
      word += value(launcher.substr(k + 2, end - k - 2));
      begun = true;
      k = end;
    } else if (quote != 0 ? c == quote : c == '"' || c == '\'') {
      quote = quote != 0 ? '\0' : c;
      begun = true;
    } else if (quote == 0 && (c == ' ' || c == '\t')) {
      if (begun) words.push_back(std::exchange(word, {}));
      begun = false;
    } else {
      word += c;
      begun = true;
    }
  }
  if (quote != 0) bad_input("study.launcher", printable(launcher, 80), "a quote that is not closed", "close it");
  if (begun) words.push_back(word);
  if (words.empty()) bad_input("study.launcher", "--launcher", "it has no words", "write mpirun -n @(workers)");
  return words;
}

std::string usual_launcher() {
  const char* path = std::getenv("PATH");
  const std::string folders = path == nullptr ? "/usr/bin:/bin" : path;
  for (std::size_t from = 0; from <= folders.size();) {
    const std::size_t end = std::min(folders.find(':', from), folders.size());
    if (::access((folders.substr(from, end - from) + "/mpirun").c_str(), X_OK) == 0) return "mpirun -n @(ranks)";
    from = end + 1;
  }
  could_not_run("study.launcher", "mpirun", "there is no such program to begin the workers of a RankCrew",
                "install Open MPI or MPICH, or name what begins them with --launcher");
}

}  // namespace antcrew::internal
