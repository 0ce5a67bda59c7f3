// A study program that is started anew for the blocks that confirm its best; with an oddity that the environment names.
#include <unistd.h>
#include <antcrew/antcrew.hpp>
#include <antcrew/record/record.hpp>

#include <chrono>
#include <cstdio>
#include <cstdlib>
#include <fstream>
#include <stdexcept>
#include <string>
#include <thread>
#include <vector>

using namespace antcrew;

namespace {

// Where a start of the program has its code, heap and stack, one line for each input that it makes.
std::vector<double> make(const StudyPoint& at) {
  static const auto here = reinterpret_cast<std::uintptr_t>(&make);
  if (const char* file = std::getenv("ANEW_PLACES"))
    std::ofstream(file, std::ios::app) << here << " " << at.seed << "\n";
  return std::vector<double>(at.size, 1.0 + static_cast<double>(at.seed));
}

int calls_of_total = 0;  // each cell process begins with the one of the reference

// It waits, so that the rewrite is faster on any machine, however busy.
double total(const std::vector<double>& in) {
  if (const char* failing = std::getenv("ANEW_FAILS_AT"); failing != nullptr && ++calls_of_total == std::atoi(failing))
    throw std::runtime_error("nobody serves the gauge here");
  std::this_thread::sleep_for(std::chrono::milliseconds(10));
  double sum = 0;
  for (const double value : in) sum += value;
  return sum;
}

}  // namespace

int main(int argc, char** argv) {
  const char* named = std::getenv("ANEW");
  const std::string oddity = named == nullptr ? "" : named;
  const bool again = std::getenv("ANTCREW_SERVE_BLOCK") != nullptr;
  if (oddity == "prints") std::printf("not for the result\n");
  if (oddity == "leaves" && again) std::_Exit(7);
  // What the first start got ready for it, a new start does not have.
  if (again && oddity == "no reference") ::setenv("ANEW_FAILS_AT", "1", 1);
  if (again && oddity == "no rounds") ::setenv("ANEW_FAILS_AT", "2", 1);
  // A service of its own, which a block that serves from here would take for something left behind.
  if (oddity == "processes" && again && fork() == 0) {
    pause();
    std::_Exit(0);
  }
  std::thread thread;
  if (oddity == "threads" && again) thread = std::thread([] { std::this_thread::sleep_for(std::chrono::seconds(30)); });

  Study study(oddity == "other title" && again ? "Another sum" : "A sum", make, total, within(1e-9));
  study.sizes({200'000});
  study.inputs(2);
  study.variant<ThreadCrew>("split", [](const std::vector<double>& in, ThreadCrew& crew) {
    return crew.fold(
        in.size(), 0.0,
        [&](Range range) {
          double sum = 0;
          for (std::size_t i = range.first; i < range.last; ++i) sum += in[i];
          return sum;
        },
        std::plus<>());
  });
  if (oddity == "run") {  // without a command line: nothing can be started anew
    const auto record = run(study, Plan{.workers = {1, 2}, .rounds = 9, .crowd = false});
    for (const auto& block : record.blocks) {
      if (block.confirming > 0) std::printf("%d %s\n", block.afresh ? 1 : 0, block.not_afresh.c_str());
    }
    return 0;
  }
  const int code = study_main(argc, argv, study);
  if (thread.joinable()) thread.detach();
  return code;
}
