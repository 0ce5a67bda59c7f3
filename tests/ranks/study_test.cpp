// Studies whose variants run on ranks, from outside: the example that has the same work on threads, processes and
// ranks.
#include <doctest/doctest.h>
#include <fcntl.h>
#include <signal.h>
#include <stdlib.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <filesystem>
#include <nlohmann/json.hpp>
#include <string>
#include <thread>
#include <vector>

#include "support/command.hpp"

namespace {

const std::string everywhere = std::string(ANTCREW_EXAMPLES) + "/everywhere";

void allow_any_number() {
  ::setenv("OMPI_ALLOW_RUN_AS_ROOT", "1", 1);
  ::setenv("OMPI_ALLOW_RUN_AS_ROOT_CONFIRM", "1", 1);
}

nlohmann::json record_at(const std::string& path) {
  return nlohmann::json::parse(test::read_file(path));
}

// Living processes of the example.
int processes_left() {
  int count = 0;
  for (const auto& entry : std::filesystem::directory_iterator("/proc")) {
    std::error_code none;
    const auto program = std::filesystem::read_symlink(entry.path() / "exe", none);
    count += !none && program == std::filesystem::canonical(everywhere) ? 1 : 0;
  }
  return count;
}
bool none_left_within_s(int seconds) {
  for (int look = 0; look < 10 * seconds; ++look) {
    if (processes_left() == 0) return true;
    std::this_thread::sleep_for(std::chrono::milliseconds(100));
  }
  return false;
}

}  // namespace

TEST_CASE("a variant on ranks is launched, compared and timed beside those on threads and processes") {
  allow_any_number();
  const test::TemporaryFolder folder;
  for (const char* study : {"Tides everywhere", "Silt everywhere"}) {
    CAPTURE(study);
    const std::string record = folder / (std::string(study) + ".json");
    const auto ran = test::run_command({everywhere, "--study", study, "--workers", "1,2", "--sizes", "60", "--rounds",
                                        "2", "--no-confirm", "--quiet", "--budget", "0", "--save", record});
    CAPTURE(ran.err);
    CHECK((ran.exit == 0 || ran.exit == 1 || ran.exit == 4));
    int on_ranks = 0;
    const nlohmann::json told = record_at(record);
    for (const auto& cell : told["cells"]) {
      CAPTURE(cell["variant"]);
      CHECK(cell["faults"].empty());
      CHECK(cell["trials"]["round"].size() == 2);
      on_ranks += cell["crew"] == "RankCrew" ? 1 : 0;
    }
    CHECK(on_ranks >= 2);
    CHECK(none_left_within_s(5));
  }
}

TEST_CASE("another number of ranks than was asked for is told") {
  allow_any_number();
  const test::TemporaryFolder folder;
  const std::string record = folder / "record.json";
  test::run_command({everywhere, "--study", "Tides everywhere", "--workers", "2", "--sizes", "60", "--rounds", "1",
                     "--no-confirm", "--quiet", "--save", record, "--launcher", "mpirun -n 1"});
  bool told = false;
  const nlohmann::json record_told = record_at(record);
  for (const auto& cell : record_told["cells"]) {
    for (const auto& fault : cell["faults"]) {
      told = told || test::contains(fault["text"].get<std::string>(), "began 1 ranks in place of 2");
    }
  }
  CHECK(told);
}

TEST_CASE("a study of ranks that is killed or interrupted leaves nothing behind") {
  allow_any_number();
  const test::TemporaryFolder folder;
  for (const int number : {SIGKILL, SIGINT}) {
    CAPTURE(number);
    const pid_t study = ::fork();
    if (study == 0) {
      const int file = ::open("/dev/null", O_WRONLY);
      ::dup2(file, 1);
      ::dup2(file, 2);
      const std::string record = folder / (std::to_string(number) + ".json");
      ::execl(everywhere.c_str(), everywhere.c_str(), "--study", "Tides everywhere", "--workers", "3", "--variant",
              "tides (RankCrew)", "--rounds", "500", "--budget", "0", "--save", record.c_str(), nullptr);
      ::_exit(127);
    }
    // Until its ranks are there: the run, the input process, the one that passes on, and three ranks.
    for (int look = 0; look < 200 && processes_left() < 6; ++look) {
      std::this_thread::sleep_for(std::chrono::milliseconds(50));
    }
    CHECK(processes_left() >= 6);
    ::kill(study, number);
    int status = 0;
    ::waitpid(study, &status, 0);
    CHECK(none_left_within_s(8));
  }
}
