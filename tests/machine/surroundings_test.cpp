// What goes on around a study: other studies, the processors of its threads, memory that must be read again.
#include <doctest/doctest.h>
#include <sys/wait.h>
#include <unistd.h>

#include <atomic>
#include <thread>

#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/refill.hpp"
#include "antcrew/machine/study_lock.hpp"
#include "antcrew/machine/usage.hpp"
#include "support/command.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using test::TemporaryFolder;

TEST_CASE("two studies see each other, also two of one process; a study that died is not seen") {
  const TemporaryFolder folder;
  const std::string path = folder / "lock";
  StudyLock first(path);
  CHECK(first.alone());
  {
    StudyLock second(path);
    CHECK_FALSE(second.alone());
    CHECK_FALSE(first.alone());
  }
  CHECK(first.alone());
  int told[2];
  REQUIRE(pipe(told) == 0);
  const pid_t other = fork();
  if (other == 0) {
    StudyLock its(path);
    const char ready = 1;
    if (write(told[1], &ready, 1) != 1) _exit(1);
    pause();
    _exit(0);
  }
  char ready = 0;
  REQUIRE(read(told[0], &ready, 1) == 1);
  CHECK_FALSE(first.alone());
  kill(other, SIGKILL);
  waitpid(other, nullptr, 0);
  CHECK(first.alone());
  close(told[0]);
  close(told[1]);
}

TEST_CASE("where the lock's file cannot be made, nobody else is seen and nothing fails") {
  StudyLock lock("/no/such/folder/lock");
  CHECK(lock.alone());
}

TEST_CASE("the processors of all threads and processes below, the caller's first") {
  CHECK(processors_last_used().size() == 1);
  CHECK(processors_last_used()[0] >= 0);
  std::atomic<bool> done{false};
  std::thread other([&] {
    while (!done) std::this_thread::yield();
  });
  const pid_t child = fork();
  if (child == 0) {
    pause();
    _exit(0);
  }
  const std::vector<int> found = processors_last_used();
  CHECK(found.size() == 3);
  for (const int processor : found) CHECK(processor >= 0);
  done = true;
  other.join();
  kill(child, SIGKILL);
  waitpid(child, nullptr, 0);
}

TEST_CASE("refilling takes longer for more, but not for more than the caches hold, and never nothing") {
  CHECK(read_speed() > 1e7);
  CHECK(refill_s(1) > 0);
  CHECK(refill_s(4u << 20) > refill_s(1u << 20));
  CHECK(refill_s(1ull << 40) == refill_s(1ull << 41));
  CHECK(asleep_s() > -1e-3);  // two clocks, read one after the other
}
