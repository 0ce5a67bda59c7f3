#include "antcrew/ranks/internal/rank_team.hpp"

#include <algorithm>
#include <cstring>
#include <exception>
#include <optional>

#include "antcrew/base/error.hpp"
#include "antcrew/base/type_name.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/ranks/internal/letters.hpp"
#include "antcrew/ranks/rank_errors.hpp"

namespace antcrew::internal {

thread_local const RankNow* rank_now = nullptr;

namespace {

// Frees the crew for the next call.
struct LetGo {
  std::atomic<bool>& busy;
  ~LetGo() { busy.store(false, std::memory_order_release); }
};

std::size_t large_bytes_of(const RankTeam::Order& order) {
  return order.arguments == nullptr || order.arguments->large().empty() ? 0 : order.arguments->bytes();
}

}  // namespace

RankTeam::RankTeam(MPI_Comm communicator, double deadline_s)
    : link_(communicator), for_bodies_(communicator), deadline_s_(deadline_s) {
  meet(communicator);
  letters_.resize(static_cast<std::size_t>(ranks()));
  awaited_.resize(static_cast<std::size_t>(ranks() - 1), MPI_REQUEST_NULL);
}

void RankTeam::let_go() noexcept {
  if (std::exchange(ended_, true) && rank() == 0) return;
  int finalised = 0;
  MPI_Finalized(&finalised);
  try {
    if (lost_ || finalised != 0) {
      link_.abandon();
      for_bodies_.abandon();
    } else if (rank() == 0) {
      OrderHead leave;
      leave.leave = 1;
      for (const int below : link_.below()) link_.send(below, order_tag, &leave, sizeof leave);
    } else if (!served_) {
      serve();
    }
  } catch (...) {
    link_.abandon();
    for_bodies_.abandon();
  }
  store_.clear();
}

void RankTeam::enter() {
  if (rank() != 0) {
    base_layer::bad_input("ranks.rank", "RankCrew", "only rank 0 may call it", "let the other ranks serve()");
  }
  if (busy_.exchange(true, std::memory_order_acquire)) {
    base_layer::bad_input("crew.busy", "RankCrew", "another thread is in a call of this crew, or a body calls it",
                          "call it from one thread at a time");
  }
  if (ended_) {
    busy_.store(false);
    base_layer::bad_input("ranks.ended", "RankCrew", "the crew is gone, and with it what its ranks had",
                          "let the crew live longer than its arrays");
  }
  if (lost_) {
    busy_.store(false);
    base_layer::could_not_run("ranks.lost", "RankCrew", "ranks did not answer in an earlier call",
                              "end the program (MPI_Abort)");
  }
}

void RankTeam::forget(std::uint64_t id) {
  const std::lock_guard<std::mutex> held(gone_lock_);
  gone_.push_back(id);
}

// Before anything is sent: what cannot be sent at all.
CodePlace RankTeam::checked_place(const Order& order) {
  if (order.arguments != nullptr && !order.arguments->commons().empty()) {
    base_layer::bad_input("ranks.common", "RankCrew", "a CommonArray lies in the memory of one machine",
                          "give a RankArray, or the values themselves");
  }
  if (ranks() == 1) return {};
  const auto address = reinterpret_cast<std::uintptr_t>(order.work);
  const auto known = places_.find(address);
  if (known != places_.end()) return known->second;
  return places_.emplace(address, place_of_code(reinterpret_cast<const void*>(order.work))).first->second;
}

RankWork RankTeam::work_at(CodePlace place) {
  const std::uint64_t key = place.module ^ place.offset;
  const auto known = addresses_.find(key);
  const std::uintptr_t address =
      known != addresses_.end()
          ? known->second
          : addresses_.emplace(key, reinterpret_cast<std::uintptr_t>(code_at(place))).first->second;
  return reinterpret_cast<RankWork>(address);
}

void RankTeam::post(const Order& order, CodePlace code, bool replies, std::vector<MPI_Request>& under_way) {
  constexpr std::size_t most_gone = 64;
  std::vector<std::uint64_t> gone;
  {
    const std::lock_guard<std::mutex> held(gone_lock_);
    const std::size_t some = std::min(gone_.size(), most_gone);
    gone.assign(gone_.end() - static_cast<std::ptrdiff_t>(some), gone_.end());
    gone_.resize(gone_.size() - some);
  }
  for (const std::uint64_t id : gone) store_.forget(id);
  ++number_;
  if (ranks() == 1) return;
  static const Packer nothing;
  const Packer& arguments = order.arguments == nullptr ? nothing : *order.arguments;
  OrderHead head;
  head.number = number_;
  head.code = code;
  head.n = order.n;
  head.items = order.split.items();
  head.kind = static_cast<std::uint32_t>(order.split.kind());
  head.replies = replies ? 1 : 0;
  head.region = region_now();
  head.gone = gone.size();
  head.small_bytes = arguments.small().size();
  head.large_bytes = arguments.bytes() - head.small_bytes;
  head.apart = sizeof head + gone.size() * sizeof gone[0] + head.small_bytes > letter_bytes ? 1 : 0;
  Letter<letter_bytes> letter;
  letter.put(&head, sizeof head);
  letter.put(gone.data(), gone.size() * sizeof gone[0]);
  if (head.apart == 0) letter.put(arguments.small().data(), arguments.small().size());
  for (const int below : link_.below()) link_.send(below, order_tag, letter.data(), letter.size());
  for (const int below : link_.below()) {
    if (head.apart != 0) {
      link_.begin_block(below, block_tag, arguments.small().data(), arguments.small().size(), under_way);
    }
    for (const Packer::Block& block : arguments.large()) {
      link_.begin_block(below, block_tag, block.data, block.bytes, under_way);
    }
  }
}

void RankTeam::do_local(const Local& local, RankSide& side) {
  const AsRank as(*this);
  const At at(Doing::moving);
  try {
    local(side);
  } catch (...) {
    const base_layer::Thrown thrown = base_layer::current_thrown();
    {
      const std::lock_guard<std::mutex> held(faults_lock_);
      faults_.push_back({0, {side.held(), thrown.type, thrown.text}});
    }
    if (side.shared_ != nullptr) side.shared_->stop();
  }
}

void RankTeam::run(const Order& order, const Local& local, const Sink& sink) {
  enter();
  const LetGo let_go{busy_};
  const OfCall call(*this, order);
  run_entered(order, local, sink);
}

void RankTeam::run_entered(const Order& order, const Local& local, const Sink& sink) {
  link_.until_ns = deadline_s_ > 0 ? now_ns() + static_cast<std::int64_t>(deadline_s_ * 1e9) : 0;
  faults_.clear();
  without_reply_ = 0;
  RankSide side(*this, order.n, order.split);
  const CodePlace code = checked_place(order);
  orderly_ = false;  // until all that was begun has come to its end
  try {
    for (int from = 1; from < ranks(); ++from) {
      auto& letter = letters_[static_cast<std::size_t>(from)];
      letter.resize(letter_bytes);
      checked(MPI_Irecv(letter.data(), static_cast<int>(letter.size()), MPI_BYTE, from, reply_tag, link_.communicator(),
                        &awaited_[static_cast<std::size_t>(from - 1)]),
              "MPI_Irecv");
    }
    std::vector<MPI_Request> under_way;
    {
      const SentLog log(large_bytes_of(order), ranks() - 1);
      post(order, code, true, under_way);
      link_.wait_for(under_way);
    }
    if (order.split.kind() == Split::Kind::even || ranks() == 1) {
      do_local(local, side);
      take_replies(sink, side, nullptr);
    } else {
      // This thread answers those who ask for a piece, so that nobody waits for the end of a long one.
      RankPieces pieces(order.n, order.split, ranks());
      side.first_ = pieces.take();
      for (int other = 1; other < ranks(); ++other) pieces.take();
      side.shared_ = &pieces;
      std::atomic<bool> done{false};
      std::optional<LaneHandOver> handed;  // to the thread that works
      if (region_now() != 0) handed.emplace(*region_);
      std::thread own([&, region = region_now()] {
        const InLane lane(region == 0 ? nullptr : open_lanes.load(std::memory_order_relaxed), 0,
                          {Doing::moving, Shortage::none, region, nullptr, nullptr});
        do_local(local, side);
        done.store(true, std::memory_order_release);
      });
      struct Joined {
        std::thread& own;
        RankPieces& pieces;
        ~Joined() {
          pieces.stop();
          own.join();
        }
      } const joined{own, pieces};
      take_replies(sink, side, &done);
    }
  } catch (const TooLong&) {
    std::vector<int> missing;
    for (int from = 1; from < ranks(); ++from) {
      if (awaited_[static_cast<std::size_t>(from - 1)] != MPI_REQUEST_NULL) missing.push_back(from);
    }
    late(missing);
  } catch (...) {
    lost_ = lost_ || !orderly_;
    throw;
  }
  throw_first_fault();
}

void RankTeam::take_replies(const Sink& sink, RankSide& side, std::atomic<bool>* local_done) {
  std::exception_ptr from_sink;
  int left = ranks() - 1;
  std::vector<int> come(static_cast<std::size_t>(left));
  // Where this rank has one processor, looking would take it from its own pieces, and giving way leave it to them.
  const bool share = local_done != nullptr && hello(0).threads < 2;
  const Wait afresh(link_.crowded && !share, link_.until_ns, share ? 0 : Wait::usual_look_ns);
  Wait wait = afresh;
  while (left > 0 || (local_done != nullptr && !local_done->load(std::memory_order_acquire))) {
    int count = 0;
    if (left > 0) {
      checked(
          MPI_Testsome(static_cast<int>(awaited_.size()), awaited_.data(), &count, come.data(), MPI_STATUSES_IGNORE),
          "MPI_Testsome");
    }
    if (count == MPI_UNDEFINED) count = 0;
    for (int k = 0; k < count; ++k) {
      take_reply(come[static_cast<std::size_t>(k)] + 1, sink, from_sink);
      --left;
    }
    if (count > 0 && side.shared_ != nullptr && any_fault()) side.shared_->stop();
    const bool asked = side.shared_ != nullptr && answer_askers(*side.shared_);
    if (count > 0 || asked) {
      wait = afresh;
    } else if (!wait.go_on()) {
      throw TooLong();
    }
  }
  orderly_ = true;
  if (from_sink) std::rethrow_exception(from_sink);
}

void RankTeam::take_reply(int rank, const Sink& sink, std::exception_ptr& from_sink) {
  const std::vector<char>& letter = letters_[static_cast<std::size_t>(rank)];
  ReplyHead head;
  std::memcpy(&head, letter.data(), sizeof head);
  const std::size_t listed = head.ranges > 1 ? head.ranges * sizeof(Range) : 0;
  const std::size_t before_large = listed + head.small_bytes;
  std::span<const char> rest(letter);
  rest = rest.subspan(sizeof head);
  const TakenLog log(head.apart != 0 ? before_large + head.large_bytes : 0, head.moving_ns);
  std::vector<char> apart;
  Incoming large(link_, rank, result_tag,
                 head.apart != 0 ? std::span<const char>() : rest.subspan(before_large, head.large_bytes),
                 head.apart != 0 ? before_large + head.large_bytes : 0, {});
  if (head.apart != 0) {
    apart.resize(before_large);
    large.read(apart.data(), before_large);
    rest = apart;
  }
  try {
    RankReply reply{rank, {}, rest.subspan(listed, head.small_bytes), &large};
    if (head.ranges == 1) reply.ranges.push_back(head.one);
    if (listed > 0) {
      reply.ranges.resize(head.ranges);
      std::memcpy(reply.ranges.data(), rest.data(), listed);
    }
    if (head.threw != 0) {
      Fault fault{head.one, {}, {}};
      Unpacker from(reply.small.data(), reply.small.size(), large);
      from.get(fault.type);
      from.get(fault.text);
      const std::lock_guard<std::mutex> held(faults_lock_);
      faults_.push_back({rank, std::move(fault)});
      return;
    }
    sink(reply);
  } catch (const TooLong&) {
    throw;
  } catch (...) {
    if (!from_sink) from_sink = std::current_exception();
    large.drain();
  }
}

bool RankTeam::answer_askers(RankPieces& pieces) {
  bool any = false;
  while (const auto asker = link_.somebody_sent(ask_tag)) {
    any = true;
    char nothing = 0;
    link_.receive(*asker, ask_tag, &nothing, 0);
    const Range piece = pieces.take();
    link_.send(*asker, grant_tag, &piece, sizeof piece);
  }
  return any;
}

bool RankTeam::any_fault() {
  const std::lock_guard<std::mutex> held(faults_lock_);
  return !faults_.empty();
}

void RankTeam::late(const std::vector<int>& missing) {
  lost_ = true;
  std::string words;
  std::size_t told = 0;
  for (const int rank : missing) {
    if (++told > 5) break;
    words += (told > 1 ? ", " : "") + std::string("rank ") + std::to_string(rank) + " on " + hello(rank).host;
  }
  if (missing.size() > 5) words += " and " + std::to_string(missing.size() - 5) + " more";
  if (missing.empty()) words = "rank 0 itself";
  throw RanksLate(deadline_s_, missing, words);
}

void RankTeam::throw_first_fault() {
  if (faults_.empty()) return;
  const auto first =
      std::min_element(faults_.begin(), faults_.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
  throw RankThrew(first->first, hello(first->first).host, first->second.range, first->second.type, first->second.text);
}

void RankTeam::tell(const Order& order, const Local& local, const std::function<void()>& besides) {
  enter();
  const LetGo let_go{busy_};
  const OfCall call(*this, order);
  // So many may lie before a slow rank; then it is waited for.
  constexpr int most_without_reply = 64;
  link_.until_ns = deadline_s_ > 0 ? now_ns() + static_cast<std::int64_t>(deadline_s_ * 1e9) : 0;
  const CodePlace code = checked_place(order);
  try {
    std::vector<MPI_Request> under_way;
    const SentLog log(large_bytes_of(order) + (besides ? 1 : 0), ranks() - 1);
    post(order, code, false, under_way);
    if (besides) besides();
    link_.wait_for(under_way);
  } catch (const TooLong&) {
    late({});
  }
  {
    RankSide side(*this, order.n, order.split);
    const AsRank as(*this);
    const At at(Doing::moving);
    local(side);
  }
  if (++without_reply_ < most_without_reply) return;
  const Order nothing{[](RankSide&) {}};
  run_entered(
      nothing, [](RankSide&) {}, [](RankReply&) {});
}

}  // namespace antcrew::internal
