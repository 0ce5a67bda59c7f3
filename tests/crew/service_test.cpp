// Crews in programs that do not end: called for ever, by many threads, with work that nobody waits for, beside signals,
// on stacks of the program's own, and in processes that fork.
#include <doctest/doctest.h>
#include <signal.h>
#include <sys/mman.h>
#include <sys/wait.h>
#include <ucontext.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <chrono>
#include <cstdlib>
#include <fstream>
#include <functional>
#include <memory>
#include <optional>
#include <stdexcept>
#include <string>
#include <thread>
#include <vector>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/own_stack.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/task_graph.hpp"
#include "antcrew/crew/task_group.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/crew/worker.hpp"
#include "antcrew/share/locked.hpp"
#include "process_facts.hpp"
#include "support/at_once.hpp"

using namespace antcrew;
using namespace std::chrono_literals;
using test::Deadline;

namespace {

double resident_mib() {
  std::ifstream statm("/proc/self/statm");
  double all = 0, resident = 0;
  statm >> all >> resident;
  return resident * static_cast<double>(::sysconf(_SC_PAGESIZE)) / (1 << 20);
}

std::size_t calls() {
  const char* asked = std::getenv("ANTCREW_CALLS");  // scripts/measure.sh asks for ten million
  return asked != nullptr ? std::strtoull(asked, nullptr, 10) : 200'000;
}

// What resident memory grows by over so many calls, once it has settled: the least of six times, since what waits in
// queues while the machine keeps a worker from running leaves a high-water mark once, and growth comes again.
double growth_mib(std::size_t count, double enough_mib, const std::function<void()>& call) {
  for (std::size_t k = 0; k < count / 5; ++k) call();
  double least = 1e9;
  for (int time = 0; time < 6 && least >= enough_mib; ++time) {
    const double before = resident_mib();
    for (std::size_t k = 0; k < count; ++k) call();
    least = std::min(least, resident_mib() - before);
  }
  return least;
}

// In a child of its own; its exit code, or minus the signal that ended it.
int in_child(const std::function<void()>& work) {
  const pid_t child = ::fork();
  if (child == 0) {
    ::alarm(20);
    try {
      work();
    } catch (...) {
      ::_exit(3);
    }
    ::_exit(0);
  }
  int status = 0;
  ::waitpid(child, &status, 0);
  return WIFEXITED(status) ? WEXITSTATUS(status) : -WTERMSIG(status);
}

// Runs it on a stack of its own, as a library of coroutines would.
void on_own_stack(std::size_t bytes, const std::function<void(void* lowest)>& work) {
  static thread_local const std::function<void(void*)>* now = nullptr;
  static thread_local void* memory = nullptr;
  memory = ::mmap(nullptr, bytes, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS | MAP_STACK, -1, 0);
  REQUIRE(memory != MAP_FAILED);
  now = &work;
  ucontext_t there{}, here{};
  ::getcontext(&there);
  there.uc_stack.ss_sp = memory;
  there.uc_stack.ss_size = bytes;
  there.uc_link = &here;
  ::makecontext(
      &there, [] { (*now)(memory); }, 0);
  ::swapcontext(&here, &there);
  ::munmap(memory, bytes);
}

int depth_until_refused(TaskCrew& crew, int depth, int most) {
  if (depth == most) return depth;
  volatile char used[2048];
  used[0] = 0;
  try {
    const auto [deep, shallow] =
        crew.both([&] { return depth_until_refused(crew, depth + 1, most); }, [] { return 0; });
    return std::max(deep, shallow) + used[0];
  } catch (const Error& error) {
    CHECK(error.id() == "crew.stack");
    return depth;
  }
}

}  // namespace

TEST_CASE("memory does not grow with the number of calls, whichever worker takes and gives back") {
  if (!exact_memory) return;
  const Deadline deadline("memory", std::chrono::seconds(170 + static_cast<long>(calls() / 2'000)));
  if (calls() > 200'000) ::alarm(0);  // longer than a test case may otherwise take
  for (const int workers : {2, 3, 8}) {
    TaskCrew crew(workers);
    std::atomic<std::size_t> sum{0};
    const auto add = [&](std::size_t i) { sum.fetch_add(i, std::memory_order_relaxed); };
    TaskGraph graph;
    const auto first = graph.step("first", [&] { return 1; });
    graph.step("left", [&] { return first.result(); }, {first});
    graph.step("right", [&] { return first.result(); }, {first});
    struct Kind {
      const char* name;
      std::size_t part;  // of the calls
      std::function<void()> call;
    };
    const std::vector<Kind> kinds = {
        {"a small loop", 1, [&] { crew.each(16, Grain{1}, add); }},
        {"begun from outside", 1, [&] { sum += crew.begin([] { return std::size_t{1}; }).get(); }},
        {"begun from outside and dropped", 1,
         [&, k = 0]() mutable {
           crew.begin([&] { add(1); });
           if (++k % 64 == 0) static_cast<void>(crew.settle());
         }},
        {"a graph", 1, [&] { graph.run(crew); }},
        {"a loop around loops", 4, [&] { crew.each(4, Grain{1}, [&](std::size_t) { crew.each(8, Grain{1}, add); }); }},
        {"a group", 2,
         [&] {
           TaskGroup group(crew);
           for (int k = 0; k < 3; ++k) group.begin([&] { add(1); });
           group.wait();
         }},
    };
    for (const Kind& kind : kinds) {
      CAPTURE(workers);
      CAPTURE(std::string(kind.name));
      constexpr double noticed_mib = 2.5;  // 32 bytes a call would be 6
      const double grown = growth_mib(calls() / kind.part, noticed_mib, kind.call);
      CAPTURE(grown);
      CHECK(grown < noticed_mib);
      static_cast<void>(crew.settle());
    }
  }
}

TEST_CASE("work that its handle does itself leaves nothing behind while all workers are busy") {
  if (!exact_memory) return;
  const Deadline deadline("busy workers");
  TaskCrew crew(2);
  std::atomic<bool> released{false}, busy{false};
  Later<void> long_one = crew.begin([&] {
    busy = true;
    while (!released) std::this_thread::sleep_for(1ms);
  });
  while (!busy) std::this_thread::yield();
  const double grown = growth_mib(calls() / 2, 1.0, [&] { static_cast<void>(crew.begin([] { return 1; }).get()); });
  CAPTURE(grown);
  CHECK(grown < 1.0);  // 100 bytes a call would be 10
  released = true;
  long_one.get();
}

TEST_CASE("a child that waits for its own group is refused by name") {
  const Deadline deadline("own group");
  for (const int workers : {1, 3}) {
    TaskCrew crew(workers);
    TaskGroup group(crew);
    std::atomic<int> refused{0};
    const auto wait_here = [&] {
      try {
        group.wait();
      } catch (const Error& error) {
        refused += error.id() == "group.wait" ? 1 : 0;
      }
    };
    group.begin(wait_here);
    group.begin([&] { crew.each(1, [&](std::size_t) { wait_here(); }); });
    group.begin([&] {
      TaskGroup inner(crew);
      inner.begin(wait_here);
      inner.wait();
    });
    group.wait();
    CHECK(refused == 3);
  }
}

TEST_CASE("a forked child leaves scopes with groups, graphs and handles in them") {
  if (thread_sanitizer) return;
  TaskCrew crew(3);
  auto group = std::make_unique<TaskGroup>(crew);
  auto graph = std::make_unique<TaskGraph>();
  std::atomic<bool> released{false};
  graph->step("waits", [&] {
    while (!released) std::this_thread::sleep_for(1ms);
  });
  graph->begin(crew);
  group->begin([&] {
    while (!released) std::this_thread::sleep_for(1ms);
  });
  std::optional<Later<int>> later = crew.begin([&] {
    while (!released) std::this_thread::sleep_for(1ms);
    return 3;
  });
  const int code = in_child([&] {
    later.reset();
    group.reset();
    graph.reset();
  });
  released = true;
  CHECK(code == 0);
  graph->wait();
  group->wait();
  CHECK(later->get() == 3);
}

TEST_CASE("crews are called on a stack of the program's own, and refuse recursion there where its end is told") {
  if (!exact_memory) return;  // sanitizers know the stacks of threads only
  const Deadline deadline("own stacks");
  const std::size_t bytes = 1 << 20;
  for (const int workers : {1, 3}) {
    CAPTURE(workers);
    TaskCrew tasks(workers);
    ThreadCrew threads(workers);
    const auto use = [&] {
      std::atomic<int> done{0};
      tasks.each(20, Grain{1}, [&](std::size_t) { ++done; });
      threads.each(20, [&](std::size_t) { ++done; });
      CHECK(tasks.begin([] { return 4; }).get() == 4);
      TaskGroup group(tasks);
      group.begin([&] { ++done; });
      group.wait();
      CHECK(done == 41);
      CHECK(depth_until_refused(tasks, 0, 30) == 30);
    };
    // In a thread that has been in a crew on its own stack before, and in one that has not.
    on_own_stack(bytes, [&](void*) { use(); });
    std::thread([&] { on_own_stack(bytes, [&](void*) { use(); }); }).join();
    on_own_stack(bytes, [&](void* lowest) {
      const OwnStack here(lowest, bytes);
      use();
      if (workers > 1) {
        const int depth = depth_until_refused(tasks, 0, 100'000);
        CHECK(depth > 50);
        CHECK(depth < 500);
      }
    });
    CHECK(depth_until_refused(tasks, 0, 200) == 200);
  }
}

TEST_CASE("signals of the program do not reach workers") {
  if (thread_sanitizer) return;
  const int code = in_child([] {
    ThreadCrew threads(4);
    TaskCrew tasks(4);
    sigset_t some;
    sigemptyset(&some);
    sigaddset(&some, SIGUSR1);
    sigaddset(&some, SIGTERM);
    pthread_sigmask(SIG_BLOCK, &some, nullptr);
    std::atomic<int> sum{0};
    for (int round = 0; round < 200; ++round) {
      ::kill(::getpid(), SIGUSR1);
      ::kill(::getpid(), SIGTERM);
      threads.each(8, [&](std::size_t) { ++sum; });
      tasks.each(8, Grain{1}, [&](std::size_t) { ++sum; });
    }
    if (sum != 3200) ::_exit(4);
    sigset_t pending;
    sigpending(&pending);
    if (sigismember(&pending, SIGTERM) != 1) ::_exit(5);
  });
  CHECK(code == 0);
  // The maker's own mask is as it was.
  sigset_t before, after;
  pthread_sigmask(SIG_SETMASK, nullptr, &before);
  { const ThreadCrew crew(3); }
  pthread_sigmask(SIG_SETMASK, nullptr, &after);
  for (const int number : {SIGUSR1, SIGTERM, SIGINT, SIGCHLD})
    CHECK(sigismember(&before, number) == sigismember(&after, number));
}
