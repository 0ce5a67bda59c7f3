#include <doctest/doctest.h>
#include <signal.h>
#include <stdlib.h>

#include <chrono>
#include <filesystem>
#include <fstream>
#include <string>
#include <thread>
#include <vector>

#include "support/command.hpp"

namespace {

struct Launched {
  test::TemporaryFolder folder;
  test::Outcome outcome;
  double took_s = 0;

  Launched(int ranks, const std::string& what, const std::vector<std::string>& programs = {ANTCREW_RANKS}) {
    ::setenv("OMPI_ALLOW_RUN_AS_ROOT", "1", 1);
    ::setenv("OMPI_ALLOW_RUN_AS_ROOT_CONFIRM", "1", 1);
    ::setenv("OMPI_MCA_rmaps_base_oversubscribe", "1", 1);
    std::vector<std::string> words{"timeout", "-k", "1", "60", ANTCREW_LAUNCHER};
    for (std::size_t k = 0; k < programs.size(); ++k) {
      if (k > 0) words.push_back(":");
      words.insert(words.end(), {"-n", std::to_string(k == 0 ? ranks : 1), programs[k], what, folder.path()});
    }
    const auto begun = std::chrono::steady_clock::now();
    outcome = test::run_command(words);
    took_s = std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count();
  }
  // Whether one of its ranks still lives, 5 s after the end.
  bool left_something() const {
    for (int look = 0; look < 50; ++look) {
      bool any = false;
      for (const auto& file : std::filesystem::directory_iterator(folder.path())) {
        pid_t rank = 0;
        std::ifstream(file.path()) >> rank;
        any = any || (rank > 0 && ::kill(rank, 0) == 0);
      }
      if (!any) return false;
      std::this_thread::sleep_for(std::chrono::milliseconds(100));
    }
    return true;
  }
  std::size_t ranks_begun() const {
    std::size_t count = 0;
    for ([[maybe_unused]] const auto& file : std::filesystem::directory_iterator(folder.path())) ++count;
    return count;
  }
};

}  // namespace

TEST_CASE("a program's exit code is what its body returns, and nothing is printed") {
  const Launched well(3, "well");
  CHECK(well.outcome.exit == 0);
  CHECK(well.outcome.out == "");
  CHECK(well.outcome.err == "");
  CHECK(well.ranks_begun() == 3);
  CHECK_FALSE(well.left_something());
  CHECK(Launched(2, "code").outcome.exit == 5);
}

TEST_CASE("what the program throws is told in one line, and all ranks end") {
  const Launched throws(3, "throws");
  CHECK(throws.outcome.exit == 1);
  CHECK(test::contains(throws.outcome.err, "error: no more soundings\n"));
  CHECK_FALSE(throws.left_something());
  const Launched body(3, "body");
  CHECK(body.outcome.exit == 1);
  CHECK(test::contains(body.outcome.err, "it threw std::runtime_error: this one is dry"));
  CHECK(test::contains(body.outcome.err, "rank 2 on "));
  CHECK_FALSE(body.left_something());
}

TEST_CASE("a rank that does not come back meets the deadline, and all ranks are ended") {
  const Launched stuck(3, "stuck");
  CHECK(stuck.outcome.exit != 0);
  CHECK(test::contains(stuck.outcome.err, "there was no answer from rank 1 on "));
  CHECK(stuck.took_s < 30);
  CHECK_FALSE(stuck.left_something());
}

TEST_CASE("the death of any rank is the end of all") {
  for (const char* what : {"dies", "head-dies"}) {
    CAPTURE(what);
    const Launched dies(3, what);
    CHECK(dies.outcome.exit != 0);
    CHECK(dies.took_s < 30);
    CHECK_FALSE(dies.left_something());
  }
}

TEST_CASE("ranks of another build are refused by all") {
  const test::TemporaryFolder folder;
  const std::string other = folder / "other";
  std::filesystem::copy_file(ANTCREW_RANKS, other);
  std::ofstream(other, std::ios::app) << "built anew";
  const Launched mixed(1, "well", {ANTCREW_RANKS, other});
  CHECK(mixed.outcome.exit == 1);
  CHECK(test::contains(mixed.outcome.err, "another build of the program"));
  CHECK(mixed.ranks_begun() == 0);
}

TEST_CASE("options that ranks cannot have are refused; programs that are MPI's already have crews, too") {
  const Launched options(2, "options");
  CHECK(options.outcome.exit == 1);
  CHECK(test::contains(options.outcome.err, "only processes.deadline_s"));
  const Launched already(3, "already");
  CHECK(already.outcome.exit == 0);
  CHECK(already.outcome.out == "100 and 7\n");
}
