#include "antcrew/crew/internal/processes/worker_side.hpp"

#include <fcntl.h>
#include <sys/mman.h>
#include <sys/socket.h>
#include <sys/uio.h>
#include <unistd.h>

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
        frame_({Doing::moving, Shortage::none, lane_here == nullptr ? 0 : lane_here->at().region, nullptr, nullptr}),
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

void WorkerSide::note_exception() noexcept {
  try {
    const Thrown thrown = thrown_here();
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
  if (order().way == Way::handed_over && packer_.bytes() > 0) return send_in_file();
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
    commons_[passed.serial] = std::make_shared<CommonMemory>(std::move(file), passed.bytes, passed.serial);
  }
  for (std::uint64_t k = 0; k < head.gone; ++k) {
    std::uint64_t serial = 0;
    read(&serial, sizeof serial);
    commons_.erase(serial);
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
  return commons_.at(serial);
}

}  // namespace antcrew::internal
