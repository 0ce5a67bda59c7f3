// What tests of launched ranks launch: programs that do something wrong, each by its name.
#include <unistd.h>
#include <antcrew/ranks/rank_crew.hpp>

#include <csignal>
#include <cstdio>
#include <fstream>
#include <stdexcept>
#include <string>
#include <thread>

using namespace antcrew;

namespace {

void say_who(const std::string& folder) {
  std::ofstream(folder + "/rank-" + std::to_string(current_rank().rank)) << ::getpid() << '\n';
}

int run(RankCrew& crew, const std::string& what, const std::string& folder) {
  crew.on_each([](const std::string& in) { say_who(in); }, folder);
  if (what == "well") return 0;
  if (what == "code") return 5;
  if (what == "throws") throw std::runtime_error("no more soundings");
  if (what == "body") {
    crew.on_each([] {
      if (current_rank().rank + 1 == current_rank().ranks) throw std::runtime_error("this one is dry");
    });
  }
  if (what == "stuck") {
    crew.on_each([] {
      if (current_rank().rank == 1) std::this_thread::sleep_for(std::chrono::seconds(1'000));
    });
  }
  if (what == "dies") {
    crew.on_each([] {
      if (current_rank().rank == 1) std::raise(SIGKILL);
      std::this_thread::sleep_for(std::chrono::seconds(1'000));
    });
  }
  if (what == "head-dies") std::raise(SIGKILL);
  return 0;
}

}  // namespace

int main(int argc, char** argv) {
  const std::string what = argc > 1 ? argv[1] : "";
  const std::string folder = argc > 2 ? argv[2] : ".";
  CrewOptions options;
  if (what == "stuck") options.processes.deadline_s = 1;
  if (what == "options") options.pin = Pin::near;
  if (what == "already") {
    // In a program that is MPI's already; the crew of the others serves by itself.
    MPI_Init(&argc, &argv);
    int sum = 0;
    {
      RankCrew crew(MPI_COMM_WORLD);
      if (crew.rank() == 0) {
        sum = crew.fold(
            100, 0, [](Range range) { return static_cast<int>(range.size()); }, std::plus<>());
      }
    }
    {
      RankCrew again(MPI_COMM_WORLD);
      if (again.rank() == 0) std::printf("%d and %d\n", sum, again.on_each([] { return 7; })[0]);
    }
    MPI_Finalize();
    return 0;
  }
  return on_ranks(
      argc, argv, [&](RankCrew& crew) { return run(crew, what, folder); }, options);
}
