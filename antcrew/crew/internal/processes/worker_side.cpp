#include "antcrew/crew/internal/processes/worker_side.hpp"

#include <fcntl.h>
#include <sys/mman.h>
#include <sys/socket.h>
#include <sys/uio.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <utility>

#include "antcrew/base/type_name.hpp"
#include "antcrew/crew/internal/processes/passing.hpp"
#include "antcrew/crew/worker.hpp"
#include "antcrew/log/phase.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/parking.hpp"

namespace antcrew::internal {
namespace {

template <std::size_t room>
void keep_text(std::array<char, room>& to, const std::string& text) noexcept {
  const std::size_t length = std::min(text.size(), room - 1);
  std::memcpy(to.data(), text.data(), length);
  to[length] = '\0';
}

// Adds the stretch up to its end to a sum.
class Moving {
 public:
  explicit Moving(std::int64_t& sum) noexcept
      : sum_(sum),
        frame_(
            {Doing::moving, Shortage::none, current_lane == nullptr ? 0 : current_lane->at().region, nullptr, nullptr}),
        start_ns_(now_ns()) {}
  ~Moving() { sum_ += now_ns() - start_ns_; }
  Moving(const Moving&) = delete;
  Moving& operator=(const Moving&) = delete;

 private:
  std::int64_t& sum_;
  InFrame frame_;
  std::int64_t start_ns_;
};

}  // namespace

void WorkerSide::do_part() noexcept {
  sent_ = false;
  moving_ns_ = 0;
  const std::uint64_t moved_before = slot_.moved_bytes;
  slot_.letter_bytes = 0;
  slot_.first.store(0, std::memory_order_relaxed);
  slot_.last.store(0, std::memory_order_relaxed);
  slot_.part.store(Part::at_work, std::memory_order_relaxed);
  const InLane in(order().lanes, worker_, {Doing::body, Shortage::none, order().region, nullptr, nullptr});
  try {
    order().work(*this);
    slot_.part.store(Part::done, std::memory_order_release);
  } catch (...) {
    note_exception();
    board_.cancelled.store(true, std::memory_order_relaxed);
    slot_.part.store(Part::threw, std::memory_order_release);
    if (reading_) ::_exit(0);  // nobody would read the rest
  }
  ranges_.clear();
  packer_.clear();
  slot_.moved_ns += moving_ns_;
  if (Journal* journal = open_journal.load(std::memory_order_relaxed); journal != nullptr && moving_ns_ > 0) {
    const std::int64_t now = now_ns();
    journal->log(moving_data, now - moving_ns_, now);
    journal->count(bytes_moved, slot_.moved_bytes - moved_before);
  }
  slot_.used_scratch.store(used_scratch(), std::memory_order_relaxed);
}

void WorkerSide::pieces(PieceBody body) {
  PieceLog log(current_lane);
  const auto held = [&](Range range, const Enough& enough) {
    slot_.first.store(range.first, std::memory_order_relaxed);
    slot_.last.store(range.last, std::memory_order_relaxed);
    body(range, enough);
    log.ended(range.first, range.size());
  };
  const Enough enough(board_.cancelled);
  if (board_.redo_count == 0) {
    const auto units = [&](Range range, const Enough&) {
      held({range.first * order().unit, std::min(range.last * order().unit, order().n)}, enough);
    };
    board_.handout().drain(worker_, enough, units);
    return;
  }
  for (std::size_t k = 0; !enough() && (k = board_.redo_next.fetch_add(1)) < board_.redo_count;)
    held(board_.redo[k], enough);
}

void WorkerSide::note_exception() noexcept {
  try {
    const Thrown thrown = current_thrown();
    keep_text(slot_.type, thrown.type);
    keep_text(slot_.text, thrown.text);
  } catch (...) {
    keep_text(slot_.type, "something unknown");
  }
}

void RangeList::add(Range range) {
  if (Range* last = empty() ? nullptr : const_cast<Range*>(data()) + size() - 1; last && last->last == range.first) {
    last->last = range.last;
  } else if (many_.empty() && count_ < few_.size()) {
    few_[count_++] = range;
  } else {
    if (many_.empty()) many_.assign(few_.begin(), few_.end());
    many_.push_back(range);
  }
}

void WorkerSide::announce() noexcept {
  sent_ = true;
  if (!standing_) return;
  slot_.parcels.fetch_add(1, std::memory_order_seq_cst);
  board_.events.fetch_add(1, std::memory_order_seq_cst);
  if (board_.parent_sleeps.load(std::memory_order_seq_cst)) wake_all_shared(board_.events);
}

// The parent reads on until it has it all or this process is gone, so a refusal means that there is no parent any more.
void WorkerSide::send_parcel(const ParcelHead& head, int file) {
  announce();
  std::vector<Packer::Block> blocks{{&head, sizeof head}, {ranges_.data(), ranges_.size() * sizeof(Range)}};
  if (!head.in_file) {
    blocks.push_back({packer_.small().data(), packer_.small().size()});
    blocks.insert(blocks.end(), packer_.large().begin(), packer_.large().end());
  }
  if (!send_blocks(socket_, blocks, file)) ::_exit(0);
  slot_.moved_bytes += sizeof head + head.ranges * sizeof(Range) + head.small_bytes + head.large_bytes;
}

ParcelHead WorkerSide::head_now() const noexcept {
  return {ranges_.size(), packer_.small().size(), packer_.bytes() - packer_.small().size()};
}

void WorkerSide::flush() {
  const Moving moving(moving_ns_);
  send_parcel(head_now(), -1);
  ranges_.clear();
  packer_.clear();
}

bool WorkerSide::write_letter(const void* elements, std::size_t bytes) {
  ParcelHead head = head_now();
  head.large_bytes += bytes;
  const std::size_t all = sizeof head + head.ranges * sizeof(Range) + head.small_bytes + head.large_bytes;
  if (sent_ || all > slot_.letter.size()) return false;
  char* at = slot_.letter.data();
  const auto write = [&](const void* from, std::size_t count) {
    if (count > 0) std::memcpy(at, from, count);
    at += count;
  };
  write(&head, sizeof head);
  write(ranges_.data(), head.ranges * sizeof(Range));
  write(packer_.small().data(), head.small_bytes);
  for (const Packer::Block& block : packer_.large()) write(block.data, block.bytes);
  write(elements, bytes);
  slot_.letter_bytes = all;
  slot_.moved_bytes += all;
  return true;
}

void WorkerSide::finish() {
  finish_with(nullptr, 0);
}

void WorkerSide::finish_with(const void* elements, std::size_t bytes) {
  if (ranges_.empty() || board_.cancelled.load(std::memory_order_relaxed)) return;
  if (write_letter(elements, bytes)) return;
  const Moving moving(moving_ns_);
  if (bytes > 0) packer_.apart(elements, bytes);
  if (order().way == Way::zero_copy && packer_.bytes() > 0) return send_in_file();
  send_parcel(head_now(), -1);
}

void WorkerSide::finish_with(Descriptor file, std::size_t element_bytes) {
  if (board_.cancelled.load(std::memory_order_relaxed)) return;
  const Moving moving(moving_ns_);
  if (!seal(file)) throw std::runtime_error("a memory file could not be sealed");
  send_parcel({ranges_.size(), 0, 0, true, false}, file.get());
  for (std::size_t k = 0; k < ranges_.size(); ++k) slot_.moved_bytes += ranges_.data()[k].size() * element_bytes;
}

// Values that had to be packed: the file holds what would have gone through the socket.
void WorkerSide::send_in_file() {
  ParcelHead head = head_now();
  head.has_file = head.in_file = true;
  const std::size_t bytes = sizeof head + head.ranges * sizeof(Range) + head.small_bytes + head.large_bytes;
  const Descriptor file = new_memory_file(0);
  std::vector<Packer::Block> blocks{{&head, sizeof head},
                                    {ranges_.data(), ranges_.size() * sizeof(Range)},
                                    {packer_.small().data(), packer_.small().size()}};
  blocks.insert(blocks.end(), packer_.large().begin(), packer_.large().end());
  if (!write_blocks(file.get(), blocks) || !seal(file)) throw std::bad_alloc();
  head.large_bytes = bytes;
  send_parcel(head, file.get());
}

std::vector<char> WorkerSide::read_arguments() {
  if (!order().arguments_sent) {
    const char* from = board_.arguments.data();
    return std::vector<char>(from, from + order().argument_bytes);
  }
  const Moving moving(moving_ns_);
  ArgumentHead head;
  read(&head, sizeof head);
  for (std::uint64_t k = 0; k < head.arrays; ++k) {
    PassedArray passed;
    Descriptor file;
    if (!receive_blocking(socket_, &passed, sizeof passed, &file)) ::_exit(0);
    commons_.push_back(std::make_shared<CommonMemory>(std::move(file), passed.bytes, passed.serial));
  }
  for (std::uint64_t k = 0; k < head.gone; ++k) {
    std::uint64_t serial = 0;
    read(&serial, sizeof serial);
    std::erase_if(commons_, [&](const auto& memory) { return memory->serial == serial; });
  }
  std::vector<char> small(head.small_bytes);
  read(small.data(), small.size());
  slot_.moved_bytes += head.small_bytes + head.large_bytes;
  return small;
}

void WorkerSide::read(void* to, std::size_t bytes) {
  if (!receive_blocking(socket_, to, bytes, nullptr)) ::_exit(0);
}

std::shared_ptr<CommonMemory> WorkerSide::common(std::uint64_t serial, std::size_t) {
  for (const std::shared_ptr<CommonMemory>& memory : commons_) {
    if (memory->serial == serial) return memory;
  }
  throw std::out_of_range("an array that this worker was not told of");
}

namespace {

// A few elements lie on the stack.
class ElementRoom {
 public:
  ElementRoom(const ItemMaker& maker, std::size_t items)
      : alignment_{std::max<std::size_t>(maker.alignment, line_bytes)},
        data_(items * maker.item_bytes <= sizeof few_ && maker.alignment <= alignof(std::max_align_t)
                  ? few_
                  : ::operator new(items* maker.item_bytes, alignment_)) {}
  ElementRoom(const ElementRoom&) = delete;
  ElementRoom& operator=(const ElementRoom&) = delete;
  ~ElementRoom() {
    if (data_ != few_) ::operator delete(data_, alignment_);
  }
  char* data() noexcept { return static_cast<char*>(data_); }

 private:
  alignas(std::max_align_t) std::byte few_[512];
  std::align_val_t alignment_;
  void* data_;
};

}  // namespace

void make_copied(WorkerSide& side, const ItemMaker& maker) {
  // More than all of them where they are few, so that those are sent at the end, in one.
  const std::size_t room = std::clamp<std::size_t>(WorkerSide::much / maker.item_bytes, 1, side.order().n + 1);
  ElementRoom buffer(maker, room);
  std::size_t made = 0;
  side.pieces([&](Range piece, const Enough& enough) {
    for (std::size_t i = piece.first; i < piece.last && !enough();) {
      const std::size_t last = std::min(piece.last, i + (room - made));
      maker.make(maker.fn, i, last, buffer.data() + made * maker.item_bytes);
      made += last - i;
      side.did({i, last});
      i = last;
      if (made < room && !side.has_much()) continue;
      side.packer().apart(buffer.data(), made * maker.item_bytes);
      side.flush();
      made = 0;
    }
  });
  side.finish_with(buffer.data(), made * maker.item_bytes);
}

void make_in_file(WorkerSide& side, const ItemMaker& maker) {
  const std::size_t room = std::max<std::size_t>(WorkerSide::much / maker.item_bytes, 1);
  ElementRoom buffer(maker, std::min(room, std::max<std::size_t>(side.order().n, 1)));
  Descriptor file;
  side.pieces([&](Range piece, const Enough& enough) {
    if (!file.is_open()) file = new_memory_file(side.order().n * maker.item_bytes);
    for (std::size_t i = piece.first; i < piece.last && !enough();) {
      const std::size_t last = piece.last - i < room ? piece.last : i + room;
      maker.make(maker.fn, i, last, buffer.data());
      write_at(file, i * maker.item_bytes, buffer.data(), (last - i) * maker.item_bytes);
      i = last;
    }
    side.did(piece);
  });
  if (file.is_open()) return side.finish_with(std::move(file), maker.item_bytes);
  side.finish();
}

}  // namespace antcrew::internal
