// What the loops of crews of processes have in common: how a region is ordered, and what becomes of what comes back.
#pragma once

#include <cstddef>
#include <memory>
#include <numeric>
#include <type_traits>
#include <utility>
#include <vector>

#include "antcrew/base/enough.hpp"
#include "antcrew/crew/column.hpp"
#include "antcrew/crew/fixed_ranges.hpp"
#include "antcrew/crew/internal/fill.hpp"
#include "antcrew/crew/internal/mistakes.hpp"
#include "antcrew/crew/internal/processes/process_team.hpp"
#include "antcrew/crew/internal/processes/worker_side.hpp"
#include "antcrew/crew/internal/results.hpp"

namespace antcrew::internal {

// fn(i) -> value that can be sent.
template <class Fn>
constexpr bool sends_items() {
  if constexpr (makes_items<Fn>()) {
    constexpr bool travels = Travels<std::decay_t<std::invoke_result_t<Fn&, std::size_t>>>;
    static_assert(travels,
                  "what the body returns does not travel between processes (it has pointers, perhaps): the top of "
                  "antcrew/crew/transfer.hpp says what does, and how to teach it to a type");
    return travels;
  } else {
    return false;
  }
}

// Below this many bytes of results for each worker, a memory file costs more than it saves.
inline constexpr std::size_t worth_handing_over = 64 * 1024;
// A part of a memory file is a mapping of its own in the parent, of which the kernel allows some 65,000.
inline constexpr std::size_t most_parts = 16 * 1024;

// The elements between two borders that lie at the start of a page.
template <class T>
constexpr std::size_t elements_between_pages() noexcept {
  return std::lcm(sizeof(T), page_bytes) / sizeof(T);
}

// Where a crew's results may be cut so that each piece can be mapped without a copy. Pieces of chunks grow to whole
// pages.
template <class T>
void order_whole_pages(RegionOrder& order) {
  const std::size_t quantum = elements_between_pages<T>();
  const std::size_t units = (order.n + quantum - 1) / quantum;
  order.unit = quantum * ((units - 1) / most_parts + 1);
  const std::size_t items = (order.split.items() + order.unit - 1) / order.unit;
  if (order.split.kind() == Split::Kind::chunks) order.split = Split::chunks(items);
  if (order.split.kind() == Split::Kind::tapering) order.split = Split::tapering(items);
}

template <class T>
RegionOrder order_for(std::size_t n, Split split, Way way, int workers) {
  RegionOrder order;
  order.n = n;
  order.split = split;
  order.way = way;
  if constexpr (Plain<T> && !PacksItself<T>) {
    if (n * sizeof(T) < worth_handing_over * static_cast<std::size_t>(workers)) order.way = Way::copied;
    if (order.way == Way::zero_copy) order_whole_pages<T>(order);
    order.only_letters = split.kind() == Split::Kind::even && n <= letter_room / 2 / sizeof(T);
  }
  return order;
}

// Elements as they come, put where they belong.
template <class T>
class CopiedColumn : public Sink {
 public:
  explicit CopiedColumn(std::size_t n) : filler_(n) {}
  void take(Parcel& parcel) override {
    if constexpr (Plain<T> && !PacksItself<T>) {
      for (const Range& range : parcel.ranges) {
        parcel.large->read(static_cast<void*>(filler_.raw() + range.first), range.size() * sizeof(T));
      }
    } else {
      unpack_all(parcel);
    }
  }
  Column<T> finished() { return std::move(filler_).finished(); }

 private:
  // All of a parcel before any of it is kept: its worker may die inside it, and the range be done again.
  void unpack_all(Parcel& parcel) {
    std::vector<T> values;
    Unpacker from(parcel.small.data(), parcel.small.size(), *parcel.large);
    for (const Range& range : parcel.ranges) {
      for (std::size_t i = range.first; i < range.last; ++i) {
        T value{};
        from.get(value);
        values.push_back(std::move(value));
      }
    }
    auto next = values.begin();
    const auto move_on = [&](std::size_t) { return std::move(*next++); };
    for (const Range& range : parcel.ranges) filler_.fill(range, never_enough, move_on);
  }

  Filler<T> filler_;
};

template <class T>
class AssembledColumn : public Sink {
 public:
  explicit AssembledColumn(std::size_t n) : n_(n), assembly_(whole_pages(n * sizeof(T))) {}
  void take(Parcel& parcel) override {
    for (const Range& range : parcel.ranges) {
      assembly_.put(parcel.file, range.first * sizeof(T), whole_pages(range.last * sizeof(T)));
    }
  }
  Column<T> finished() {
    return Column<T>::adopt_mapping(static_cast<T*>(assembly_.release()), n_, whole_pages(n_ * sizeof(T)));
  }

 private:
  std::size_t n_;
  Assembly assembly_;
};

class NothingComesBack : public Sink {
 public:
  void take(Parcel&) override {}
};

// run(order, sink): has the order carried out.
template <class T, class Run>
Column<T> column_from(const RegionOrder& order, const AnyStopToken& stop, Run&& run) {
  const auto taken_with = [&](auto sink) {
    run(order, *sink);
    refuse_half(stop, "collect");
    return sink->finished();
  };
  if constexpr (Plain<T> && !PacksItself<T>) {
    if (order.way == Way::zero_copy) return taken_with(std::make_unique<AssembledColumn<T>>(order.n));
  }
  return taken_with(std::make_unique<CopiedColumn<T>>(order.n));
}

}  // namespace antcrew::internal
