#include "demo.hpp"

#include <unistd.h>

#include <algorithm>
#include <filesystem>

#include "antcrew/base/error.hpp"
#include "antcrew/base/units.hpp"

namespace {

constexpr const char* demo_budget_s = "21";  // with the build of the input and the last round, under 30 s

// Installed: bin/antcrew and libexec/antcrew/tides. In a build folder: command/antcrew and examples/tides.
std::string example(const std::string& name) {
  const std::filesystem::path here = std::filesystem::read_symlink("/proc/self/exe").parent_path();
  std::vector<std::string> tried;
  for (const auto& folder : {here / "../libexec/antcrew", here / "../examples"}) {
    const std::string path = (folder / name).lexically_normal().string();
    if (::access(path.c_str(), X_OK) == 0) return path;
    tried.push_back(path);
  }
  antcrew::base_layer::could_not_run("demo.missing", "demo",
                                     "the example program is neither " + antcrew::base_layer::joined(tried, " nor "),
                                     "install or build the examples too");
}

}  // namespace

int run_demo(const std::vector<std::string>& arguments) {
  const std::string program = example("tides");
  std::vector<std::string> words{program};
  words.insert(words.end(), arguments.begin(), arguments.end());
  if (std::find(words.begin(), words.end(), "--budget") == words.end()) {
    words.insert(words.end(), {"--budget", demo_budget_s});
  }
  const bool other = std::find(words.begin(), words.end(), "--dry-run") != words.end() ||
                     std::find(words.begin(), words.end(), "--list") != words.end() ||
                     std::find(words.begin(), words.end(), "--find-races") != words.end();
  if (!other && std::find(words.begin(), words.end(), "--page") == words.end()) words.emplace_back("--page");
  std::vector<char*> raw;
  for (std::string& word : words) raw.push_back(word.data());
  raw.push_back(nullptr);
  ::execv(program.c_str(), raw.data());
  antcrew::base_layer::could_not_run("demo.missing", program, "the example program could not be started",
                                     "build it again");
}
