// How bodies get their arguments in a rank, and how what they make comes together in rank 0.
#pragma once

#include <algorithm>
#include <cstddef>
#include <cstring>
#include <deque>
#include <memory>
#include <new>
#include <tuple>
#include <type_traits>
#include <utility>
#include <vector>

#include "antcrew/base/owned.hpp"
#include "antcrew/base/range.hpp"
#include "antcrew/crew/column.hpp"
#include "antcrew/crew/transfer.hpp"
#include "antcrew/ranks/internal/rank_team.hpp"
#include "antcrew/ranks/rank_array.hpp"

namespace antcrew::internal {

// An argument A: what is sent of it, and what the body is given in its place. A value is sent whole.
template <class A>
struct RankArgument {
  using Given = const A&;
  static constexpr bool travels = Travels<A>;
  static void put(Packer& to, const A& value) { to.put(value); }
  static Given local(RankStore&, const A& value) { return value; }
  struct Taken {
    A value{};
    void get(Unpacker& from, RankStore&) { from.get(value); }
    Given given() { return value; }
  };
};
template <class T>
struct RankArgument<RankArray<T>> {
  using Given = RankPart<T>&;
  static constexpr bool travels = true;
  static void put(Packer& to, const RankArray<T>& array) {
    const std::uint64_t id = array.id();
    to.put(id);
  }
  static Given local(RankStore& store, const RankArray<T>& array) { return store.at<RankPart<T>>(array.id()); }
  struct Taken {
    RankPart<T>* part = nullptr;
    void get(Unpacker& from, RankStore& store) {
      std::uint64_t id = 0;
      from.get(id);
      part = &store.at<RankPart<T>>(id);
    }
    Given given() { return *part; }
  };
};
template <class T>
struct RankArgument<Kept<T>> {
  using Given = const T&;
  static constexpr bool travels = true;
  static void put(Packer& to, const Kept<T>& kept) {
    const std::uint64_t id = kept.id();
    to.put(id);
  }
  static Given local(RankStore&, const Kept<T>& kept) { return kept.value(); }
  struct Taken {
    const T* value = nullptr;
    void get(Unpacker& from, RankStore& store) {
      std::uint64_t id = 0;
      from.get(id);
      value = &store.at<T>(id);
    }
    Given given() { return *value; }
  };
};

template <class A>
using GivenOf = typename RankArgument<A>::Given;

// fn(given…) with what was sent along, in a rank.
template <class... A, class Fn>
decltype(auto) with_arguments(RankSide& side, Fn&& fn) {
  std::tuple<typename RankArgument<A>::Taken...> taken;
  std::apply([&](auto&... one) { (one.get(side.arguments(), side.store()), ...); }, taken);
  return std::apply([&](auto&... one) -> decltype(auto) { return fn(one.given()...); }, taken);
}

template <class T>
inline constexpr bool goes_as_it_lies = Plain<T> && !PacksItself<T>;

// What a rank makes of its pieces, until it is sent: plain items in one block, others packed.
template <class T>
class RankResults {
 public:
  template <class Fn>
  void make(Range range, Fn&& fn) {
    if constexpr (goes_as_it_lies<T>) {
      grow(count_ + range.size());
      T* to = items_.get() + count_;
      for (std::size_t i = range.first; i < range.last; ++i)
        ::new (static_cast<void*>(to + (i - range.first))) T(fn(i));
      count_ += range.size();
    } else {
      for (std::size_t i = range.first; i < range.last; ++i) packed_.push_back(fn(i));
    }
    if (!ranges_.empty() && ranges_.back().last == range.first) {
      ranges_.back().last = range.last;
    } else {
      ranges_.push_back(range);
    }
  }
  void send(RankSide& side) {
    Packer made;
    if constexpr (goes_as_it_lies<T>) {
      if (count_ > 0) made.apart(items_.get(), count_ * sizeof(T));
    } else {
      for (const T& item : packed_) made.put(item);
    }
    side.reply(ranges_, made);
  }

 private:
  struct Release {
    void operator()(T* items) const noexcept { Column<T>::release(items); }
  };
  void grow(std::size_t wanted) {
    if (wanted <= room_) return;
    const std::size_t room = count_ == 0 ? wanted : wanted + wanted / 2;
    std::unique_ptr<T, Release> larger(Column<T>::allocate(room));
    if (count_ > 0) std::memcpy(static_cast<void*>(larger.get()), items_.get(), count_ * sizeof(T));
    items_ = std::move(larger);
    room_ = room;
  }

  std::vector<Range> ranges_;
  std::unique_ptr<T, Release> items_;
  std::size_t count_ = 0;
  std::size_t room_ = 0;
  std::deque<T> packed_;  // large blocks are sent from where they lie
};

// In rank 0: items of all ranks, each put where it belongs. Rank 0's own may be made while others come in.
template <class T>
class RankColumn {
 public:
  explicit RankColumn(std::size_t n) : items_(Column<T>::allocate(n)), n_(n) {}
  RankColumn(const RankColumn&) = delete;
  RankColumn& operator=(const RankColumn&) = delete;
  ~RankColumn() {
    if (items_ == nullptr) return;
    for (const auto* made : {&own_, &come_}) {
      for (const Range& range : *made) destroy_items(items_ + range.first, range.size());
    }
    Column<T>::release(items_);
  }

  template <class Fn>
  void make(Range range, Fn&& fn) {
    if constexpr (std::is_trivially_destructible_v<T>) {
      for (std::size_t i = range.first; i < range.last; ++i) ::new (static_cast<void*>(items_ + i)) T(fn(i));
    } else {
      Growing made(own_, range.first);
      for (std::size_t i = range.first; i < range.last; ++i, ++made.range.last) {
        ::new (static_cast<void*>(items_ + i)) T(fn(i));
      }
    }
  }
  void take(RankReply& reply) {
    if constexpr (goes_as_it_lies<T>) {
      take_plain(reply);
    } else {
      Unpacker from(reply.small.data(), reply.small.size(), *reply.large);
      for (const Range& range : reply.ranges) {
        Growing made(come_, range.first);
        for (std::size_t i = range.first; i < range.last; ++i, ++made.range.last) {
          T value{};
          from.get(value);
          ::new (static_cast<void*>(items_ + i)) T(std::move(value));
        }
      }
    }
  }
  Column<T> finished() && noexcept { return Column<T>::adopt(std::exchange(items_, nullptr), n_); }

 private:
  // Notes what was made of a range, also where making the next one throws.
  struct Growing {
    Growing(std::vector<Range>& its_list, std::size_t first) : list(its_list), range{first, first} {
      list.reserve(list.size() + 1);
    }
    ~Growing() { list.push_back(range); }
    Growing(const Growing&) = delete;
    Growing& operator=(const Growing&) = delete;
    std::vector<Range>& list;
    Range range;
  };

  void take_plain(RankReply& reply) {
    if (reply.ranges.empty()) return;
    if (reply.ranges.size() == 1) {
      const Range range = reply.ranges.front();
      return reply.large->read(static_cast<void*>(items_ + range.first), range.size() * sizeof(T));
    }
    for (const Range& range : reply.ranges) {
      reply.large->read(static_cast<void*>(items_ + range.first), range.size() * sizeof(T));
    }
  }

  T* items_;
  std::size_t n_;
  std::vector<Range> own_;
  std::vector<Range> come_;
};

// Items that a stateless Item makes as Item()(i, given…).
template <class T, class Item, class... A>
void make_in_rank(RankSide& side) {
  RankResults<T> made;
  with_arguments<A...>(side, [&](auto&&... given) {
    side.pieces([&](Range range) { made.make(range, [&](std::size_t i) -> T { return Item()(i, given...); }); });
  });
  made.send(side);
}
// The same, where nothing comes back: Item()(given…) once in each rank.
template <class Item, class... A>
void do_in_rank(RankSide& side) {
  with_arguments<A...>(side, [&](auto&&... given) { side.once([&] { Item()(given...); }); });
}

// Bodies of the crew's own around those of users.
template <class Fn>
struct ByIndex {
  template <class... Given>
  auto operator()(std::size_t i, Given&&... given) const {
    return Fn()(i, given...);
  }
};
template <class Fn>
struct ByRank {
  template <class... Given>
  auto operator()(std::size_t, Given&&... given) const {
    return Fn()(given...);
  }
};
template <class PerRange>
struct ByFixedRange {
  template <class... Given>
  auto operator()(std::size_t k, const std::size_t& n, const std::size_t& pieces, Given&&... given) const {
    return PerRange()(even_part(n, pieces, k), given...);
  }
};
template <class Fn>
struct IntoPart {
  template <class Part, class... Given>
  void operator()(Part& part, Given&&... given) const {
    for (const std::size_t i : part.range()) part[i] = Fn()(i, given...);
  }
};

struct CopyPart {
  template <class T>
  void operator()(RankPart<T>& to, RankPart<T>& from) const {
    std::copy(from.all().begin(), from.all().end(), to.all().begin());
  }
};

}  // namespace antcrew::internal
