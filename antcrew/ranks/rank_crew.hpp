// Workers that are ranks of MPI: processes of one program on one machine or on many, begun by a launcher.
//
//   int main(int argc, char** argv) {
//     return antcrew::on_ranks(argc, argv, [](antcrew::RankCrew& crew) {
//       auto heights = crew.collect(n, [](std::size_t i, const Tides& tides) { return tides.at(i); }, tides);
//       …
//       return 0;
//     });
//   }
//   mpirun -n 4 --host hosta:2,hostb:2 ./program
//
// Rank 0 runs the program; the others serve it, and so does rank 0 as worker 0. As for a StandingCrew, a body is a type
// without state, given its arguments after the body: values (see transfer.hpp; they are sent with each call), what
// keep() sent once, and RankArrays, in whose place the body gets this rank's RankPart. What it returns comes back.
//
// Cost. A call takes a message down a tree of ranks and a reply from each. Data goes as it lies where types are plain.
// A rank that waits looks for a millisecond, giving way where ranks have to share processors, and then sleeps between
// looks: at most 2 % of a processor, and as much later.
// Faults. What a body throws comes out here as RankThrew, and the crew stays usable; the ranks are let come to their
// end, but are handed no further chunks. One that throws while others wait for its edges, or in MPI, keeps them
// waiting. With CrewOptions::processes.deadline_s, a call that takes longer ends with RanksLate, and then only the
// program's end helps. A rank that dies ends them all: the launcher sees to that. Threads: one at a time may call, in
// rank 0 (Error crew.busy, ranks.rank). A body runs in the thread that serves, or, in rank 0 with chunks or tapering,
// in another one than MPI's own. Bodies do not use this crew; they may make a ThreadCrew of threads_here() workers, and
// use MPI on current_rank().communicator: no message of the crew goes through that one.
#pragma once

#include <mpi.h>

#include <concepts>
#include <cstddef>
#include <cstring>
#include <functional>
#include <memory>
#include <span>
#include <string>
#include <type_traits>
#include <utility>
#include <vector>

#include "antcrew/base/range.hpp"
#include "antcrew/crew/column.hpp"
#include "antcrew/crew/crew_options.hpp"
#include "antcrew/crew/fixed_ranges.hpp"
#include "antcrew/crew/split.hpp"
#include "antcrew/crew/standing_crew.hpp"
#include "antcrew/log/phase.hpp"
#include "antcrew/ranks/internal/rank_loops.hpp"
#include "antcrew/ranks/rank_array.hpp"
#include "antcrew/ranks/rank_errors.hpp"

namespace antcrew {

// What the body that asks runs in. Outside of bodies: rank 0 of 1, no communicator.
struct CurrentRank {
  int rank = 0;
  int ranks = 1;
  int threads = 1;  // processors of the host that this rank has to itself, 1 at the least
  MPI_Comm communicator = MPI_COMM_NULL;
};
CurrentRank current_rank() noexcept;

namespace internal {

// A body for ranks: called with First… (an index, a range, or nothing), then what stands for the arguments.
template <class Fn, class... First>
struct SentToRanks {
  template <class... A>
  static constexpr bool with() {
    constexpr bool stateless = Stateless<Fn>;
    static_assert(stateless,
                  "the body for a crew of ranks captures something, which other processes do not have: give it as an "
                  "argument after the body");
    constexpr bool arguments_travel = (RankArgument<A>::travels && ...);
    static_assert(!stateless || arguments_travel,
                  "an argument of the body does not travel between processes (it has pointers, perhaps, as a span, a "
                  "view, an iterator and a function have): the top of antcrew/crew/transfer.hpp says what does, and "
                  "how to teach it to a type");
    if constexpr (stateless && arguments_travel) {
      constexpr bool callable = std::invocable<Fn&, First..., GivenOf<A>...>;
      static_assert(callable,
                    "the body for a crew of ranks is called with an index in collect() and fill(), a Range in fold(), "
                    "nothing in on_each(), and then its arguments: values as const, RankPart<T>& for a RankArray<T>");
      return callable;
    }
    return false;
  }
};

template <class T>
concept ReturnsValue = !std::is_void_v<T>;

}  // namespace internal

class RankCrew {
 public:
  // Collective: all ranks of the communicator make it. Of the options only processes.deadline_s may be asked. Throws
  // Error (crew.options, ranks.program, ranks.byte_order, ranks.mpi) in all ranks.
  explicit RankCrew(MPI_Comm communicator, const CrewOptions& options = {});
  // In rank 0: lets the others go. In the others: serves until then, where serve() was not called.
  ~RankCrew();
  RankCrew(const RankCrew&) = delete;
  RankCrew& operator=(const RankCrew&) = delete;

  static constexpr const char* crew_name = "RankCrew";
  int workers() const noexcept { return team_->ranks(); }
  int rank() const noexcept { return team_->rank(); }
  const CrewFacts& facts() const noexcept { return facts_; }
  std::string host_of(int rank) const { return team_->hello(rank).host; }
  // Processors of a rank's host that it has to itself, 1 at the least: for a ThreadCrew in a body, see current_rank().
  int threads_of(int rank) const { return team_->hello(rank).threads; }
  int threads_here() const { return threads_of(rank()); }

  // Whether ranks did not answer in time: nothing can be called any more.
  bool lost() const noexcept { return team_->lost(); }

  // In ranks other than 0: does what rank 0 orders, until it lets go.
  void serve() { team_->serve(); }

  // fn(i, arguments…) for every i, in order. With chunks or tapering, pieces go to who asks.
  template <class Fn, class... A>
  auto collect(std::size_t n, Split split, Fn, const A&... arguments) {
    if constexpr (internal::SentToRanks<Fn, std::size_t>::template with<A...>()) {
      return made<internal::ByIndex<std::decay_t<Fn>>>("collect", n, split, arguments...);
    }
  }
  template <class Fn, class... A>
  requires(!std::is_same_v<Fn, Split>) auto collect(std::size_t n, Fn fn, const A&... arguments) {
    return collect(n, Split::even(), fn, arguments...);
  }

  // per_range(range, arguments…), combined in rank 0, in index order; the borders depend on n only: the answer of every
  // other crew, to the last bit.
  template <class Start, class PerRange, class Combine, class... A>
  requires(!std::is_same_v<Start, Split>) auto fold(std::size_t n, Start start, PerRange per_range, Combine&& combine,
                                                    const A&... arguments) {
    return fold(n, Split::even(), std::move(start), per_range, combine, arguments...);
  }
  template <class Start, class PerRange, class Combine, class... A>
  auto fold(std::size_t n, Split split, Start start, PerRange, Combine&& combine, const A&... arguments) {
    if constexpr (internal::SentToRanks<PerRange, Range>::template with<A...>()) {
      const std::size_t pieces = internal::fixed_ranges(n);
      auto parts = made<internal::ByFixedRange<std::decay_t<PerRange>>>("fold", pieces, split, n, pieces, arguments...);
      for (auto& part : parts) start = combine(std::move(start), std::move(part));
    }
    return start;
  }

  // body(arguments…) once in each rank. What it returns comes back, by rank, in a Column.
  template <class Fn, class... A>
  auto on_each(Fn, const A&... arguments) {
    if constexpr (internal::SentToRanks<Fn>::template with<A...>()) {
      using Body = std::decay_t<Fn>;
      if constexpr (std::is_void_v<std::invoke_result_t<Body&, internal::GivenOf<A>...>>) {
        done<Body>("on_each", arguments...);
      } else {
        return made<internal::ByRank<Body>>("on_each", static_cast<std::size_t>(workers()), Split::even(),
                                            arguments...);
      }
    }
  }

  // The items in blocks over the ranks. Throws Error (ranks.halo).
  template <class All>
  auto spread(const All& all, const SpreadOptions& options = {}) {
    const std::span items(all);
    using T = std::remove_const_t<typename decltype(items)::element_type>;
    RankArray<T> array = this->array<T>(items.size(), options);
    send_blocks(array, items.data());
    return array;
  }
  // One whose items have no value yet.
  template <class T>
  RankArray<T> array(std::size_t n, const SpreadOptions& options = {}) {
    const internal::RankBlocks blocks(n, options, workers());
    const std::uint64_t id = team_->new_id();
    auto handle = std::make_shared<internal::RankHandle>(team_, id);
    Packer packed;
    packed.put(id);
    packed.put(n);
    packed.put(options);
    const auto make = [id, &blocks](internal::RankSide& side) {
      side.store().keep(id, std::make_shared<RankPart<T>>(side.team().link(), id, blocks));
    };
    team_->run({&array_in_rank<T>, 0, Split::even(), &packed, "array"}, make, [](internal::RankReply&) {});
    return RankArray<T>(std::move(handle), blocks);
  }

  // Another array with the same blocks and, as of now, the same items and edges: each rank copies its own.
  template <class T>
  RankArray<T> copy(const RankArray<T>& from) {
    RankArray<T> to = array<T>(from.size(), from.blocks().options());
    done<internal::CopyPart>("copy", to, from);
    return to;
  }

  // array[i] = fn(i, arguments…), each rank its own items.
  template <class T, class Fn, class... A>
  void fill(RankArray<T>& array, Fn, const A&... arguments) {
    if constexpr (internal::SentToRanks<Fn, std::size_t>::template with<A...>()) {
      done<internal::IntoPart<std::decay_t<Fn>>>("fill", array, arguments...);
    }
  }

  // All items, in rank 0.
  template <class T>
  Column<T> gather(const RankArray<T>& array) {
    Packer packed;
    const std::uint64_t id = array.id();
    packed.put(id);
    internal::RankColumn<T> all(array.size());
    const auto own = [&](internal::RankSide& side) {
      const RankPart<T>& part = side.store().at<RankPart<T>>(id);
      all.make(part.range(), [&](std::size_t i) { return part[i]; });
    };
    team_->run({&gather_in_rank<T>, 0, Split::even(), &packed, "gather"}, own,
               [&](internal::RankReply& reply) { all.take(reply); });
    return std::move(all).finished();
  }

  // The same into items that are there already, as many as the array has: no fresh memory. Throws Error (ranks.gather).
  template <class T, class Into>
  requires std::constructible_from<std::span<T>, Into&> void gather(const RankArray<T>& array, Into&& into) {
    const std::span<T> to(into);
    check_room(to.size(), array.size());
    Packer packed;
    const std::uint64_t id = array.id();
    packed.put(id);
    const auto own = [&](internal::RankSide& side) {
      const RankPart<T>& part = side.store().at<RankPart<T>>(id);
      if (!part.range().empty()) std::memcpy(&to[part.range().first], part.own().data(), part.own().size_bytes());
    };
    team_->run({&gather_in_rank<T>, 0, Split::even(), &packed, "gather"}, own, [&](internal::RankReply& reply) {
      for (const Range& range : reply.ranges) reply.large->read(&to[range.first], range.size() * sizeof(T));
    });
  }

  // Sends a value once, for as many calls as need it.
  template <class T>
  Kept<std::decay_t<T>> keep(T&& value) {
    using Value = std::decay_t<T>;
    static_assert(Travels<Value>, "this type does not travel: see the top of antcrew/crew/transfer.hpp");
    const std::uint64_t id = team_->new_id();
    auto handle = std::make_shared<internal::RankHandle>(team_, id);
    auto own = std::make_shared<const Value>(std::forward<T>(value));
    Packer packed;
    packed.put(id);
    packed.put(*own);
    team_->tell({&keep_in_rank<Value>, 0, Split::even(), &packed, "keep"}, [](internal::RankSide&) {});
    return Kept<Value>(std::move(handle), std::move(own));
  }

  // For studies, whose cells are launched: begins MPI; true in rank 0, false in the others once leave() was called
  // there.
  static bool join(int argc, char** argv);
  // A crew of the ranks that were joined, to be deleted. Throws Error (crew.options; ranks.launch where nobody launched
  // them, or another number of them).
  static RankCrew* of_launched(int workers, const CrewOptions& options);
  static void leave();
  // Around a metered call: see LaunchedCrew. team(): for tests of the crew.
  internal::RankTeam& team() noexcept { return *team_; }
  static void open_log();
  static void close_log(internal::LaneLog& log);
  static double empty_call_s();

  // What their bodies write would be lost.
  template <class... Anything>
  void each(Anything&&...) = delete;
  template <class... Anything>
  void ranges(Anything&&...) = delete;

 private:
  struct Joined {};
  RankCrew(Joined, const CrewOptions& options);

  static void check_room(std::size_t items, std::size_t wanted);
  template <class T>
  static void array_in_rank(internal::RankSide& side) {
    std::uint64_t id = 0;
    std::size_t n = 0;
    SpreadOptions options;
    side.arguments().get(id);
    side.arguments().get(n);
    side.arguments().get(options);
    const internal::RankBlocks blocks(n, options, side.team().ranks());
    side.store().keep(id, std::make_shared<RankPart<T>>(side.team().link(), id, blocks));
  }
  template <class T>
  static void block_in_rank(internal::RankSide& side) {
    std::uint64_t id = 0;
    side.arguments().get(id);
    const std::span<T> all = side.store().at<RankPart<T>>(id).all();
    internal::Incoming block(side.team().link(), 0, internal::result_tag, {}, all.size_bytes(), {});
    block.read(all.data(), all.size_bytes());
    side.team().add_moving(block.took_ns());
  }
  template <class T>
  static void gather_in_rank(internal::RankSide& side) {
    std::uint64_t id = 0;
    side.arguments().get(id);
    const RankPart<T>& part = side.store().at<RankPart<T>>(id);
    Packer made;
    std::vector<Range> ranges;
    if (!part.range().empty()) {
      ranges.push_back(part.range());
      made.apart(part.own().data(), part.own().size_bytes());
    }
    side.reply(ranges, made);
  }
  template <class T>
  static void keep_in_rank(internal::RankSide& side) {
    std::uint64_t id = 0;
    side.arguments().get(id);
    auto value = std::make_shared<T>();
    side.arguments().get(*value);
    side.store().keep(id, std::move(value));
  }

  template <class T>
  void send_blocks(const RankArray<T>& array, const T* items) {
    Packer packed;
    const std::uint64_t id = array.id();
    packed.put(id);
    const auto own = [&](internal::RankSide& side) {
      RankPart<T>& part = side.store().at<RankPart<T>>(id);
      const Range seen = part.seen();
      for (std::size_t i = seen.first; i < seen.last; ++i) part[i] = items[i];
    };
    const auto others = [&] {
      Work moved(internal::bytes_moved);
      std::vector<MPI_Request> under_way;
      for (int rank = 1; rank < workers(); ++rank) {
        const Range seen = array.blocks().seen_by(rank);
        team_->link().begin_block(rank, internal::result_tag, items + seen.first, seen.size() * sizeof(T), under_way);
        moved.add(seen.size() * sizeof(T));
      }
      team_->link().wait_for(under_way);
    };
    team_->tell({&block_in_rank<T>, 0, Split::even(), &packed, "spread"}, own, others);
  }

  template <class Item, class... A>
  auto made(const char* name, std::size_t n, Split split, const A&... arguments) {
    using T = std::decay_t<std::invoke_result_t<Item&, std::size_t, internal::GivenOf<A>...>>;
    static_assert(internal::ReturnsValue<T>, "the body returns nothing: it must return its item or its range's result");
    static_assert(Travels<T>,
                  "what the body returns does not travel between processes (it has pointers, perhaps): the top of "
                  "antcrew/crew/transfer.hpp says what does, and how to teach it to a type");
    Packer packed;
    (internal::RankArgument<A>::put(packed, arguments), ...);
    internal::RankColumn<T> all(n);
    const auto own = [&](internal::RankSide& side) {
      const auto given = std::forward_as_tuple(internal::RankArgument<A>::local(side.store(), arguments)...);
      std::apply(
          [&](auto&... one) {
            side.pieces([&](Range range) { all.make(range, [&](std::size_t i) -> T { return Item()(i, one...); }); });
          },
          given);
    };
    team_->run({&internal::make_in_rank<T, Item, A...>, n, split, &packed, name}, own,
               [&](internal::RankReply& reply) { all.take(reply); });
    return std::move(all).finished();
  }

  template <class Item, class... A>
  void done(const char* name, const A&... arguments) {
    Packer packed;
    (internal::RankArgument<A>::put(packed, arguments), ...);
    const auto own = [&](internal::RankSide& side) {
      side.once([&] { Item()(internal::RankArgument<A>::local(side.store(), arguments)...); });
    };
    team_->run({&internal::do_in_rank<Item, A...>, 0, Split::even(), &packed, name}, own, [](internal::RankReply&) {});
  }

  std::shared_ptr<internal::RankTeam> team_;
  bool lets_go_ = true;  // at its end
  CrewFacts facts_;
};

// Runs the body in rank 0, with the crew of all ranks, while the others serve; what it returns is the program's exit
// code (0 in the others). Begins MPI unless that was done, and ends what it began. What the body throws is told in one
// line on standard error: exit code 1, or, where ranks no longer answer, the end of all of them.
int on_ranks(int argc, char** argv, const std::function<int(RankCrew&)>& body, const CrewOptions& options = {});

}  // namespace antcrew
