#include <sched.h>
#include <sys/mman.h>

#include <atomic>
#include <new>

#include "antcrew/share/locked.hpp"
#include "antcrew/share/pipeline.hpp"
#include "tests/losses/plant.hpp"

namespace planted {

using namespace antcrew;

namespace {

// In small pages, each of which the kernel makes ready when it is first touched.
void touch_fresh(std::size_t bytes) {
  void* memory = ::mmap(nullptr, bytes, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
  if (memory == MAP_FAILED) throw std::bad_alloc();
  ::madvise(memory, bytes, MADV_NOHUGEPAGE);
  auto* at = static_cast<volatile char*>(memory);
  for (std::size_t k = 0; k < bytes; k += 4096) at[k] = 1;
  ::munmap(memory, bytes);
}

}  // namespace

std::vector<Plant> thread_plants() {
  std::vector<Plant> all;
  const auto naps = [](double ms) { return [ms] { nap(ms); }; };
  all.push_back(plant<ThreadCrew>("one after the other, after a loop", {"sequential-stretch"}, 0.6, 4, naps(80),
                                  [](ThreadCrew& crew) {
                                    crew.each(8, Split::chunks(1), [](std::size_t) { nap(5); });
                                    nap(40);
                                  }));
  all.push_back(plant<ThreadCrew>("one after the other, between two loops", {"sequential-stretch"}, 0.4375, 8,
                                  naps(200), [](ThreadCrew& crew) {
                                    crew.each(8, [](std::size_t) { nap(10); });
                                    nap(20);
                                    crew.each(8, [](std::size_t) { nap(10); });
                                  }));
  all.push_back(
      plant<ThreadCrew>("a merge with a name", {"sequential-stretch"}, 0.5625, 4, naps(40 + 60), [](ThreadCrew& crew) {
        crew.each(4, [](std::size_t) { nap(10); });
        const Phase phase("merge");
        nap(30);
      }));
  all.push_back(plant<ThreadCrew>("a lock around everything", {"lock-wait"}, 0.75, 4, naps(80), [](ThreadCrew& crew) {
    Locked<int> map(0, "map");
    crew.each(8, [&](std::size_t) { map.with([](int&) { nap(10); }); });
  }));
  all.push_back(plant<ThreadCrew>("a lock around half", {"lock-wait"}, std::nullopt, 8, naps(16 * 5 + 16 * 5),
                                  [](ThreadCrew& crew) {
                                    Locked<int> map(0, "map");
                                    crew.each(16, [&](std::size_t) {
                                      nap(5);
                                      map.with([](int&) { nap(5); });
                                    });
                                  }));
  all.push_back(plant<ThreadCrew>("nine for eight", {"not-divisible"}, 0.4375, 8, naps(90), [](ThreadCrew& crew) {
    crew.each(9, Split::chunks(1), [](std::size_t) { nap(10); });
  }));
  all.push_back(plant<ThreadCrew>("five for four, evenly", {"not-divisible"}, 0.375, 4, naps(50),
                                  [](ThreadCrew& crew) { crew.each(5, [](std::size_t) { nap(10); }); }));
  all.push_back(plant<ThreadCrew>("the first ones are dear", {"uneven-pieces"}, 0.5625, 4, naps(70),
                                  [](ThreadCrew& crew) { crew.each(8, [](std::size_t i) { nap(i < 2 ? 20 : 5); }); }));
  all.push_back(plant<ThreadCrew>(
      "an even split of a triangle", {"uneven-pieces"}, 0.444, 4, naps(80),
      [](ThreadCrew& crew) { crew.each(16, [](std::size_t i) { nap(static_cast<double>(i) * 80 / 120); }); }));
  all.push_back(plant<ThreadCrew>(
      "one slow item at the end", {"uneven-pieces"}, 0.625, 8, naps(40 + 80),
      [](ThreadCrew& crew) { crew.each(9, Split::chunks(1), [](std::size_t i) { nap(i == 8 ? 35 : 5); }); }));
  all.back().share = std::nullopt;
  all.push_back(plant<ThreadCrew>(
      "more workers than processors", {"oversubscribed"}, std::nullopt, 6, [] { compute(60'000'000); },
      [](ThreadCrew& crew) { crew.each(12, Split::chunks(1), [](std::size_t) { compute(5'000'000); }); }));
  all.push_back(plant<ThreadCrew>(
      "two workers on one processor", {"shared-processor"}, std::nullopt, 2, [] { compute(40'000'000); },
      [](ThreadCrew& crew) {
        crew.each(2, [](std::size_t) {
          cpu_set_t one;
          CPU_ZERO(&one);
          CPU_SET(0, &one);
          ::sched_setaffinity(0, sizeof one, &one);
          compute(20'000'000);
        });
      }));
  all.push_back(
      plant<Workers>("a crew for every step", {"start-up-each-call"}, std::nullopt, 32, naps(20), [](Workers& workers) {
        for (int step = 0; step < 20; ++step) {
          ThreadCrew crew(workers);
          crew.each(32, [](std::size_t) {});
        }
      }));
  all.push_back(plant<ThreadCrew>(
      "twenty thousand calls", {"small-calls"}, std::nullopt, 2, [] { compute(200'000); },
      [](ThreadCrew& crew) {
        for (int k = 0; k < 20'000; ++k) crew.each(2, [](std::size_t) { compute(5); });
      }));
  all.push_back(plant<ThreadCrew>(
      "a million pieces", {"small-pieces"}, std::nullopt, 2, [] { compute(1'000'000); },
      [](ThreadCrew& crew) { crew.ranges(1'000'000, Split::chunks(1), [](Range) { compute(1); }); }));
  all.push_back(plant<ThreadCrew>("a slow stage", {"slow-stage"}, std::nullopt, 4, naps(150), [](ThreadCrew& crew) {
    int read = 0;
    auto line = pipeline([&]() -> std::optional<int> { return read == 10 ? std::nullopt : std::optional<int>(read++); })
                    .many("decode",
                          [](int block) {
                            nap(5);
                            return block;
                          })
                    .alone("pack", [](int) { nap(10); });
    line.run(crew);
  }));
  all.push_back(plant<ThreadCrew>("room for two", {"small-buffer"}, 0.5, 4, naps(120), [](ThreadCrew& crew) {
    int read = 0;
    auto line = pipeline([&]() -> std::optional<int> {
                  return read == 12 ? std::nullopt : std::optional<int>(read++);
                }).many("decode", [](int) { nap(10); });
    PipelineOptions options;
    options.items = 2;
    line.run(crew, options);
  }));
  all.push_back(plant<ThreadCrew>(
      "three times the work", {"extra-work"}, 0.667, 4,
      [] {
        Work nodes("nodes");
        nap(40);
        nodes.add(8);
      },
      [](ThreadCrew& crew) {
        crew.each(24, Split::chunks(1), [](std::size_t) {
          Work nodes("nodes");
          nap(5);
          nodes.add(1);
        });
      }));
  all.push_back(plant<ThreadCrew>("bodies that wait besides", {"blocked"}, 0.5, 4, naps(40), [](ThreadCrew& crew) {
    crew.each(8, Split::chunks(1), [](std::size_t) { nap(10); });
  }));
  all.push_back(plant<ThreadCrew>(
      "twice as dear with one worker", {"work-inflation-one-worker"}, std::nullopt, 2, [] { compute(30'000'000); },
      [](ThreadCrew& crew) { crew.each(2, [](std::size_t) { compute(30'000'000); }); }, true));
  all.push_back(plant<ThreadCrew>(
      "dearer the more workers", {"work-inflation-own"}, std::nullopt, 2, [] { compute(30'000'000); },
      [](ThreadCrew& crew) {
        const auto each = static_cast<std::uint64_t>(crew.workers() == 1 ? 15 : 40);
        crew.each(2, [each](std::size_t) { compute(each * 1'000'000); });
      },
      true));
  all.push_back(plant<ThreadCrew>(
      "a best value that all hammer", {"line-sharing"}, std::nullopt, 2, [] { compute(5'000'000); },
      [](ThreadCrew& crew) {
        std::atomic<std::uint64_t> best{0};
        crew.ranges(2'000'000, [&](Range range) {
          for (std::size_t i = range.first; i < range.last; ++i) best.fetch_add(i & 1);
        });
      },
      true));
  all.push_back(plant<ThreadCrew>(
      "fresh memory in every piece", {"fresh-memory"}, std::nullopt, 2, [] { compute(10'000'000); },
      [](ThreadCrew& crew) {
        crew.each(16, Split::chunks(1), [](std::size_t) {
          compute(600'000);
          touch_fresh(16u << 20);
        });
      }));
  return all;
}

}  // namespace planted
