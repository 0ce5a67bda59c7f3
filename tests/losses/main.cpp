// Runs programs with planted losses and shows what was found. Usage: planted_losses [--few] [PART OF A NAME …]
// Each has up to three goes on a machine that was left alone meanwhile, and passes when two of them do. Exit 1 when one
// does not; 77 when none failed, but the machine was too disturbed to judge one.
#include <fmt/format.h>

#include <cstdio>
#include <cstring>

#include "tests/losses/plant.hpp"
#include "tests/support/disturbance.hpp"

namespace {

using namespace planted;

constexpr const char* few[] = {"one after the other, after a loop", "a lock around everything",
                               "nine for eight and in turn",        "a fork with two unlike halves",
                               "nine for eight processes",          "a std::mutex around everything",
                               "a std::mutex for each item",        "healthy tasks"};

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

enum class Result { passed, failed, not_judged };

Result try_out(const Plant& plant) {
  constexpr int most_goes = 9;
  int passed = 0;
  int failed = 0;
  for (int go = 1; go <= most_goes && passed < 2 && failed < 2; ++go) {
    test::Disturbance machine;
    const Seen seen = seen_of(plant.run(), plant.workers);
    const double taken = machine.taken();
    const double late = machine.late();
    const bool disturbed = machine.too_much();
    const std::string wrong = wrong_with(plant, seen);
    if (wrong.empty()) ++passed;
    if (!wrong.empty() && !disturbed) ++failed;
    std::string found;
    for (std::size_t k = 0; k < std::min<std::size_t>(seen.losses.size(), 3); ++k)
      found += fmt::format("{}{} {:.1f} %", k == 0 ? "" : ", ", seen.losses[k].first, 100 * seen.losses[k].second);
    std::string asked;
    for (const std::string& id : plant.losses) asked += (asked.empty() ? "" : ", ") + id;
    if (plant.share) asked += fmt::format(" {:.1f} %", 100 * *plant.share);
    fmt::print(
        "{} | {} | {} | {} | unaccounted {:.2f} % | CPU {:.2f} / {:.2f} ms | slowed {:.1f} % | machine taken {:.1f} %, "
        "late {:.1f} %{}\n",
        wrong.empty() ? "ok  "
        : disturbed   ? "VOID"
                      : "FAIL",
        plant.name, asked.empty() ? "nothing" : asked, found.empty() ? "nothing" : found, 100 * seen.unaccounted,
        1e3 * seen.cpu_frames_s, 1e3 * seen.cpu_kernel_s, 100 * seen.slowdown, 100 * taken, 100 * late,
        (wrong.empty() ? "" : " | " + wrong) + (seen.withheld.empty() ? "" : " | withheld: " + seen.withheld));
    std::fflush(stdout);
  }
  return passed >= 2 ? Result::passed : failed >= 2 ? Result::failed : Result::not_judged;
}

}  // namespace

int main(int argc, char** argv) {
  int tried = 0;
  int failed = 0;
  int not_judged = 0;
  for (const Plant& plant : all_plants()) {
    if (!wanted(plant, argc, argv)) continue;
    ++tried;
    const Result result = try_out(plant);
    failed += result == Result::failed ? 1 : 0;
    not_judged += result == Result::not_judged ? 1 : 0;
  }
  fmt::print("{} of {} passed", tried - failed - not_judged, tried);
  if (not_judged > 0) fmt::print("; the machine was too disturbed to judge {}", not_judged);
  fmt::print("\n");
  if (failed > 0 || tried == 0) return 1;
  return not_judged > 0 ? 77 : 0;
}
