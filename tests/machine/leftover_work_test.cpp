#include "antcrew/machine/leftover_work.hpp"

#include <doctest/doctest.h>
#include <sys/mman.h>
#include <sys/wait.h>
#include <unistd.h>

#include <atomic>
#include <chrono>
#include <thread>

#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/noise.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using namespace std::chrono_literals;

namespace {

// So much CPU time, however long it takes on a machine that has other things to do.
void burn(double seconds) {
  const std::int64_t end = thread_cpu_ns() + static_cast<std::int64_t>(seconds * 1e9);
  while (thread_cpu_ns() < end) {
  }
}

}  // namespace

TEST_CASE("a call that waited for everything leaves nothing") {
  const LeftoverWork watch;
  std::thread([] { burn(0.01); }).join();
  const Leftover left = watch.look(1);
  CHECK_FALSE(left.certain());
  CHECK(left.cpu_s < 0.005);
}

TEST_CASE("a detached thread's time after the return is seen, sleeping or computing") {
  for (const bool computes : {true, false}) {
    const LeftoverWork watch;
    std::thread([computes] { computes ? burn(0.05) : std::this_thread::sleep_for(50ms); }).detach();
    const Leftover left = watch.look(2);
    CHECK(left.threads_ended == 1);
    CHECK(left.certain());
    CHECK(left.went_on_s > 0.03);
    CHECK((left.cpu_s > 0.02) == computes);
  }
}

TEST_CASE("patience ends; what still runs is said") {
  std::atomic<bool> stop{false};
  std::atomic<bool> go{false};
  std::atomic<bool> gone{false};
  std::thread worker([&] {
    while (!stop) {
      if (!go) std::this_thread::sleep_for(100us);
      if (go) gone = true;
    }
  });
  const LeftoverWork watch;
  go = true;
  while (!gone) std::this_thread::sleep_for(100us);  // a loaded machine may not have run it yet
  const Leftover left = watch.look(0.05);
  CHECK(left.still_running);
  CHECK_FALSE(left.certain());
  stop = true;
  worker.join();
}

TEST_CASE("a child process that goes on, with its CPU time") {
  const LeftoverWork watch;
  const pid_t child = fork();
  if (child == 0) {
    burn(0.05);
    _exit(0);
  }
  const Leftover left = watch.look(2);
  CHECK(left.processes_ended == 1);
  CHECK(left.cpu_s > 0.02);
  waitpid(child, nullptr, 0);
}

TEST_CASE("usage counts threads to the nanosecond, and children") {
  const Usage before = usage_before();
  std::atomic<bool> measured{false};
  std::atomic<bool> done{false};
  std::thread worker([&] {
    burn(0.02);
    done = true;
    while (!measured) burn(0.0001);
  });
  while (!done) std::this_thread::sleep_for(100us);
  const Usage used = usage_after() - before;
  measured = true;
  worker.join();
  CHECK(used.cpu_s() - used.caller_s > 0.015);  // though the thread never stopped running
  const Usage again = usage_before();
  const pid_t child = fork();
  if (child == 0) {
    burn(0.03);
    _exit(0);
  }
  waitpid(child, nullptr, 0);
  CHECK((usage_after() - again).cpu_s() > 0.02);
}

TEST_CASE("memory's peak is taken anew") {
  REQUIRE(reset_peak_memory());
  const std::uint64_t before = peak_memory_bytes();
  // Mapped and unmapped by hand: an allocator may keep what it was given back.
  constexpr std::size_t bytes = 64u << 20;
  void* big = mmap(nullptr, bytes, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS | MAP_POPULATE, -1, 0);
  REQUIRE(big != MAP_FAILED);
  munmap(big, bytes);
  CHECK(peak_memory_bytes() > before + (50u << 20));
  REQUIRE(reset_peak_memory());
  CHECK(peak_memory_bytes() < before + (40u << 20));
}

TEST_CASE("the machine's times grow") {
  const MachineTimes before = machine_times();
  burn(0.1);
  CHECK(machine_times().busy_s > before.busy_s);
}
