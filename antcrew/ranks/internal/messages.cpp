#include "antcrew/ranks/internal/messages.hpp"

#include <time.h>

#include <algorithm>
#include <array>
#include <cstring>
#include <string>

#include "antcrew/base/error.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/parking.hpp"
#include "antcrew/ranks/internal/rank_log.hpp"

namespace antcrew::internal {
namespace {

constexpr std::int64_t shortest_sleep_ns = 20'000;
constexpr std::int64_t longest_sleep_ns = 1'000'000;
constexpr std::int64_t idle_ns = 1'000'000'000;
constexpr std::int64_t longest_sleep_idle_ns = 5'000'000;

}  // namespace

void checked(int result, const char* call) {
  if (result == MPI_SUCCESS) return;
  std::array<char, MPI_MAX_ERROR_STRING> text{};
  int length = 0;
  MPI_Error_string(result, text.data(), &length);
  base_layer::could_not_run("ranks.mpi", call, std::string(text.data(), static_cast<std::size_t>(length)),
                            "a rank or the network may be gone: see what the launcher printed");
}

bool Wait::go_on() noexcept {
  if (crowded_ && looks_ % 8 == 7) give_way();
  if (++looks_ % 32 != 0) return true;
  const std::int64_t now = now_ns();
  if (begun_ns_ == 0) begun_ns_ = now;
  if (until_ns_ != 0 && now > until_ns_) return false;
  const std::int64_t waited = now - begun_ns_;
  if (waited > look_ns_) {
    looks_ = 31;  // from now on one look between two sleeps
    const std::int64_t longest = waited > idle_ns ? longest_sleep_idle_ns : longest_sleep_ns;
    const timespec sleep{0, std::clamp(waited / 50, shortest_sleep_ns, longest)};
    ::nanosleep(&sleep, nullptr);
  }
  return true;
}

Link::Link(MPI_Comm communicator) {
  checked(MPI_Comm_dup(communicator, &communicator_), "MPI_Comm_dup");
  MPI_Comm_set_errhandler(communicator_, MPI_ERRORS_RETURN);
  MPI_Comm_rank(communicator_, &rank_);
  MPI_Comm_size(communicator_, &ranks_);
  reset_sent();
  for (int below = most_below * rank_ + 1; below <= most_below * (rank_ + 1) && below < ranks_; ++below) {
    below_.push_back(below);
  }
}

Link::~Link() {
  int finalised = 0;
  MPI_Finalized(&finalised);
  if (communicator_ != MPI_COMM_NULL && finalised == 0) MPI_Comm_free(&communicator_);
}

void Link::send(int to, int tag, const void* data, std::size_t bytes) {
  checked(MPI_Send(data, static_cast<int>(bytes), MPI_BYTE, to, tag, communicator_), "MPI_Send");
  note_sent(to, bytes);
}

void Link::receive(int from, int tag, void* data, std::size_t bytes) {
  const Part part = next_part(from, tag);
  if (part.bytes != bytes) {
    base_layer::could_not_run("ranks.message", "rank " + std::to_string(from),
                              "it sent " + std::to_string(part.bytes) + " bytes in place of " + std::to_string(bytes),
                              "this is a fault of Ant Crew: please report it");
  }
  take(part, data);
}

std::optional<int> Link::somebody_sent(int tag) {
  int flag = 0;
  MPI_Status status;
  checked(MPI_Iprobe(MPI_ANY_SOURCE, tag, communicator_, &flag, &status), "MPI_Iprobe");
  return flag != 0 ? std::optional(status.MPI_SOURCE) : std::nullopt;
}

void Link::begin_block(int to, int tag, const void* data, std::size_t bytes, std::vector<MPI_Request>& under_way) {
  const char* at = static_cast<const char*>(data);
  while (bytes > 0) {
    const std::size_t part = std::min(bytes, part_bytes);
    MPI_Request request;
    checked(MPI_Isend(at, static_cast<int>(part), MPI_BYTE, to, tag, communicator_, &request), "MPI_Isend");
    under_way.push_back(request);
    note_sent(to, part);
    at += part;
    bytes -= part;
  }
}

void Link::wait_for(std::vector<MPI_Request>& under_way, std::span<const int> whose) {
  Wait wait(crowded, until_ns, Wait::data_look_ns);
  // In a log one by one; testing one moves the others on, too.
  const std::size_t one_by_one = current_lane == nullptr ? 0 : std::min(whose.size(), under_way.size());
  for (std::size_t k = 0; k < one_by_one; ++k) {
    const At at(Doing::message, awaiting(whose[k]));
    for (int done = 0; checked(MPI_Test(&under_way[k], &done, MPI_STATUS_IGNORE), "MPI_Test"), done == 0;) {
      if (!wait.go_on()) throw TooLong();
    }
  }
  std::optional<At> sending;
  if (one_by_one > 0) sending.emplace(Doing::moving);
  while (!under_way.empty()) {
    int done = 0;
    checked(MPI_Testall(static_cast<int>(under_way.size()), under_way.data(), &done, MPI_STATUSES_IGNORE),
            "MPI_Testall");
    if (done != 0) break;
    if (!wait.go_on()) throw TooLong();
  }
  under_way.clear();
}

Link::Part Link::next_part(int from, int tag) {
  Wait wait(crowded, until_ns);
  while (true) {
    int flag = 0;
    Part part{};
    MPI_Status status;
    checked(MPI_Improbe(from, tag, communicator_, &flag, &part.message, &status), "MPI_Improbe");
    if (flag != 0) {
      int bytes = 0;
      MPI_Get_count(&status, MPI_BYTE, &bytes);
      part.bytes = static_cast<std::size_t>(bytes);
      return part;
    }
    if (!wait.go_on()) throw TooLong();
  }
}

void Link::take(Part part, void* to) {
  MPI_Request receiving;
  checked(MPI_Imrecv(to, static_cast<int>(part.bytes), MPI_BYTE, &part.message, &receiving), "MPI_Imrecv");
  Wait wait(crowded, until_ns, Wait::data_look_ns);
  for (int done = 0; checked(MPI_Test(&receiving, &done, MPI_STATUS_IGNORE), "MPI_Test"), done == 0;) {
    if (!wait.go_on()) throw TooLong();
  }
}

void Incoming::read(void* to, std::size_t bytes) {
  char* at = static_cast<char*>(to);
  const std::size_t in_letter = std::min(bytes, here_.size());
  if (in_letter > 0) {
    std::memcpy(at, here_.data(), in_letter);
    here_ = here_.subspan(in_letter);
    at += in_letter;
    bytes -= in_letter;
  }
  if (bytes > left_) refuse_short_value();
  if (bytes == 0) return;
  const std::int64_t begun_ns = now_ns();
  left_ -= bytes;
  while (bytes > 0) {
    if (part_read_ < part_.size()) {
      const std::size_t some = std::min(bytes, part_.size() - part_read_);
      std::memcpy(at, part_.data() + part_read_, some);
      part_read_ += some;
      at += some;
      bytes -= some;
      continue;
    }
    const Link::Part part = link_.next_part(from_, tag_);
    if (part.bytes <= bytes) {
      link_.take(part, at);
      pass_on(at, part.bytes);
      at += part.bytes;
      bytes -= part.bytes;
    } else {
      link_.wait_for(under_way_);  // the last part may still be on its way from here
      part_.resize(part.bytes);
      part_read_ = 0;
      link_.take(part, part_.data());
      pass_on(part_.data(), part.bytes);
    }
  }
  // What was read may move or go as soon as this returns.
  link_.wait_for(under_way_);
  took_ns_ += now_ns() - begun_ns;
}

void Incoming::pass_on(const void* data, std::size_t bytes) {
  for (const int rank : pass_on_) link_.begin_block(rank, tag_, data, bytes, under_way_);
}

std::shared_ptr<CommonMemory> Incoming::common(std::uint64_t, std::size_t) {
  base_layer::bad_input("ranks.common", "RankCrew", "a CommonArray lies in the memory of one machine",
                        "give a RankArray, or the values themselves");
}

void Incoming::drain() {
  here_ = {};
  std::vector<char> nobody_reads(std::min(left_, Link::part_bytes));
  while (left_ > 0) read(nobody_reads.data(), std::min(left_, nobody_reads.size()));
}

}  // namespace antcrew::internal
