#include "antcrew/ranks/internal/rank_team.hpp"

#include <sched.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cstring>
#include <exception>

#include "antcrew/base/error.hpp"
#include "antcrew/base/type_name.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/limits.hpp"
#include "antcrew/ranks/internal/code_place.hpp"
#include "antcrew/ranks/rank_errors.hpp"

namespace antcrew::internal {

thread_local const RankNow* rank_now = nullptr;

namespace {

class AsRank {
 public:
  explicit AsRank(RankTeam& team)
      : now_{team.rank(), team.ranks(), team.hello(team.rank()).threads, team.for_bodies()}, before_(rank_now) {
    rank_now = &now_;
  }
  ~AsRank() { rank_now = before_; }
  AsRank(const AsRank&) = delete;
  AsRank& operator=(const AsRank&) = delete;

 private:
  RankNow now_;
  const RankNow* before_;
};

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

// Frees the crew for the next call.
struct LetGo {
  std::atomic<bool>& busy;
  ~LetGo() { busy.store(false, std::memory_order_release); }
};

// A short message as it is put together. What is put in fits.
template <std::size_t room>
class Letter {
 public:
  void put(const void* from, std::size_t bytes) {
    if (bytes > 0) std::memcpy(text_.data() + size_, from, bytes);
    size_ += bytes;
  }
  const char* data() const noexcept { return text_.data(); }
  std::size_t size() const noexcept { return size_; }

 private:
  std::array<char, room> text_;
  std::size_t size_ = 0;
};

}  // namespace

// In front of the numbers that are to be forgotten and of the small arguments.
struct RankTeam::OrderHead {
  std::uint64_t number = 0;
  CodePlace code;  // none: leave
  std::uint64_t n = 0;
  std::uint64_t items = 1;
  std::uint32_t kind = 0;  // of the split
  std::uint8_t replies = 1;
  std::uint8_t leave = 0;
  std::uint8_t apart = 0;  // the small arguments come as a block
  std::uint64_t gone = 0;
  std::uint64_t small_bytes = 0;
  std::uint64_t large_bytes = 0;
};

struct RankTeam::ReplyHead {
  std::uint64_t number = 0;
  Range one;  // the only range, or the one where it threw
  std::uint64_t ranges = 0;
  std::uint64_t small_bytes = 0;
  std::uint64_t large_bytes = 0;
  std::uint8_t threw = 0;
  std::uint8_t apart = 0;  // all that follows the head comes by itself
};

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

RankTeam::RankTeam(MPI_Comm communicator, double deadline_s)
    : link_(communicator), for_bodies_(communicator), deadline_s_(deadline_s) {
  meet(communicator);
  letters_.resize(static_cast<std::size_t>(ranks()));
  awaited_.resize(static_cast<std::size_t>(ranks() - 1), MPI_REQUEST_NULL);
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
    post(order, code, true, under_way);
    link_.wait_for(under_way);
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
      std::thread own([&] {
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
  Wait wait(link_.crowded, link_.until_ns);
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
      wait = Wait(link_.crowded, link_.until_ns);
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
  // So many may lie before a slow rank; then it is waited for.
  constexpr int most_without_reply = 64;
  link_.until_ns = deadline_s_ > 0 ? now_ns() + static_cast<std::int64_t>(deadline_s_ * 1e9) : 0;
  const CodePlace code = checked_place(order);
  try {
    std::vector<MPI_Request> under_way;
    post(order, code, false, under_way);
    if (besides) besides();
    link_.wait_for(under_way);
  } catch (const TooLong&) {
    late({});
  }
  RankSide side(*this, order.n, order.split);
  const AsRank as(*this);
  local(side);
  if (++without_reply_ < most_without_reply) return;
  busy_.store(false);
  run(
      {[](RankSide&) {}}, [](RankSide&) {}, [](RankReply&) {});
  busy_.store(true);
}

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
    const char nothing = 0;
    team_.link().send(0, ask_tag, &nothing, 0);
    team_.link().receive(0, grant_tag, &held_, sizeof held_);
  }
  if (held_.empty()) held_ = {};
  return !held_.empty();
}

}  // namespace antcrew::internal
