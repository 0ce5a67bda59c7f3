// Runs programs with planted losses and shows what was found. Usage: planted_losses [--few] [PART OF A NAME …]
// Each is tried up to three times and passes when two of them do. Exit 1 when one does not.
#include <fmt/format.h>

#include <cstdio>
#include <cstring>

#include "tests/losses/plant.hpp"

namespace {

using namespace planted;

constexpr const char* few[] = {"one after the other, after a loop", "a lock around everything",
                               "nine for eight and in turn",        "a fork with two unlike halves",
                               "nine for eight processes",          "healthy tasks"};

bool wanted(const Plant& plant, int argc, char** argv) {
  if (argc < 2) return true;
  for (int k = 1; k < argc; ++k) {
    if (std::strcmp(argv[k], "--few") != 0) {
      if (plant.name.find(argv[k]) != std::string::npos) return true;
      continue;
    }
    for (const char* name : few) {
      if (plant.name == name) return true;
    }
  }
  return false;
}

bool try_out(const Plant& plant) {
  int passed = 0;
  for (int go = 1; go <= 3 && passed < 2 && go - passed <= 2; ++go) {
    const Seen seen = seen_of(plant.run(), plant.workers);
    const std::string wrong = wrong_with(plant, seen);
    passed += wrong.empty() ? 1 : 0;
    std::string found;
    for (std::size_t k = 0; k < std::min<std::size_t>(seen.losses.size(), 3); ++k)
      found += fmt::format("{}{} {:.1f} %", k == 0 ? "" : ", ", seen.losses[k].first, 100 * seen.losses[k].second);
    std::string asked;
    for (const std::string& id : plant.losses) asked += (asked.empty() ? "" : ", ") + id;
    if (plant.share) asked += fmt::format(" {:.1f} %", 100 * *plant.share);
    fmt::print("{} | {} | {} | {} | unaccounted {:.2f} % | CPU {:.2f} / {:.2f} ms | slowed {:.1f} %{}\n",
               wrong.empty() ? "ok  " : "FAIL", plant.name, asked.empty() ? "nothing" : asked,
               found.empty() ? "nothing" : found, 100 * seen.unaccounted, 1e3 * seen.cpu_frames_s,
               1e3 * seen.cpu_kernel_s, 100 * seen.slowdown,
               (wrong.empty() ? "" : " | " + wrong) + (seen.withheld.empty() ? "" : " | withheld: " + seen.withheld));
    std::fflush(stdout);
  }
  return passed >= 2;
}

}  // namespace

int main(int argc, char** argv) {
  int tried = 0;
  int failed = 0;
  for (const Plant& plant : all_plants()) {
    if (!wanted(plant, argc, argv)) continue;
    ++tried;
    failed += try_out(plant) ? 0 : 1;
  }
  fmt::print("{} of {} passed\n", tried - failed, tried);
  return failed == 0 && tried > 0 ? 0 : 1;
}
