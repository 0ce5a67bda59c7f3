// Losses to what a body asks of the C library or of tasks too often, each with a twin that loses nothing.
#include <atomic>
#include <condition_variable>
#include <memory>
#include <mutex>
#include <thread>

#include "antcrew/machine/parking.hpp"
#include "tests/losses/plant.hpp"
#include "tests/support/tight_loop.hpp"

namespace planted {

using namespace antcrew;

namespace {

auto naps(double ms) {
  return [ms] { nap(ms); };
}

long leaves(int n) {
  return n < 2 ? 1 : leaves(n - 1) + leaves(n - 2);
}
long leaves_by_tasks(TaskCrew& crew, int n, int sequential_below) {
  if (n < sequential_below) return leaves(n);
  const auto [a, b] = crew.both([&] { return leaves_by_tasks(crew, n - 1, sequential_below); },
                                [&] { return leaves_by_tasks(crew, n - 2, sequential_below); });
  return a + b;
}
void keep(long value) {
  volatile long sink = value;
  static_cast<void>(sink);
}

}  // namespace

std::vector<Plant> library_plants() {
  std::vector<Plant> all;
  all.push_back(
      plant<ThreadCrew>("a std::mutex around everything", {"lock-wait"}, 0.75, 4, naps(80), [](ThreadCrew& crew) {
        std::mutex lock;
        crew.each(8, [&](std::size_t) {
          const std::lock_guard<std::mutex> held(lock);
          nap(10);
        });
      }));
  all.push_back(plant<ThreadCrew>("a std::mutex for each item", {}, {}, 4, naps(80), [](ThreadCrew& crew) {
    std::vector<std::mutex> locks(8);
    crew.each(8, [&](std::size_t i) {
      const std::lock_guard<std::mutex> held(locks[i]);
      nap(10);
    });
  }));
  // Three of four wait for 40 ms, of 50.
  all.push_back(plant<ThreadCrew>("bodies wait for one of them", {"lock-wait"}, 0.6, 4, naps(80), [](ThreadCrew& crew) {
    std::mutex lock;
    std::condition_variable ready;
    bool done = false;
    crew.each(4, Split::chunks(1), [&](std::size_t i) {
      if (i == 0) {
        nap(40);
        const std::lock_guard<std::mutex> held(lock);
        done = true;
        ready.notify_all();
      } else {
        std::unique_lock<std::mutex> held(lock);
        ready.wait(held, [&] { return done; });
      }
      nap(10);
    });
  }));
  all.push_back(plant<Workers>(
      "a thread for every item", {"threads-per-item"}, std::nullopt, 2, [] { compute(100'000); },
      [](Workers) {
        for (int k = 0; k < 2000; ++k) {
          std::jthread([] { compute(50); });
        }
      }));
  // One of two computes for the other, which meanwhile looks whether it is done.
  all.push_back(plant<Workers>(
      "a wait that does not sleep", {"spinning"}, std::nullopt, 2, [] { compute(60'000'000); },
      [](Workers) {
        std::atomic<int> done{0};
        std::jthread other([&] {
          while (done.load() == 0) {
            for (int k = 0; k < 10; ++k) internal::relax();
          }
        });
        compute(60'000'000);
        done = 1;
      }));
  // The same in bodies, without so much as a hint to the processor.
  all.push_back(plant<ThreadCrew>(
      "a body that looks at a flag", {"spinning"}, std::nullopt, 2, [] { compute(60'000'000); },
      [](ThreadCrew& crew) {
        std::atomic<int> done{0};
        crew.each(2, Split::chunks(1), [&](std::size_t i) {
          if (i == 0) {
            compute(60'000'000);
            done = 1;
          }
          test::wait_in_a_tight_loop(done);
        });
      }));
  all.push_back(plant<ThreadCrew>(
      "sixteen allocations for every item", {"allocations"}, std::nullopt, 2,
      [] {
        for (int k = 0; k < 100'000; ++k) compute(40);
      },
      [](ThreadCrew& crew) {
        crew.each(100'000, [](std::size_t) {
          std::unique_ptr<char[]> rows[16];
          for (auto& row : rows) row = std::make_unique_for_overwrite<char[]>(64);
          char* volatile seen = rows[3].get();  // else the compiler may leave it out
          seen[0] = 1;
          compute(40);
        });
      }));
  all.push_back(plant<TaskCrew>(
      "a fork for everything", {"small-pieces"}, std::nullopt, 2, [] { keep(leaves(24)); },
      [](TaskCrew& crew) { keep(leaves_by_tasks(crew, 24, 2)); }));
  return all;
}

}  // namespace planted
