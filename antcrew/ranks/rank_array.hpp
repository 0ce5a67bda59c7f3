// An array whose items lie in the ranks of a crew, in blocks, each with the edges of its neighbours beside it.
//
//   RankArray<double> depth = crew.spread(grid.depth, {.halo = grid.columns});     // whole rows, a row to either side
//   crew.on_each([](RankPart<double>& mine, const Shape& shape) {
//     for (std::size_t i : mine.range()) … mine[i - shape.columns] … mine[i + shape.columns] …
//   }, depth, shape);
//   depth.exchange();                                                              // edges as they are now
//
// RankArray is rank 0's handle: cheap to copy; when the last copy is gone, so is the array. RankPart is what a body is
// given in its place: this rank's block. Items are plain types. A part of a rank that has no block is empty.
#pragma once

#include <cstddef>
#include <cstdint>
#include <memory>
#include <span>
#include <string>
#include <vector>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/column.hpp"
#include "antcrew/crew/transfer.hpp"
#include "antcrew/ranks/internal/rank_team.hpp"

namespace antcrew {

struct SpreadOptions {
  std::size_t halo = 0;  // items to either side that each rank sees of its neighbours
  std::size_t unit = 0;  // a block is a whole number of so many items; 0 = as many as the halo has, or 1
};

namespace internal {

// Which items each rank has. Throws Error (ranks.halo) where an edge would reach past a neighbour.
class RankBlocks {
 public:
  RankBlocks(std::size_t n, SpreadOptions options, int ranks);

  std::size_t size() const noexcept { return n_; }
  std::size_t halo() const noexcept { return halo_; }
  SpreadOptions options() const noexcept { return {halo_, unit_}; }
  Range of(int rank) const noexcept;
  // With what it sees of its neighbours.
  Range seen_by(int rank) const noexcept;
  // The next rank that has items; -1 = none.
  int before(int rank) const noexcept { return rank > 0 && !of(rank).empty() ? rank - 1 : -1; }
  int after(int rank) const noexcept { return rank + 1 < ranks_ && !of(rank + 1).empty() ? rank + 1 : -1; }

 private:
  std::size_t n_;
  std::size_t halo_;
  std::size_t unit_;
  int ranks_;
};

// Memory that begins with a line of the cache; null for no bytes. Throws std::bad_alloc. Arrays of one size come and
// go: unlike from an aligned new, which leaves slivers that others take, the next one fits where the last one was.
void* new_block(std::size_t bytes);
void free_block(void* block) noexcept;

}  // namespace internal

template <class T>
class RankPart {
  static_assert(Plain<T> && !internal::PacksItself<T>, "the items of a RankArray must be plain: no pointers, no views");

 public:
  RankPart(internal::Link& link, std::uint64_t id, const internal::RankBlocks& blocks)
      : link_(&link),
        tag_(internal::edge_tag + 2 * static_cast<int>(id % 8000)),
        before_(blocks.before(link.rank())),
        after_(blocks.after(link.rank())),
        range_(blocks.of(link.rank())),
        seen_(blocks.seen_by(link.rank())),
        halo_(blocks.halo()),
        items_(static_cast<T*>(internal::new_block(seen_.size() * sizeof(T)))) {
    if (halo_ > most_items) {
      base_layer::bad_input("ranks.halo", "RankCrew", "a halo of " + std::to_string(halo_) + " items is too long",
                            "2 GiB can be exchanged at once");
    }
  }
  ~RankPart() {
    // Neighbours may still write into the edges.
    try {
      end_exchange();
    } catch (...) {
      items_.release();
    }
  }
  RankPart(const RankPart&) = delete;
  RankPart& operator=(const RankPart&) = delete;

  // Of the whole array, that this rank has; and with the edges.
  Range range() const noexcept { return range_; }
  Range seen() const noexcept { return seen_; }
  // By the index in the whole array, inside seen().
  T& operator[](std::size_t i) noexcept { return items_.get()[i - seen_.first]; }
  const T& operator[](std::size_t i) const noexcept { return items_.get()[i - seen_.first]; }
  // This rank's own items.
  std::span<T> own() noexcept { return {items_.get() + (range_.first - seen_.first), range_.size()}; }
  std::span<const T> own() const noexcept { return {items_.get() + (range_.first - seen_.first), range_.size()}; }
  // With the edges.
  std::span<T> all() noexcept { return {items_.get(), seen_.size()}; }

  // Brings the edges up to date with the neighbours, who must do the same. Between begin and end, own items may be read
  // but not written, and edges neither. A body that works in steps of its own calls these; RankArray's call them in all
  // ranks.
  void exchange() {
    begin_exchange();
    end_exchange();
  }
  void begin_exchange() {
    end_exchange();
    const std::span<T> mine = own();
    if (halo_ == 0 || mine.empty()) return;
    receive(before_, tag_, items_.get(), range_.first - seen_.first);
    receive(after_, tag_ + 1, mine.data() + mine.size(), seen_.last - range_.last);
    send(after_, tag_, mine.data() + (mine.size() - halo_));
    send(before_, tag_ + 1, mine.data());
  }
  void end_exchange() {
    link_->wait_for(under_way_, whose_);
    whose_.clear();
  }

 private:
  struct Release {
    void operator()(T* items) const noexcept { internal::free_block(items); }
  };
  static constexpr std::size_t most_items = 0x7fffffff / sizeof(T);
  static int count(std::size_t items) noexcept { return static_cast<int>(items * sizeof(T)); }
  void receive(int from, int tag, T* to, std::size_t items) {
    if (from < 0) return;
    MPI_Request request;
    internal::checked(MPI_Irecv(to, count(items), MPI_BYTE, from, tag, link_->communicator(), &request), "MPI_Irecv");
    under_way_.push_back(request);
    whose_.push_back(from);
  }
  void send(int to, int tag, const T* from) {
    if (to < 0) return;
    MPI_Request request;
    internal::checked(MPI_Isend(from, count(halo_), MPI_BYTE, to, tag, link_->communicator(), &request), "MPI_Isend");
    under_way_.push_back(request);
    link_->note_edge(to, halo_ * sizeof(T));
  }

  internal::Link* link_;
  int tag_;
  int before_;
  int after_;
  Range range_;
  Range seen_;
  std::size_t halo_;
  std::unique_ptr<T, Release> items_;
  std::vector<MPI_Request> under_way_;
  std::vector<int> whose_;  // the messages that come, which are the first of them
};

namespace internal {

// Something that all ranks keep, by number; told to be forgotten when its last handle goes. The team may be gone then.
class RankHandle {
 public:
  RankHandle(std::shared_ptr<RankTeam> team, std::uint64_t id) : team_(std::move(team)), id_(id) {}
  ~RankHandle() { team_->forget(id_); }
  RankHandle(const RankHandle&) = delete;
  RankHandle& operator=(const RankHandle&) = delete;
  std::uint64_t id() const noexcept { return id_; }
  RankTeam& team() const noexcept { return *team_; }

 private:
  std::shared_ptr<RankTeam> team_;
  std::uint64_t id_;
};

template <class T, void (RankPart<T>::*step)()>
void step_of_exchange(RankSide& side) {
  std::uint64_t id = 0;
  side.arguments().get(id);
  (side.store().at<RankPart<T>>(id).*step)();
}

}  // namespace internal

template <class T>
class RankArray {
 public:
  RankArray() = default;
  std::size_t size() const noexcept { return blocks_ ? blocks_->size() : 0; }
  Range range_of(int rank) const noexcept { return blocks_ ? blocks_->of(rank) : Range(); }

  // In all ranks; rank 0 does not wait for the others. What goes wrong in one is told by the next call that waits.
  void exchange() { step<&RankPart<T>::exchange>(); }
  void begin_exchange() { step<&RankPart<T>::begin_exchange>(); }
  void end_exchange() { step<&RankPart<T>::end_exchange>(); }

  // For the crew.
  RankArray(std::shared_ptr<internal::RankHandle> handle, const internal::RankBlocks& blocks)
      : handle_(std::move(handle)), blocks_(std::make_shared<const internal::RankBlocks>(blocks)) {}
  std::uint64_t id() const {
    if (!handle_) base_layer::bad_input("ranks.array", "RankArray", "it has no items yet", "let a RankCrew make it");
    return handle_->id();
  }
  const internal::RankBlocks& blocks() const noexcept { return *blocks_; }

 private:
  template <void (RankPart<T>::*how)()>
  void step() {
    Packer packed;
    const std::uint64_t number = id();
    packed.put(number);
    handle_->team().tell({&internal::step_of_exchange<T, how>, 0, Split::even(), &packed, "exchange"},
                         [&](internal::RankSide& side) { (side.store().at<RankPart<T>>(number).*how)(); });
  }

  std::shared_ptr<internal::RankHandle> handle_;
  std::shared_ptr<const internal::RankBlocks> blocks_;
};

// A value that all ranks have: sent once, for as many calls as need it. A body is given it as const T&.
template <class T>
class Kept {
 public:
  const T& value() const noexcept { return *value_; }

  // For the crew.
  Kept(std::shared_ptr<internal::RankHandle> handle, std::shared_ptr<const T> value)
      : handle_(std::move(handle)), value_(std::move(value)) {}
  std::uint64_t id() const noexcept { return handle_->id(); }

 private:
  std::shared_ptr<internal::RankHandle> handle_;
  std::shared_ptr<const T> value_;
};

}  // namespace antcrew
