#include "antcrew/machine/thread_samples.hpp"

#include <doctest/doctest.h>
#include <signal.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <barrier>
#include <condition_variable>
#include <future>
#include <map>
#include <mutex>
#include <shared_mutex>
#include <thread>

using namespace antcrew::internal;
using In = SeenThread::In;

namespace {

// A process whose threads wait in all ways, until it is killed; some seconds at most.
[[noreturn]] void wait_in_all_ways() {
  ::prctl(PR_SET_PDEATHSIG, SIGKILL);
  ::alarm(20);
  std::mutex held;
  held.lock();
  std::mutex other;
  std::condition_variable never;
  std::barrier nobody_comes(2);
  std::promise<int> unkept;
  int ends[2];
  if (::pipe(ends) != 0) ::_exit(1);
  std::jthread sleeper([] { std::this_thread::sleep_for(std::chrono::seconds(30)); });
  std::jthread at_lock([&] { held.lock(); });
  std::jthread at_same_lock([&] { held.lock(); });
  std::shared_mutex both_kinds;
  both_kinds.lock();
  std::jthread reader([&] { both_kinds.lock_shared(); });
  std::jthread writer([&] { both_kinds.lock(); });
  std::jthread at_condition([&] {
    std::unique_lock<std::mutex> lock(other);
    never.wait(lock);
  });
  std::jthread at_barrier([&] { nobody_comes.arrive_and_wait(); });
  std::jthread at_future([&] { unkept.get_future().get(); });
  std::jthread at_pipe([&] {
    char byte = 0;
    static_cast<void>(::read(ends[0], &byte, 1));
  });
  std::jthread busy([] {
    volatile std::uint64_t count = 0;
    for (;;) count = count + 1;
  });
  if (::fork() == 0) {
    ::prctl(PR_SET_PDEATHSIG, SIGKILL);
    for (;;) ::pause();
  }
  sleeper.join();
  ::_exit(0);
}

struct Target {
  pid_t pid = ::fork();
  Target() {
    if (pid == 0) wait_in_all_ways();
    ::usleep(200'000);
  }
  ~Target() {
    ::kill(pid, SIGKILL);
    ::waitpid(pid, nullptr, 0);
  }
};

}  // namespace

TEST_CASE("threads of another process are told apart by what they wait for") {
  const Target target;
  ThreadSamples looks(target.pid);
  std::map<In, int> count;
  std::map<std::uint64_t, int> at_lock;
  for (int tries = 0; tries < 50 && (count[In::word] < 2 || count[In::lock] < 4); ++tries) {
    count.clear();
    at_lock.clear();
    for (const SeenThread& thread : looks.now()) {
      ++count[thread.in];
      if (thread.in == In::lock) ++at_lock[thread.address];
    }
    ::usleep(10'000);
  }
  CHECK_FALSE(looks.refused());
  CHECK(count[In::lock] == 4);
  CHECK(at_lock.size() == 2);
  for (const auto& [address, threads] : at_lock) CHECK(threads == 2);
  CHECK(count[In::signal] == 1);
  CHECK(count[In::word] == 2);  // barrier and future
  CHECK(count[In::join] == 1);
  CHECK(count[In::input] == 1);
  CHECK(count[In::sleep] == 2);  // and the process below it
  CHECK(count[In::ready] == 1);
}

TEST_CASE("a thread that ends is not seen again, and one that is busy gathers time") {
  const Target target;
  ThreadSamples looks(target.pid);
  std::int64_t first = -1;
  std::int64_t last = -1;
  for (int k = 0; k < 60; ++k) {
    for (const SeenThread& thread : looks.now()) {
      if (thread.in != In::ready) continue;
      if (first < 0) first = thread.ran_ns;
      last = thread.ran_ns;
    }
    ::usleep(5'000);
  }
  CHECK(last > first);
  ::kill(target.pid, SIGKILL);
  ::usleep(100'000);
  for (const SeenThread& thread : looks.now()) CHECK(thread.in == In::ended);
}

TEST_CASE("where the kernel keeps to itself what a thread waits for, that is said") {
  if (::getuid() != 0) return;  // only root can try what others are refused
  const Target target;
  const pid_t stranger = ::fork();
  if (stranger == 0) {
    if (::setuid(65534) != 0) ::_exit(9);
    ThreadSamples looks(target.pid);
    int told = 0;
    for (const SeenThread& thread : looks.now()) told += thread.in == In::not_told ? 1 : 0;
    ::_exit(looks.refused() && told >= 7 ? 0 : 1);
  }
  int status = 0;
  ::waitpid(stranger, &status, 0);
  CHECK(WIFEXITED(status));
  CHECK(WEXITSTATUS(status) == 0);
}

TEST_CASE("a line of the kernel's that says nothing is not taken for something") {
  std::uint64_t address = 0;
  CHECK(asleep_in("", address) == In::not_told);
  CHECK(asleep_in("running\n", address) == In::ready);
  CHECK(asleep_in("-1 0x7ffc 0x7f00\n", address) == In::memory);
  CHECK(address == 0);
}
