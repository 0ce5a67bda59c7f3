#include "antcrew/machine/enough_processors.hpp"

#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/limits.hpp"

namespace antcrew::internal {
namespace {

constexpr std::int64_t between_looks_ns = 10'000'000;

bool each_has_one(int threads) {
  return threads <= machine_layer::usable_processors_now();
}

}  // namespace

EnoughProcessors::EnoughProcessors(int threads)
    : threads_(threads), known_(each_has_one(threads)), next_look_ns_(now_ns() + between_looks_ns) {}

void EnoughProcessors::look_again() noexcept {
  const std::int64_t now = now_ns();
  if (now < next_look_ns_.load(std::memory_order_relaxed)) return;
  next_look_ns_.store(now + between_looks_ns, std::memory_order_relaxed);
  const bool enough = each_has_one(threads_);
  if (enough != known()) known_.store(enough, std::memory_order_relaxed);
}

}  // namespace antcrew::internal
