// The side of the ranks that carry out what rank 0 orders.
#include <algorithm>
#include <cstring>
#include <optional>
#include <utility>

#include "antcrew/base/error.hpp"
#include "antcrew/base/type_name.hpp"
#include "antcrew/ranks/internal/letters.hpp"

namespace antcrew::internal {

void RankTeam::serve() {
  if (rank() == 0) {
    base_layer::bad_input("ranks.rank", "RankCrew", "rank 0 cannot serve: it is the one that calls",
                          "write if (crew.rank() == 0) { … } else crew.serve();");
  }
  served_ = true;
  std::vector<char> letter(letter_bytes);
  std::size_t bytes = 0;
  do {
    MPI_Request coming;
    MPI_Status status;
    checked(MPI_Irecv(letter.data(), static_cast<int>(letter.size()), MPI_BYTE, link_.above(), order_tag,
                      link_.communicator(), &coming),
            "MPI_Irecv");
    Wait wait(link_.crowded);
    for (int come = 0; checked(MPI_Test(&coming, &come, &status), "MPI_Test"), come == 0;) wait.go_on();
    int count = 0;
    MPI_Get_count(&status, MPI_BYTE, &count);
    bytes = static_cast<std::size_t>(count);
    for (const int below : link_.below()) link_.send(below, order_tag, letter.data(), bytes);
  } while (do_order({letter.data(), bytes}));
  store_.clear();
}

bool RankTeam::do_order(std::span<const char> letter) {
  OrderHead head;
  std::memcpy(&head, letter.data(), sizeof head);
  if (head.leave != 0) return false;
  std::vector<std::uint64_t> gone(head.gone);
  if (!gone.empty()) std::memcpy(gone.data(), letter.data() + sizeof head, gone.size() * sizeof gone[0]);
  for (const std::uint64_t id : gone) store_.forget(id);
  const std::size_t apart_bytes = head.apart != 0 ? head.small_bytes : 0;
  Incoming large(link_, link_.above(), block_tag, {}, apart_bytes + head.large_bytes, link_.below());
  const InFrame at({Doing::moving, Shortage::none, head.region, nullptr, nullptr});
  const auto kind = static_cast<Split::Kind>(head.kind);
  RankSide side(*this, head.n,
                kind == Split::Kind::even     ? Split::even()
                : kind == Split::Kind::chunks ? Split::chunks(head.items)
                                              : Split::tapering(head.items));
  side.number_ = head.number;
  std::optional<Fault> fault;
  try {
    std::vector<char> apart(apart_bytes);
    if (apart_bytes > 0) large.read(apart.data(), apart_bytes);
    const char* small = apart_bytes > 0 ? apart.data() : letter.data() + (letter.size() - head.small_bytes);
    Unpacker arguments(small, head.small_bytes, large);
    side.arguments_ = &arguments;
    if (untold_.empty() || head.replies == 0) {
      const AsRank as(*this);
      work_at(head.code)(side);
    }
  } catch (...) {
    const base_layer::Thrown thrown = base_layer::current_thrown();
    fault = Fault{side.held(), thrown.type, thrown.text};
  }
  large.drain();
  moving_ns_ += large.took_ns();
  if (head.replies == 0) {
    if (fault && untold_.empty()) untold_.push_back(*fault);
    return true;
  }
  if (!untold_.empty()) {
    fault = untold_.front();
    untold_.clear();
  }
  if (side.replied_) return true;
  fault ? reply_fault(head.number, *fault) : reply(head.number, {}, Packer());
  return true;
}

void RankTeam::reply_fault(std::uint64_t number, const Fault& fault) {
  constexpr std::size_t longest = 1500;  // of a text: it goes in the letter
  const std::string type = fault.type.substr(0, longest);
  const std::string text = fault.text.substr(0, longest);
  Packer made;
  made.put(type);
  made.put(text);
  ReplyHead head;
  head.number = number;
  head.moving_ns = std::exchange(moving_ns_, 0);
  head.threw = 1;
  head.one = fault.range;
  head.small_bytes = made.small().size();
  Letter<letter_bytes> letter;
  letter.put(&head, sizeof head);
  letter.put(made.small().data(), made.small().size());
  link_.send(0, reply_tag, letter.data(), letter.size());
}

void RankTeam::reply(std::uint64_t number, const std::vector<Range>& ranges, const Packer& made) {
  ReplyHead head;
  head.number = number;
  head.moving_ns = std::exchange(moving_ns_, 0);
  head.ranges = ranges.size();
  if (ranges.size() == 1) head.one = ranges.front();
  head.small_bytes = made.small().size();
  head.large_bytes = made.bytes() - head.small_bytes;
  const std::size_t listed = ranges.size() > 1 ? ranges.size() * sizeof(Range) : 0;
  const std::size_t before_large_bytes = listed + head.small_bytes;
  head.apart = sizeof head + before_large_bytes + head.large_bytes > letter_bytes ? 1 : 0;
  Letter<letter_bytes> letter;
  letter.put(&head, sizeof head);
  if (head.apart == 0) {
    letter.put(ranges.data(), listed);
    letter.put(made.small().data(), made.small().size());
    for (const Packer::Block& block : made.large()) letter.put(block.data, block.bytes);
    link_.send(0, reply_tag, letter.data(), letter.size());
    return;
  }
  std::vector<char> before_large(before_large_bytes);
  if (listed > 0) std::memcpy(before_large.data(), ranges.data(), listed);
  if (head.small_bytes > 0) std::memcpy(before_large.data() + listed, made.small().data(), head.small_bytes);
  link_.send(0, reply_tag, letter.data(), letter.size());
  std::vector<MPI_Request> under_way;
  link_.begin_block(0, result_tag, before_large.data(), before_large.size(), under_way);
  for (const Packer::Block& block : made.large()) {
    link_.begin_block(0, result_tag, block.data, block.bytes, under_way);
  }
  link_.wait_for(under_way);
}

void RankSide::reply(const std::vector<Range>& ranges, const Packer& made) {
  replied_ = true;
  team_.reply(number_, ranges, made);
}

bool RankSide::next() {
  const bool first = !begun_;
  begun_ = true;
  const auto ranks = static_cast<std::size_t>(team_.ranks());
  const auto rank = static_cast<std::size_t>(team_.rank());
  if (split_.kind() == Split::Kind::even || ranks == 1) {
    held_ = first ? even_part(n_, ranks, rank) : Range();
  } else if (shared_ != nullptr) {
    held_ = first ? first_ : shared_->take();
  } else if (first) {
    RankPieces pieces(n_, split_, team_.ranks());
    for (std::size_t k = 0; k <= rank; ++k) held_ = pieces.take();
  } else {
    const At at(Doing::message, awaiting(0));
    const char nothing = 0;
    team_.link().send(0, ask_tag, &nothing, 0);
    team_.link().receive(0, grant_tag, &held_, sizeof held_);
  }
  if (held_.empty()) held_ = {};
  return !held_.empty();
}

}  // namespace antcrew::internal
