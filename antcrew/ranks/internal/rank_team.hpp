// The ranks of a crew: rank 0 tells what is to be done, all do it, and what they made comes back to rank 0.
//
// An order is one short message that goes down a tree of ranks, followed by the arguments' large blocks. Orders are
// carried out in the order in which they were given. One that wants no reply costs rank 0 no waiting; what went wrong
// in it is told by the next that does. Every rank runs the same program, so an order names its code by its place there.
#pragma once

#include <atomic>
#include <cstddef>
#include <cstdint>
#include <exception>
#include <functional>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <thread>
#include <tuple>
#include <unordered_map>
#include <utility>
#include <vector>

#include "antcrew/base/range.hpp"
#include "antcrew/crew/split.hpp"
#include "antcrew/ranks/internal/code_place.hpp"
#include "antcrew/ranks/internal/messages.hpp"
#include "antcrew/ranks/internal/rank_log.hpp"

namespace antcrew::internal {

// What an order is for: the same in every rank.
class RankSide;
using RankWork = void (*)(RankSide&);

// Pieces of 0 … n-1 on demand. Any thread.
class RankPieces {
 public:
  RankPieces(std::size_t n, Split split, int ranks) noexcept
      : n_(n), split_(split), ranks_(static_cast<std::size_t>(ranks)) {}
  // An empty one when there are no more.
  Range take() noexcept;
  void stop() noexcept;

 private:
  std::mutex one_at_a_time_;
  std::size_t n_;
  Split split_;
  std::size_t ranks_;
  std::size_t next_ = 0;
};

// What a rank keeps between orders, by number.
class RankStore {
 public:
  template <class T>
  T& at(std::uint64_t id) {
    return *static_cast<T*>(kept(id));
  }
  void keep(std::uint64_t id, std::shared_ptr<void> what) { all_[id] = std::move(what); }
  void forget(std::uint64_t id) { all_.erase(id); }
  void clear() { all_.clear(); }
  std::size_t size() const noexcept { return all_.size(); }

 private:
  void* kept(std::uint64_t id) const;
  std::unordered_map<std::uint64_t, std::shared_ptr<void>> all_;
};

struct RankHello {
  std::uint32_t byte_order = 0x01020304;
  std::uint32_t order_bytes = 0;
  char program[24] = {};  // a hash of it
  char host[64] = {};
  std::int32_t processors = 0;
  std::int32_t threads = 1;           // worth having in this rank
  std::uint64_t may_run_on[16] = {};  // processors by number
};

// What a reply brings rank 0.
struct RankReply {
  int rank = 0;
  std::vector<Range> ranges;
  std::span<const char> small;
  BlockSource* large = nullptr;
};

class RankTeam {
 public:
  // Collective. Throws Error (ranks.program, ranks.byte_order, ranks.mpi).
  RankTeam(MPI_Comm communicator, double deadline_s);
  ~RankTeam() { let_go(); }

  int rank() const noexcept { return link_.rank(); }
  int ranks() const noexcept { return link_.ranks(); }
  const RankHello& hello(int rank) const { return hellos_[static_cast<std::size_t>(rank)]; }
  MPI_Comm for_bodies() const noexcept { return for_bodies_.communicator(); }
  Link& link() noexcept { return link_; }
  RankStore& store() noexcept { return store_; }
  bool lost() const noexcept { return lost_; }
  void set_deadline(double deadline_s) noexcept { deadline_s_ = deadline_s; }

  // Rank 0: tells the others to leave, once. Others: serve until then.
  void let_go() noexcept;
  // Carries out orders until rank 0 lets go. Not in rank 0.
  void serve();

  struct Order {
    RankWork work = nullptr;
    std::size_t n = 0;
    Split split = Split::even();
    const Packer* arguments = nullptr;
    const char* name = "";  // of the crew's call
  };
  using Local = std::function<void(RankSide&)>;
  using Sink = std::function<void(RankReply&)>;
  // In rank 0. local: its own part. Throws RankThrew, RanksLate, Error (crew.busy, ranks.lost), what the sink throws.
  void run(const Order& order, const Local& local, const Sink& sink);
  // Without waiting for the others. `besides` may send them more, which their work expects.
  void tell(const Order& order, const Local& local, const std::function<void()>& besides = {});

  // A log of all ranks, around a call that is metered: before the caller's book is opened, and once it is closed, when
  // it brings the lanes of the others into the call's log. In rank 0. The first one measures the links, which takes a
  // second at most.
  void open_log();
  void close_log(LaneLog& log);
  // Of the process that is this rank.
  RankLog& own_log() noexcept { return log_; }
  // What an order that does nothing takes.
  double empty_order_s();

  // In a rank: spent on reading what came beside an order.
  void add_moving(std::int64_t took_ns) noexcept { moving_ns_ += took_ns; }

  std::uint64_t new_id() noexcept { return ++newest_id_; }
  // From any thread: a handle is gone.
  void forget(std::uint64_t id);

 private:
  friend class RankSide;
  // A call of the crew in a log, if one is open.
  class OfCall {
   public:
    OfCall(RankTeam& team, const Order& order);
    ~OfCall() { team_.region_ = nullptr; }
    OfCall(const OfCall&) = delete;
    OfCall& operator=(const OfCall&) = delete;

   private:
    RankTeam& team_;
    std::optional<OuterRegion> region_;
  };
  std::uint32_t region_now() const noexcept { return region_ == nullptr ? 0 : region_->number(); }
  void compare_clocks();
  void measure_links();

  struct OrderHead;
  struct ReplyHead;
  struct Fault {
    Range range;
    std::string type;
    std::string text;
  };
  static constexpr std::size_t letter_bytes = 4096;

  void meet(MPI_Comm communicator);
  void enter();
  void run_entered(const Order& order, const Local& local, const Sink& sink);
  CodePlace checked_place(const Order& order);
  RankWork work_at(CodePlace place);
  void post(const Order& order, CodePlace code, bool replies, std::vector<MPI_Request>& under_way);
  void do_local(const Local& local, RankSide& side);
  void take_replies(const Sink& sink, RankSide& side, std::atomic<bool>* local_done);
  void take_reply(int rank, const Sink& sink, std::exception_ptr& from_sink);
  bool answer_askers(RankPieces& pieces);
  bool any_fault();
  void throw_first_fault();
  [[noreturn]] void late(const std::vector<int>& missing);
  bool do_order(std::span<const char> letter);
  void reply(std::uint64_t number, const std::vector<Range>& ranges, const Packer& made);
  void reply_fault(std::uint64_t number, const Fault& fault);

  Link link_;
  Link for_bodies_;
  double deadline_s_;
  std::vector<RankHello> hellos_;
  RankStore store_;
  std::uint64_t newest_id_ = 0;
  std::mutex gone_lock_;
  std::vector<std::uint64_t> gone_;
  std::atomic<bool> busy_{false};
  bool lost_ = false;
  bool ended_ = false;
  bool served_ = false;
  bool orderly_ = true;                                          // no message of a call is left over
  std::unordered_map<std::uintptr_t, CodePlace> places_;         // asked before
  std::unordered_map<std::uint64_t, std::uintptr_t> addresses_;  // likewise, in the others
  std::uint64_t number_ = 0;                                     // of the order
  int without_reply_ = 0;                                        // orders in a row
  std::vector<std::vector<char>> letters_;                       // from each rank
  std::vector<MPI_Request> awaited_;                             // replies
  std::mutex faults_lock_;
  std::vector<std::pair<int, Fault>> faults_;
  // In the others.
  std::vector<Fault> untold_;   // of orders that wanted no reply
  std::int64_t moving_ns_ = 0;  // reading blocks, since the last reply
  // For logs.
  RankLog log_;
  bool logs_ = false;
  const OuterRegion* region_ = nullptr;  // of the call under way
  RankFacts known_;                      // hosts, and the links between them
  std::vector<std::int64_t> ahead_ns_;   // of each rank's clock
};

// An order, as the rank sees it that carries it out.
class RankSide {
 public:
  RankSide(RankTeam& team, std::size_t n, Split split) noexcept : team_(team), n_(n), split_(split) {}

  RankTeam& team() noexcept { return team_; }
  RankStore& store() noexcept { return team_.store(); }
  std::size_t n() const noexcept { return n_; }

  // Gives on_piece its pieces.
  template <class OnPiece>
  void pieces(OnPiece&& on_piece) {
    while (next()) {
      const PieceAt at(held_);
      on_piece(held_);
    }
    held_ = {};
  }
  // Once a rank.
  template <class Body>
  void once(Body&& body) {
    const auto rank = static_cast<std::size_t>(team_.rank());
    const PieceAt at({rank, rank + 1});
    body();
  }
  // Being worked on.
  Range held() const noexcept { return held_; }
  void hold(Range range) noexcept { held_ = range; }

  // Not in rank 0: what was sent along; and what goes back.
  Unpacker& arguments() noexcept { return *arguments_; }
  void reply(const std::vector<Range>& ranges, const Packer& made);

 private:
  friend class RankTeam;
  bool next();

  RankTeam& team_;
  std::size_t n_;
  Split split_;
  RankPieces* shared_ = nullptr;  // in rank 0
  Range first_;
  Range held_;
  bool begun_ = false;
  Unpacker* arguments_ = nullptr;
  std::uint64_t number_ = 0;
  bool replied_ = false;
};

// What a body may know of the rank that runs it.
struct RankNow {
  int rank = 0;
  int ranks = 1;
  int threads = 1;
  MPI_Comm communicator = MPI_COMM_NULL;
};
extern thread_local const RankNow* rank_now;

}  // namespace antcrew::internal
