#include "antcrew/log/lane.hpp"

#include <utility>

#include "antcrew/machine/forks.hpp"
#include "antcrew/machine/run_delay.hpp"

namespace antcrew::internal {

bool Lane::take() noexcept {
  std::uint32_t nobody = 0;
  const std::uint32_t me = kernel_thread();
  if (!holder_.compare_exchange_strong(nobody, me, std::memory_order_acquire, std::memory_order_relaxed)) return false;
  const bool other = thread_ != me;
  thread_ = me;
  if (other) switches_ = cpu_read_ns_ = -1;
  if (other) cpu_read_at_ns_ = delay_read_at_ns_ = last_ns_ - between_delays_ns;  // its clocks are others
  const std::int64_t called_ns = called_ns_.exchange(0, std::memory_order_relaxed);
  write(now_ns(), {}, called_ns);
  return true;
}

void Lane::take_back(int depth) noexcept {
  holder_.store(0, std::memory_order_relaxed);
  depth_ = depth;
  take();
}

void Lane::leave() noexcept {
  holder_.store(0, std::memory_order_release);
}

void Lane::pieces_ended(std::int64_t now, std::uint64_t first, std::uint64_t items, std::uint32_t pieces) noexcept {
  write(now, {first, items, pieces}, 0);
}

void Lane::read_clocks(std::int64_t now, Stretch& into, bool always) noexcept {
  if (always || now - cpu_read_at_ns_ >= between_cpu_ns) {
    into.cpu_ns = thread_cpu_ns();
    // A thread that was taken off its processor, by the kernel or from outside of it, did not wait for anything.
    constexpr std::int64_t noticed_ns = 50'000;
    if ((now - cpu_read_at_ns_) - (into.cpu_ns - cpu_read_ns_) > noticed_ns || switches_ < 0) {
      const std::int64_t switches = own_switches();
      if (switches_ >= 0) into.slept = switches == switches_ ? Stretch::Slept::no : Stretch::Slept::yes;
      switches_ = switches;
    }
    cpu_read_at_ns_ = now;
    cpu_read_ns_ = into.cpu_ns;
    ++cpu_readings_;
  }
  if (always || now - delay_read_at_ns_ >= between_delays_ns) {
    into.delay_ns = run_delay_ns();
    delay_read_at_ns_ = now;
    ++delay_readings_;
  }
}

// What a thread used before it took the lane is not this lane's.
void Lane::add_up(std::int64_t now, const Piece& piece) noexcept {
  const Doing doing = top().doing;
  const std::int64_t ns = now - std::exchange(last_ns_, now);
  if (doing == Doing::body || doing == Doing::lock) {
    totals_.busy_ns.add(ns);
    busy_since_ += ns;
  }
  if (piece.count > 0) totals_.pieces.add(piece.count);
  if (now - cpu_read_at_ns_ < between_cpu_ns) return;
  const std::int64_t cpu_ns = thread_cpu_ns();
  if (cpu_read_ns_ >= 0) totals_.cpu_ns.add(smaller_of(busy_since_, cpu_ns - cpu_read_ns_));
  cpu_read_at_ns_ = now;
  cpu_read_ns_ = cpu_ns;
  busy_since_ = 0;
}

// Where room gets short, neighbours of the same kind are written as one.
void Lane::write(std::int64_t now, const Piece& piece, std::int64_t called_ns) noexcept {
  if (adds_up_) return add_up(now, piece);
  const Frame& frame = top();
  ++events_;
  if (frame.doing == Doing::waiting && called_ns_.load(std::memory_order_relaxed) != 0)
    called_ns = called_ns_.exchange(0, std::memory_order_relaxed);
  Stretch* last = used_ > 0 ? &entries_[used_ - 1] : nullptr;
  const std::int64_t began_ns = last_ns_;
  last_ns_ = now;
  if (last != nullptr && now - began_ns < merge_ns_ && last->doing == frame.doing && last->region == frame.region &&
      last->phase == frame.phase && last->about == frame.about && last->thread == thread_) {
    last->end_ns = now;
    last->items += piece.items;
    last->pieces += piece.count;
    last->cpu_ns = last->delay_ns = -1;
    last->slept = Stretch::Slept::not_asked;
    return read_clocks(now, *last, false);
  }
  if (used_ == room_) {
    ++lost_;
    return;
  }
  if (used_ > room_ / 2 && (used_ & (room_ / 16 - 1)) == 0) merge_ns_ = std::max<std::int64_t>(merge_ns_ * 4, 10'000);
  Stretch& next = entries_[used_++];
  next = Stretch{};
  next.end_ns = now;
  next.called_ns = called_ns;
  next.about = frame.about;
  next.phase = frame.phase;
  next.first = piece.first;
  next.items = piece.items;
  next.pieces = piece.count;
  next.region = frame.region;
  next.thread = thread_;
  next.doing = frame.doing;
  next.shortage = frame.shortage;
  next.stolen = piece.count > 0 && std::exchange(stolen_, false);
  read_clocks(now, next, false);
}

void Lane::begin(std::int64_t now, const Frame& base, Stretch* entries, std::uint32_t room) noexcept {
  used_ = 0;
  room_ = room;
  entries_ = entries;
  depth_ = 1;
  stolen_ = false;
  last_ns_ = now;
  cpu_read_at_ns_ = delay_read_at_ns_ = now - between_delays_ns;
  cpu_read_ns_ = 0;
  busy_since_ = 0;
  switches_ = -1;
  merge_ns_ = 0;
  cpu_readings_ = delay_readings_ = events_ = lost_ = forks_ = forks_told_ = 0;
  frames_[0] = base;
  called_ns_.store(0, std::memory_order_relaxed);
}

}  // namespace antcrew::internal
