// How ranks find out that they belong together; what they hand out and keep.
#include <mpi.h>
#include <sched.h>
#include <unistd.h>

#include <algorithm>
#include <cstring>

#include "antcrew/base/error.hpp"
#include "antcrew/machine/limits.hpp"
#include "antcrew/ranks/internal/letters.hpp"

namespace antcrew::internal {
namespace {

RankHello own_hello() {
  RankHello hello;
  program_mark().copy(hello.program, sizeof hello.program - 1);
  ::gethostname(hello.host, sizeof hello.host - 1);
  cpu_set_t all;
  CPU_ZERO(&all);
  ::sched_getaffinity(0, sizeof all, &all);
  for (std::size_t k = 0; k < 64 * std::size(hello.may_run_on) && k < CPU_SETSIZE; ++k) {
    if (CPU_ISSET(k, &all)) hello.may_run_on[k / 64] |= std::uint64_t{1} << (k % 64);
  }
  hello.processors = usable_processors_now();
  return hello;
}

bool share_processors(const RankHello& a, const RankHello& b) {
  if (std::strcmp(a.host, b.host) != 0) return false;
  for (std::size_t k = 0; k < std::size(a.may_run_on); ++k) {
    if ((a.may_run_on[k] & b.may_run_on[k]) != 0) return true;
  }
  return false;
}

}  // namespace

Range RankPieces::take() noexcept {
  const std::lock_guard<std::mutex> held(one_at_a_time_);
  const std::size_t left = n_ - next_;
  std::size_t items = split_.items();
  if (split_.kind() == Split::Kind::tapering) items = std::max(items, left / (2 * ranks_));
  items = std::min(items, left);
  next_ += items;
  return {next_ - items, next_};
}

void RankPieces::stop() noexcept {
  const std::lock_guard<std::mutex> held(one_at_a_time_);
  next_ = n_;
}

void* RankStore::kept(std::uint64_t id) const {
  const auto found = all_.find(id);
  if (found == all_.end()) {
    base_layer::could_not_run("ranks.gone", "RankCrew", "this rank does not have what was spread or kept before",
                              "it failed to take it in, perhaps for want of memory");
  }
  return found->second.get();
}

// All find the same, so all throw, or none.
void RankTeam::meet(MPI_Comm) {
  RankHello own = own_hello();
  own.order_bytes = sizeof(OrderHead);
  hellos_.resize(static_cast<std::size_t>(ranks()));
  const int bytes = sizeof own;
  checked(MPI_Allgather(&own, bytes, MPI_BYTE, hellos_.data(), bytes, MPI_BYTE, link_.communicator()), "MPI_Allgather");
  const RankHello& first = hellos_.front();
  for (int rank = 1; rank < ranks(); ++rank) {
    const RankHello& other = hello(rank);
    const std::string where = "RankCrew, rank " + std::to_string(rank) + " on " + other.host;
    if (other.byte_order != first.byte_order) {
      base_layer::could_not_run("ranks.byte_order", where,
                                "its numbers have their bytes in another order than rank 0's",
                                "launch ranks on machines of one kind");
    }
    if (std::strcmp(other.program, first.program) != 0 || other.order_bytes != first.order_bytes) {
      base_layer::could_not_run("ranks.program", where, "it runs another build of the program than rank 0",
                                "copy the same file to all hosts");
    }
  }
  for (RankHello& one : hellos_) {
    const auto beside = static_cast<std::int32_t>(std::count_if(
        hellos_.begin(), hellos_.end(), [&](const RankHello& other) { return share_processors(one, other); }));
    one.threads = std::max(1, one.processors / std::max(1, beside));
    if (&one == &hellos_[static_cast<std::size_t>(rank())]) link_.crowded = beside > one.processors;
  }
}

}  // namespace antcrew::internal
