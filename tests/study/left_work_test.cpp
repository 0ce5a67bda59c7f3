// Variants that return before their work has ended: caught, with what was seen.
#include <doctest/doctest.h>
#include <signal.h>
#include <sys/mman.h>
#include <sys/wait.h>
#include <unistd.h>

#include <atomic>
#include <chrono>
#include <condition_variable>
#include <future>
#include <mutex>
#include <queue>
#include <thread>

#include "planted.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using namespace planted;
using namespace std::chrono_literals;

TEST_CASE("detached threads") {
  const auto body = [](const std::size_t& n, Workers) {
    auto result = std::make_shared<Answer>(1);
    std::thread([n, result] { (*result)[0] = compute(n, 0, n); }).detach();
    return *result;
  };
  const Planted planted = plant(body);
  // It looked a thousand times faster. The answer was not there yet either, which comes first.
  check(planted, Verdict::wrong_answer, "got 0");
  static Answer shared(1);
  const auto in_time = [](const std::size_t& n, Workers) -> Answer& {
    shared[0] = 0;
    std::thread([n] { shared[0] = compute(n, 0, n); }).detach();
    return shared;
  };
  struct Late {
    const Answer* values;
    auto begin() const { return values->begin(); }
    auto end() const { return values->end(); }
    auto size() const { return values->size(); }
  };
  const auto late = [in_time](const std::size_t& n, Workers workers) { return Late{&in_time(n, workers)}; };
  const Planted left = plant(late);
  check(left, Verdict::left_work, "its work went on for");
  check(left, Verdict::left_work, "in 1 thread that ended later");
}

TEST_CASE("futures nobody waited for") {
  static std::vector<std::future<double>> never_waited_for;
  const auto body = [](const std::size_t& n, Workers) {
    never_waited_for.push_back(std::async(std::launch::async, [n] { return compute(n, 0, n); }));
    return baseline(1);  // some answer that was already there
  };
  Study study(
      "Futures", [](std::size_t n) { return n; }, [](const std::size_t& n) { return compute(n, 0, n); },
      [](double, const auto&) { return true; });
  study.sizes({1500});
  study.variant<Workers>("forgotten", body);
  Plan plan;
  plan.workers = {2};
  plan.rounds = 2;
  plan.crowd = false;
  const Record record = run(study, plan);
  const Analysed analysed = analyse(record);
  CHECK(analysed.cells[1].verdict == Verdict::left_work);
  CHECK(test::contains(analysed.cells[1].evidence, "in 1 thread that ended later"));
  CHECK(analysed.cells[0].verdict >= Verdict::too_few_rounds);
}

TEST_CASE("a child process that goes on") {
  const auto body = [](const std::size_t& n, Workers) {
    if (fork() == 0) {
      volatile double sum = compute(n, 0, 4 * n);
      static_cast<void>(sum);
      _exit(0);
    }
    return baseline(n);
  };
  check(plant(body), Verdict::left_work, "in 1 process");
}

TEST_CASE("a pool of standing threads that nobody waited for") {
  struct Pool {
    std::mutex mutex;
    std::condition_variable changed;
    std::queue<std::size_t> sizes;
    Answer result{0.0};
    Pool() {
      std::thread([this] {
        while (true) {
          std::unique_lock lock(mutex);
          changed.wait(lock, [this] { return !sizes.empty(); });
          const std::size_t n = sizes.front();
          sizes.pop();
          lock.unlock();
          result[0] = compute(n, 0, n);
        }
      }).detach();
    }
  };
  struct Late {
    const Answer* values;
    auto begin() const { return values->begin(); }
    auto end() const { return values->end(); }
    auto size() const { return values->size(); }
  };
  const auto body = [](const std::size_t& n, Workers) {
    static Pool* pool = new Pool;
    {
      const std::lock_guard lock(pool->mutex);
      pool->sizes.push(n);
    }
    pool->changed.notify_one();
    return Late{&pool->result};
  };
  check(plant(body, 2), Verdict::left_work, "its work went on for");
}

TEST_CASE("a result that is only computed when it is read") {
  struct Lazy {
    std::size_t n;
    mutable Answer made = {};
    const Answer& get() const {
      if (made.empty()) made = baseline(n);
      return made;
    }
    auto begin() const { return get().begin(); }
    auto end() const { return get().end(); }
    std::size_t size() const { return get().size(); }
  };
  check(plant([](const std::size_t& n, Workers) { return Lazy{n}; }), Verdict::left_work,
        "the result was computed only when it was read: the call returned after");
}
