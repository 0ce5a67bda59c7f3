// The same losses without a crew: threads by hand, futures, a compiler's pragmas. What is found rests on looks.
#include <fcntl.h>
#include <sched.h>
#include <sys/wait.h>
#include <unistd.h>

#include <atomic>
#include <barrier>
#include <condition_variable>
#include <future>
#include <mutex>
#include <shared_mutex>
#include <thread>

#include "tests/losses/plant.hpp"

namespace planted {

using namespace antcrew;

namespace {

template <class Body>
void on_threads(int workers, Body body) {
  std::vector<std::jthread> threads;
  for (int w = 0; w < workers; ++w) threads.emplace_back([&body, w] { body(w); });
}

auto naps(double ms) {
  return [ms] { nap(ms); };
}

void stay_on_processor_0() {
  cpu_set_t one;
  CPU_ZERO(&one);
  CPU_SET(0, &one);
  ::sched_setaffinity(0, sizeof one, &one);
}

// One makes an item every 10 ms, three others take 2 ms for each.
void starved_queue(int workers) {
  std::mutex mutex;
  std::condition_variable filled;
  int items = 0;
  bool over = false;
  on_threads(workers, [&](int w) {
    if (w == 0) {
      for (int k = 0; k < 20; ++k) {
        nap(10);
        const std::lock_guard<std::mutex> held(mutex);
        ++items;
        filled.notify_one();
      }
      const std::lock_guard<std::mutex> held(mutex);
      over = true;
      filled.notify_all();
      return;
    }
    while (true) {
      std::unique_lock<std::mutex> held(mutex);
      filled.wait(held, [&] { return items > 0 || over; });
      if (items == 0) return;
      --items;
      held.unlock();
      nap(2);
    }
  });
}

// Each takes the next item under a lock that it holds meanwhile.
void one_lock(int workers) {
  std::mutex mutex;
  std::atomic<int> next{0};
  on_threads(workers, [&](int) {
    while (next.fetch_add(1) < 16) {
      {
        const std::lock_guard<std::mutex> held(mutex);
        nap(5);
      }
      nap(0.2);
    }
  });
}

}  // namespace

std::vector<Plant> hand_plants() {
  std::vector<Plant> all;
  const char* serial = "sequential-stretch";
  all.push_back(plant<Workers>("by hand: in turn afterwards", {serial}, 0.5, 4, naps(80 + 40), [](Workers& workers) {
    on_threads(workers, [](int) { nap(20); });
    nap(40);
  }));
  all.push_back(
      plant<Workers>("by hand: in turn between steps", {serial}, 0.5625, 4, naps(4 * 20 + 60), [](Workers& workers) {
        for (int step = 0; step < 2; ++step) {
          on_threads(workers, [](int) { nap(10); });
          nap(30);
        }
      }));
  all.push_back(plant<Workers>("by hand: a lock around everything", {"lock-wait"}, 0.64, 4, naps(80),
                               [](Workers& workers) { one_lock(workers); }));
  all.push_back(plant<Workers>("by hand: one does more", {"uneven-pieces"}, 0.5625, 4, naps(70),
                               [](Workers& workers) { on_threads(workers, [](int w) { nap(w == 0 ? 40 : 10); }); }));
  all.push_back(plant<Workers>("by hand: the caller does more", {"uneven-pieces"}, std::nullopt, 4, naps(70),
                               [](Workers& workers) {
                                 std::vector<std::jthread> threads;
                                 for (int w = 1; w < workers; ++w) threads.emplace_back([w] { nap(w == 1 ? 30 : 10); });
                                 nap(40);
                               }));
  all.push_back(plant<Workers>("by hand: uneven steps with a barrier", {"uneven-pieces"}, 0.375, 4, naps(200),
                               [](Workers& workers) {
                                 std::barrier all_done(workers);
                                 on_threads(workers, [&](int w) {
                                   for (int step = 0; step < 4; ++step) {
                                     nap(w == 0 ? 20 : 10);
                                     all_done.arrive_and_wait();
                                   }
                                 });
                               }));
  all.push_back(plant<Workers>("by hand: a queue that is empty", {"no-ready-work"}, 0.7, 4, naps(240),
                               [](Workers& workers) { starved_queue(workers); }));
  all.push_back(plant<Workers>("by hand: two threads, whatever it is given", {"idle-workers"}, 0.5, 4, naps(80),
                               [](Workers&) { on_threads(2, [](int) { nap(40); }); }));
  all.push_back(plant<Workers>("by hand: each does all of it", {"blocked"}, 0.75, 4, naps(40),
                               [](Workers& workers) { on_threads(workers, [](int) { nap(40); }); }));
  all.push_back(plant<Workers>("by hand: bodies wait besides", {"blocked"}, 0.5, 4, naps(80),
                               [](Workers& workers) { on_threads(workers, [](int) { nap(40); }); }));
  all.push_back(plant<Workers>("by hand: they wait for a pipe", {"blocked"}, 0.5, 4, naps(80), [](Workers& workers) {
    int ends[2];
    if (::pipe2(ends, O_CLOEXEC) != 0) return;
    on_threads(workers + 1, [&](int w) {
      char byte = 0;
      if (w > 0) return void(::read(ends[0], &byte, 1));
      nap(40);
      for (int k = 0; k < 4; ++k) static_cast<void>(::write(ends[1], &byte, 1));
    });
    ::close(ends[0]);
    ::close(ends[1]);
  }));
  all.push_back(plant<Workers>(
      "by hand: more workers than processors", {"oversubscribed"}, std::nullopt, 6, [] { compute(60'000'000); },
      [](Workers& workers) { on_threads(workers, [](int) { compute(10'000'000); }); }));
  all.push_back(plant<Workers>(
      "by hand: two on one processor", {"shared-processor"}, std::nullopt, 2, [] { compute(40'000'000); },
      [](Workers& workers) {
        on_threads(workers, [](int) {
          stay_on_processor_0();
          compute(20'000'000);
        });
      }));
  all.push_back(plant<Workers>(
      "by hand: dearer the more workers", {"work-inflation-own"}, std::nullopt, 2, [] { compute(30'000'000); },
      [](Workers& workers) {
        const auto each = static_cast<std::uint64_t>(workers == 1 ? 30 : 40);
        on_threads(workers, [each](int) { compute(each * 1'000'000); });
      },
      true));
  all.push_back(plant<Workers>("by hand: a lock for writers", {"lock-wait"}, 0.64, 4, naps(80), [](Workers& workers) {
    std::shared_mutex mutex;
    std::atomic<int> next{0};
    on_threads(workers, [&](int) {
      while (next.fetch_add(1) < 16) {
        {
          const std::unique_lock<std::shared_mutex> held(mutex);
          nap(5);
        }
        nap(0.2);
      }
    });
  }));
  all.push_back(
      plant<Workers>("processes by hand: one does more", {"uneven-pieces"}, 0.5625, 4, naps(70), [](Workers& workers) {
        for (int w = 0; w < workers; ++w) {
          if (::fork() != 0) continue;
          nap(w == 0 ? 40 : 10);
          ::_exit(0);
        }
        while (::wait(nullptr) > 0) {
        }
      }));
  all.push_back(
      plant<Workers>("processes by hand: in turn afterwards", {serial}, 0.5, 4, naps(80 + 40), [](Workers& workers) {
        for (int w = 0; w < workers; ++w) {
          if (::fork() != 0) continue;
          nap(20);
          ::_exit(0);
        }
        while (::wait(nullptr) > 0) {
        }
        nap(40);
      }));
  all.push_back(plant<Workers>("by hand: healthy", {}, {}, 4, naps(160),
                               [](Workers& workers) { on_threads(workers, [](int) { nap(40); }); }));
  all.push_back(plant<Workers>("futures: one takes longer", {"uneven-pieces"}, 0.5625, 4, naps(70), [](Workers&) {
    std::vector<std::future<void>> rows;
    for (int row = 0; row < 4; ++row)
      rows.push_back(std::async(std::launch::async, [row] { nap(row == 0 ? 40 : 10); }));
    for (auto& row : rows) row.get();
  }));
  all.push_back(plant<Workers>("futures: in turn afterwards", {serial}, 0.5, 4, naps(80 + 40), [](Workers&) {
    std::vector<std::future<void>> rows;
    for (int row = 0; row < 4; ++row) rows.push_back(std::async(std::launch::async, [] { nap(20); }));
    for (auto& row : rows) row.get();
    nap(40);
  }));
  all.push_back(plant<Workers>("futures: one after the other", {serial}, 0.75, 4, naps(80), [](Workers&) {
    for (int row = 0; row < 4; ++row) {
      nap(18);
      std::async(std::launch::async, [] { nap(2); }).get();
    }
  }));
  all.back().share = std::nullopt;
  all.push_back(
      plant<Workers>("pragmas: one row takes longer", {"uneven-pieces"}, 0.5625, 4, naps(70), [](Workers& workers) {
#pragma omp parallel for schedule(static) num_threads(static_cast <int>(workers))
        for (int row = 0; row < 4; ++row) nap(row == 1 ? 40 : 10);
      }));
  all.push_back(plant<Workers>("pragmas: in turn afterwards", {serial}, 0.5, 4, naps(80 + 40), [](Workers& workers) {
#pragma omp parallel for schedule(static) num_threads(static_cast <int>(workers))
    for (int row = 0; row < 4; ++row) nap(20);
    nap(40);
  }));
  all.push_back(plant<Workers>("pragmas: a critical section", {"lock-wait"}, 0.64, 4, naps(80), [](Workers& workers) {
#pragma omp parallel for schedule(dynamic, 1) num_threads(static_cast <int>(workers))
    for (int row = 0; row < 16; ++row) {
#pragma omp critical
      nap(5);
      nap(0.2);
    }
  }));
  return all;
}

}  // namespace planted
