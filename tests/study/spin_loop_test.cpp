// Machine code that only waits, by hand-assembled loops, and loops as a compiler makes them.
#include "antcrew/study/internal/spin_loop.hpp"

#include <doctest/doctest.h>

#include <atomic>
#include <chrono>
#include <cstdint>
#include <thread>
#include <vector>

#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/log/lane_book.hpp"
#include "antcrew/log/lanes.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/study/internal/spin_samples.hpp"
#include "support/tight_loop.hpp"

using namespace antcrew;
using namespace antcrew::internal;

namespace {

using Code = std::vector<unsigned char>;

// Whether the loop is known as a waiting one from each of its instructions, with other code around it.
bool waits_everywhere(const Code& loop, const std::vector<std::size_t>& instructions) {
  constexpr std::size_t around = 32;
  Code code(around, 0xcc);
  code.insert(code.end(), loop.begin(), loop.end());
  code.insert(code.end(), around, 0xcc);
  for (const std::size_t at : instructions) {
    if (!only_waits_x86_64(code, around + at)) return false;
  }
  return !only_waits_x86_64(code, around + loop.size()) && !only_waits_x86_64(code, around - 1);
}

Code of_words(const std::vector<std::uint32_t>& words) {
  Code code;
  for (const std::uint32_t word : words) {
    for (unsigned byte = 0; byte < 4; ++byte) code.push_back(static_cast<unsigned char>(word >> (8 * byte)));
  }
  return code;
}

}  // namespace

TEST_CASE("loops that read a place that stays, compare and jump back only wait") {
  CHECK(waits_everywhere({0x8b, 0x07, 0x85, 0xc0, 0x74, 0xfa}, {0, 2, 4}));                 // mov (%rdi),%eax; test; je
  CHECK(waits_everywhere({0x0f, 0xb6, 0x47, 0x08, 0x84, 0xc0, 0x74, 0xf8}, {0, 4, 6}));     // movzbl 8(%rdi)
  CHECK(waits_everywhere({0x80, 0x3d, 0x11, 0x22, 0x33, 0x44, 0x00, 0x74, 0xf7}, {0, 7}));  // cmpb $0, relative
  CHECK(waits_everywhere({0x41, 0x83, 0x3c, 0x24, 0x05, 0x75, 0xf9}, {0, 5}));              // cmpl $5,(%r12)
  CHECK(waits_everywhere({0xf3, 0x90, 0x8b, 0x07, 0x85, 0xc0, 0x74, 0xf8}, {0, 2, 4, 6}));  // with a pause
  CHECK(waits_everywhere({0x89, 0xc8, 0x87, 0x07, 0x85, 0xc0, 0x75, 0xf8}, {0, 2, 4, 6}));  // xchg %eax,(%rdi)
  CHECK(waits_everywhere({0x8b, 0x07, 0x85, 0xc0, 0x75, 0x02, 0xeb, 0xf8}, {0, 2, 4, 6}));  // left in the middle
  CHECK(waits_everywhere({0x39, 0x17, 0x0f, 0x84, 0xf8, 0xff, 0xff, 0xff}, {0, 2}));        // a long jump
}

TEST_CASE("loops that go on, count, add or write do not wait") {
  CHECK_FALSE(waits_everywhere({0x48, 0x8b, 0x00, 0x48, 0x85, 0xc0, 0x75, 0xf8}, {0}));              // along a list
  CHECK_FALSE(waits_everywhere({0x8b, 0x07, 0xff, 0xc9, 0x75, 0xfa}, {0}));                          // counts down
  CHECK_FALSE(waits_everywhere({0x48, 0x03, 0x04, 0x17, 0x48, 0x83, 0xc2, 0x08, 0x75, 0xf6}, {0}));  // adds up
  CHECK_FALSE(waits_everywhere({0x89, 0x07, 0x85, 0xc0, 0x74, 0xfa}, {0}));                          // writes
  CHECK_FALSE(waits_everywhere({0x85, 0xc0, 0x74, 0xfc}, {0}));                                      // reads nothing
  CHECK_FALSE(waits_everywhere({0x8b, 0x07, 0x85, 0xc0, 0x74, 0x10}, {0}));                          // no loop
}

TEST_CASE("the same of other processors' instructions") {
  const Code waits = of_words({0x08dffc20, 0x34ffffe0});  // ldarb w0,[x1]; cbz w0
  CHECK(only_waits_aarch64(waits, 0));
  CHECK(only_waits_aarch64(waits, 4));
  CHECK(only_waits_aarch64(of_words({0xb9400020, 0x7100141f, 0x54ffffc1}), 4));        // ldr; cmp w0,#5; b.ne
  CHECK_FALSE(only_waits_aarch64(of_words({0xf9400000, 0xb5ffffe0}), 0));              // along a list
  CHECK_FALSE(only_waits_aarch64(of_words({0xb9400020, 0x71000442, 0x54ffffc1}), 0));  // counts down
}

TEST_CASE("code of any bytes is looked at within its bounds") {
  std::uint64_t state = 88172645463325252u;
  int waiting = 0;
  for (int k = 0; k < 200'000; ++k) {
    Code code(64);
    for (unsigned char& byte : code) {
      state ^= state << 13;
      state ^= state >> 7;
      state ^= state << 17;
      byte = static_cast<unsigned char>(state);
    }
    code.resize(static_cast<std::size_t>(k % 64) + 1);
    waiting += only_waits_x86_64(code, code.size() / 2) ? 1 : 0;
    only_waits_aarch64(code, code.size() / 2);
  }
  CHECK(waiting < 200);
}

#if defined(__x86_64__)
TEST_CASE("of a worker in a lane its bodies alone count as spinning") {
  const auto share = [](Doing doing) {
    LaneBook* book = LaneBook::create(2);
    book->open();
    std::atomic<int> done{0};
    const SpinSamples samples;
    std::thread worker([&] {
      const InLane lane(book, 1, {doing, Shortage::none, 1, nullptr, nullptr});
      test::wait_in_a_tight_loop(done);
    });
    const std::int64_t until = now_ns() + 3'000'000'000;
    while (samples.all() < 60 && now_ns() < until) std::this_thread::sleep_for(std::chrono::milliseconds(5));
    done = 1;
    worker.join();
    book->close();
    LaneBook::destroy(book);
    REQUIRE(samples.all() >= 20);
    return static_cast<double>(samples.spinning()) / static_cast<double>(samples.all());
  };
  CHECK(share(Doing::body) > 0.7);
  CHECK(share(Doing::waiting) < 0.2);
}

// Whichever worker it is that waits: of the others' time it takes no more than its own.
TEST_CASE("a crew's worker that waits in a body is seen beside one that computes") {
  for (const std::size_t computing : {std::size_t{0}, std::size_t{1}}) {
    CAPTURE(computing);
    ThreadCrew crew(2);
    std::atomic<int> done{0};
    const SpinSamples samples;
    crew.each(2,
              [&](std::size_t i) {
                if (i != computing) {
                  test::wait_in_a_tight_loop(done);
                  return;
                }
                volatile double value = 1;
                const std::int64_t until = now_ns() + 3'000'000'000;
                while (samples.all() < 100 && now_ns() < until) {
                  for (int k = 0; k < 100'000; ++k) value = value * 1.0000001 + 0.5;
                }
                done = 1;
              },
              {.split = Split::chunks(1)});
    REQUIRE(samples.all() >= 50);
    const double share = static_cast<double>(samples.spinning()) / static_cast<double>(samples.all());
    CHECK(share > 0.1);  // it may come late; without its samples it would be 0 or 1
    CHECK(share < 0.9);
  }
}
#endif
