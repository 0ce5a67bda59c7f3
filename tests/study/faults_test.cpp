// Programs with a planted fault each. In every one the faulty cell gets its verdict and all others finish.
#include <doctest/doctest.h>
#include <fcntl.h>
#include <signal.h>
#include <sys/mman.h>
#include <sys/wait.h>
#include <unistd.h>

#include <atomic>
#include <chrono>
#include <cmath>
#include <condition_variable>
#include <cstdint>
#include <future>
#include <iostream>
#include <mutex>
#include <numeric>
#include <queue>
#include <thread>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/machine/usage.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/study/run.hpp"
#include "antcrew/study/study.hpp"
#include "planted.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using namespace planted;
using namespace std::chrono_literals;

namespace {

[[gnu::noinline]] std::size_t deeper(std::size_t depth) {
  volatile char frame[4096];
  frame[0] = static_cast<char>(depth);
  if (depth == 0) return 0;
  return deeper(depth - 1) + static_cast<std::size_t>(frame[0] & 1);
}

}  // namespace

TEST_CASE("an exception, with type and text") {
  check(plant([](const std::size_t&, Workers) -> Answer { throw std::out_of_range("no gauge 17"); }), Verdict::threw,
        "std::out_of_range: no gauge 17");
}

TEST_CASE("a segmentation fault, with the signal and the address") {
  if (sanitized) return;
  const auto body = [](const std::size_t&, Workers) -> Answer {
    static volatile std::uintptr_t nowhere = 0x40;
    return {static_cast<double>(*reinterpret_cast<volatile int*>(nowhere))};
  };
  check(plant(body), Verdict::crashed, "signal 11 (Segmentation fault) in a call, address 0x40");
}

TEST_CASE("abort, and a division by zero") {
  if (sanitized) return;
  check(plant([](const std::size_t&, Workers) -> Answer { std::abort(); }), Verdict::crashed, "signal 6 (Aborted)");
  const auto divide = [](const std::size_t& n, Workers) -> Answer {
    volatile int zero = 0;
    return {static_cast<double>(static_cast<int>(n) / zero)};
  };
  check(plant(divide), Verdict::crashed, "signal 8");
}

TEST_CASE("a stack overflow is named as such, on the caller's stack and on a thread's") {
  if (sanitized) return;
  check(plant([](const std::size_t&, Workers) { return Answer{static_cast<double>(deeper(1u << 24))}; }),
        Verdict::crashed, "stack overflow (signal 11) in a call; stacks here are 8 MiB: raise `ulimit -s`");
  const auto in_thread = [](const std::size_t&, Workers) {
    double result = 0;
    std::thread([&] { result = static_cast<double>(deeper(1u << 24)); }).join();
    return Answer{result};
  };
  check(plant(in_thread), Verdict::crashed, "stack overflow");
}

TEST_CASE("a variant that ends its process") {
  check(plant([](const std::size_t&, Workers) -> Answer { _exit(3); }), Verdict::crashed,
        "its process ended itself with exit code 3 in a call");
}

TEST_CASE("a variant that is killed from outside") {
  const auto body = [](const std::size_t&, Workers) -> Answer {
    raise(SIGKILL);
    return {};
  };
  check(plant(body), Verdict::crashed, "killed from outside (signal 9)");
}

TEST_CASE("a hang is ended with everything below it") {
  Plan plan;
  plan.call_limit_s = 0.5;
  const auto body = [](const std::size_t&, Workers) -> Answer {
    if (fork() == 0) {
      setpgid(0, 0);  // and it tries to get away
      while (true) pause();
    }
    while (true) pause();
  };
  check(plant(body, 1, plan), Verdict::timed_out, "no end after 500 ms in a call; the limit is as asked");
  CHECK(living_descendants().empty());
}

TEST_CASE("memory beyond the limit") {
  if (sanitized) return;
  Plan plan;
  plan.memory_limit_bytes = 64u << 20;
  const auto body = [](const std::size_t&, Workers) { return Answer(100u << 20, 1.0); };
  check(plant(body, 1, plan), Verdict::out_of_memory, "an allocation was refused (std::bad_alloc)");
}

TEST_CASE("a wrong answer, with the largest difference") {
  check(plant([](const std::size_t& n, Workers) { return Answer{compute(n, 0, n) + 2}; }), Verdict::wrong_answer,
        "(difference 2)");
}

TEST_CASE("each thread did the whole loop") {
  const auto body = [](const std::size_t& n, Workers workers) {
    double sum = 0;
    for (int w = 0; w < workers; ++w) sum += compute(n, 0, n);
    return Answer{sum};
  };
  check(plant(body, 2), Verdict::wrong_answer, "expected ");
}

TEST_CASE("right in some trials and wrong in others, with the count") {
  Plan plan;
  plan.rounds = 6;
  // Every second process is wrong throughout, and two wrong answers are enough.
  void* memory = mmap(nullptr, 4096, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
  REQUIRE(memory != MAP_FAILED);
  auto* processes = static_cast<std::atomic<int>*>(memory);
  const auto body = [processes](const std::size_t& n, Workers) {
    static const int before_this_one = processes->fetch_add(1);
    return Answer{compute(n, 0, n) + before_this_one % 2};
  };
  check(plant(body, 1, plan, 300), Verdict::wrong_answer, "in 2 of 4 trials, right in the others: expected");
  munmap(memory, 4096);
}

TEST_CASE("answers of different length") {
  check(plant([](const std::size_t&, Workers) { return Answer{}; }), Verdict::wrong_answer,
        "expected 1 elements, got 0");
}

TEST_CASE("a variant that uses one worker though it was given two") {
  check(plant([](const std::size_t& n, Workers) { return baseline(n); }, 2), Verdict::idle_workers,
        "asked for 2 workers, but the calling thread used");
}

TEST_CASE("waiting work and tiny work on one worker are no faults") {
  const auto waiting = [](const std::size_t& n, Workers) {
    std::this_thread::sleep_for(50ms);
    return baseline(n);
  };
  CHECK(plant(waiting, 2, {}, 100).verdict >= Verdict::too_few_rounds);
  CHECK(plant([](const std::size_t& n, Workers) { return baseline(n); }, 2, {}, 5).verdict >= Verdict::too_few_rounds);
}

TEST_CASE("a pool that spins for a moment and then sleeps is no fault") {
  static std::atomic<int> go{0};
  const auto body = [](const std::size_t& n, Workers) {
    [[maybe_unused]] static const bool started = [] {
      std::thread([] {
        for (int seen = 0;;) {
          const auto until = std::chrono::steady_clock::now() + 3ms;
          while (go.load() == seen && std::chrono::steady_clock::now() < until) {
          }
          go.wait(seen);
          seen = go.load();
        }
      }).detach();
      return true;
    }();
    ++go;
    go.notify_all();
    return baseline(n);
  };
  CHECK(plant(body, 2, {}, 3000).verdict >= Verdict::too_few_rounds);
}

TEST_CASE("threads left behind by the baseline: each stand makes its own input, and the record says so") {
  const auto leaky = [](const std::size_t& n) {
    std::thread([] { std::this_thread::sleep_for(60s); }).detach();
    return Answer{compute(n, 0, n)};
  };
  Study study(
      "Leaky baseline", [](std::size_t n) { return n; }, leaky, within(1e-6));
  study.sizes({100});
  study.variant<Workers>("right", [](const std::size_t& n, Workers) { return baseline(n); });
  Plan plan;
  plan.workers = {1};
  plan.rounds = 2;
  const Record record = run(study, plan);
  CHECK(record.blocks.at(0).own_inputs);
  REQUIRE_FALSE(record.cells[0].faults.empty());
  CHECK(record.cells[0].faults[0].kind == Fault::Kind::threads_left);
  CHECK(record.cells[1].trials.size() == 2);
  CHECK(analyse(record).cells[1].verdict >= Verdict::too_few_rounds);
}

TEST_CASE("an input maker that crashes or hangs stops its point only") {
  if (sanitized) return;
  const auto make = [](std::size_t n) -> std::size_t {
    if (n == 10) raise(SIGSEGV);
    if (n == 20) pause();
    return n;
  };
  Study study("Makers", make, baseline, within(1e-6));
  study.sizes({10, 20, 30});
  study.variant<Workers>("right", [](const std::size_t& n, Workers) { return baseline(n); });
  Plan plan;
  plan.workers = {1};
  plan.rounds = 2;
  plan.call_limit_s = 0.5;
  const Record record = run(study, plan);
  const Analysed analysed = analyse(record);
  CHECK(analysed.cells[0].verdict == Verdict::crashed);
  CHECK(test::contains(analysed.cells[0].evidence, "while making the input"));
  CHECK(analysed.cells[2].verdict == Verdict::timed_out);
  CHECK(test::contains(analysed.cells[2].evidence, "while making the input"));
  CHECK(analysed.cells[5].verdict >= Verdict::too_few_rounds);
}

TEST_CASE("an agreement that throws is a fault of the cell") {
  Study study(
      "Agreement", [](std::size_t n) { return n; }, baseline,
      [](const Answer&, const Answer& got) -> bool {
        return got.size() == 1 ? true : throw std::logic_error("no such chart");
      });
  study.sizes({50});
  study.variant<Workers>("two", [](const std::size_t& n, Workers) { return Answer(2, static_cast<double>(n)); });
  Plan plan;
  plan.workers = {1};
  plan.rounds = 2;
  const Record record = run(study, plan);
  const Analysed analysed = analyse(record);
  CHECK(analysed.cells[1].verdict == Verdict::threw);
  CHECK(test::contains(analysed.cells[1].evidence, "comparing the answers threw std::logic_error: no such chart"));
}

TEST_CASE("nothing is left when a run is over: no process, no descriptor") {
  const auto descriptors = [] {
    int count = 0;
    for (int fd = 0; fd < 1024; ++fd) count += fcntl(fd, F_GETFD) >= 0 ? 1 : 0;
    return count;
  };
  const int before = descriptors();
  for (int again = 0; again < 3; ++again) {
    plant([](const std::size_t&, Workers) -> Answer { _exit(1); }, 1, {}, 50);
  }
  CHECK(descriptors() == before);
  CHECK(living_descendants().empty());
  CHECK(waitpid(-1, nullptr, WNOHANG) == -1);
}
