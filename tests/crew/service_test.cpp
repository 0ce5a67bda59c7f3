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
  const Deadline deadline("memory", 170s);
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

TEST_CASE("all who are inside one loop have numbers of their own, whoever helps with dropped work") {
  const Deadline deadline("numbers");
  TaskCrew crew(3);
  std::atomic<int> twice{0};
  std::atomic<bool> over{false};
  std::vector<std::thread> others;
  for (int k = 0; k < 3; ++k) {
    others.emplace_back([&] {
      while (!over) {
        crew.each(4, Grain{1}, [](std::size_t) {});
        crew.begin([] { return 1; }).get();
      }
    });
  }
  for (int round = 0; round < 30; ++round) {
    crew.begin([&] {
      std::array<std::atomic<bool>, 3> inside{};
      crew.each(30, Grain{1}, [&](std::size_t) {
        auto& mine = inside[static_cast<std::size_t>(this_worker())];
        if (mine.exchange(true)) ++twice;
        std::this_thread::sleep_for(300us);
        mine = false;
      });
    });
    static_cast<void>(crew.settle());
  }
  over = true;
  for (std::thread& other : others) other.join();
  static_cast<void>(crew.settle());
  CHECK(twice == 0);
}

TEST_CASE("handles dropped at the moment their work ends, by several threads, beside settle() and the crew's end") {
  const Deadline deadline("dropped while it ends", 120s);
  const int rounds = exact_memory ? 300 : 40;
  for (int round = 0; round < rounds; ++round) {
    std::atomic<int> ran{0};
    std::vector<std::thread> others;
    std::vector<Later<void>> kept;
    {
      TaskCrew crew(3);
      for (int k = 0; k < 3; ++k) {
        others.emplace_back([&] {
          for (int i = 0; i < 40; ++i) {
            Later<void> later = crew.begin([&] { ++ran; });
            if (i % 3 == 0) std::this_thread::yield();
          }
        });
      }
      for (int i = 0; i < 20; ++i) static_cast<void>(crew.settle());
      for (std::thread& other : others) other.join();
      for (int k = 0; k < 8; ++k) kept.push_back(crew.begin([&] { ++ran; }));
      others.clear();
      // Dropped while the crew ends.
      others.emplace_back([&] { kept.clear(); });
    }
    others.front().join();
    CHECK(ran == 128);
  }
}

TEST_CASE("in a crew of one, what other threads drop while one settles is done") {
  const Deadline deadline("settling alone", 120s);
  for (int round = 0; round < (exact_memory ? 200 : 30); ++round) {
    TaskCrew crew(1);
    std::atomic<int> ran{0};
    std::atomic<bool> over{false};
    std::thread settling([&] {
      while (!over) static_cast<void>(crew.settle());
    });
    std::vector<std::thread> others;
    for (int k = 0; k < 2; ++k) {
      others.emplace_back([&] {
        for (int i = 0; i < 50; ++i) crew.begin([&] { ++ran; });
      });
    }
    for (std::thread& other : others) other.join();
    while (ran < 100) std::this_thread::yield();  // nobody else does it
    over = true;
    settling.join();
  }
}

TEST_CASE("another thread's calls know nothing of work that was dropped, neither its length nor what it throws") {
  const Deadline deadline("dropped elsewhere");
  for (const int workers : {2, 4}) {
    TaskCrew crew(workers);
    std::atomic<bool> released{false}, begun{false}, ended{false};
    crew.begin([&] {
      begun = true;
      const auto give_up = std::chrono::steady_clock::now() + 20s;
      while (!released && std::chrono::steady_clock::now() < give_up) std::this_thread::sleep_for(1ms);
      ended = true;
      throw std::runtime_error("dropped");
    });
    while (!begun) std::this_thread::yield();
    std::thread([&] {
      std::atomic<int> done{0};
      CHECK_NOTHROW(crew.each(9, [&](std::size_t) { ++done; }));
      CHECK(done == 9);
      CHECK(crew.begin([] { return 7; }).get() == 7);
      TaskGroup group(crew);
      group.begin([&] { ++done; });
      CHECK_NOTHROW(group.wait());
      CHECK_NOTHROW(crew.both([&] { ++done; }, [&] { ++done; }));
      TaskGraph graph;
      graph.step("one", [&] { ++done; });
      CHECK_NOTHROW(graph.run(crew));
      CHECK(done == 13);
      CHECK_FALSE(ended);
    }).join();
    released = true;
    CHECK_THROWS_WITH_AS(static_cast<void>(crew.settle()), "dropped", std::runtime_error);
    CHECK(ended);
    CHECK(crew.settle() == 1);
    CHECK(crew.settle() == 0);
  }
}

TEST_CASE("what a body drops its call waits for, and throws; what begun work drops only settle() does") {
  const Deadline deadline("dropped inside");
  for (const int workers : {1, 2, 5}) {
    CAPTURE(workers);
    TaskCrew crew(workers);
    std::atomic<int> ended{0};
    const auto slow = [&] {
      std::this_thread::sleep_for(20ms);
      ++ended;
    };
    crew.each(4, Grain{1}, [&](std::size_t) { crew.begin(slow); });
    CHECK(ended == 4);
    CHECK_THROWS_WITH(crew.each(2, Grain{1},
                                [&](std::size_t i) {
                                  if (i == 1) crew.begin([] { throw std::runtime_error("of this call"); });
                                }),
                      "of this call");
    CHECK_NOTHROW(crew.each(2, [](std::size_t) {}));
    crew.both([&] { crew.begin(slow); }, [&] { crew.each(3, Grain{1}, [&](std::size_t) { crew.begin(slow); }); });
    CHECK(ended == 8);
    // In a group that is waited for inside the call, too.
    crew.each(1, [&](std::size_t) {
      TaskGroup group(crew);
      group.begin([&] { crew.begin(slow); });
      group.wait();
    });
    CHECK(ended == 9);
    std::atomic<bool> released{false};
    crew.each(1, [&](std::size_t) {
      crew.begin([&] {
        crew.begin([&] {
          while (!released) std::this_thread::sleep_for(1ms);
          ++ended;
        });
      });
    });
    CHECK(ended == 9);
    released = true;
    static_cast<void>(crew.settle());
    CHECK(ended == 10);
    // The destructor waits, and does not throw.
    crew.begin([&] {
      slow();
      throw 5;
    });
    { const TaskCrew gone(std::move(crew)); }
    CHECK(ended == 11);
  }
}

TEST_CASE(
    "dropped work that wants a lock which the caller holds, and a tick that begins its successor, hold up no call") {
  const Deadline deadline("ticks");
  TaskCrew crew(2);
  Locked<int> sum(0);
  for (int round = 0; round < 200; ++round) {
    sum.with([&](int& value) {
      crew.begin([&] { sum.with([](int& its) { ++its; }); });
      crew.each(8, Grain{1}, [](std::size_t) {});
      ++value;
    });
  }
  static_cast<void>(crew.settle());
  CHECK(sum.with([](int& value) { return value; }) == 400);
  std::atomic<bool> over{false};
  std::atomic<int> ticks{0};
  std::function<void()> tick = [&] {
    ++ticks;
    std::this_thread::sleep_for(1ms);
    if (!over) crew.begin(tick);
  };
  crew.begin(tick);
  for (int round = 0; round < 100; ++round) crew.each(4, Grain{1}, [](std::size_t) {});
  const int before = ticks;
  while (ticks < before + 5) std::this_thread::sleep_for(1ms);
  over = true;
  static_cast<void>(crew.settle());
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
