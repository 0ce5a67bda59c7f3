// A map that many workers fill and ask at the same time.
//
//   KeyMap<std::uint32_t, std::size_t> seen;
//   crew.each(readings, [&](const Reading& r) { seen.add(r.species, 1); });         // counting and summing
//   KeyMap<std::string, Track> tracks;
//   tracks.update(tag, [&](Track& t) { t.add(fix); });                              // anything else, in place
//   for (auto& [species, count] : seen.take_sorted()) …
//
// Any thread may add, update, insert and find at any time. update() has the value to itself; fn must not touch the same
// map. add() to numbers is for keys that come again and again: each worker sums up for itself the first keys that it
// meets (1.5 million, some 32 MiB each), the rest where all workers meet, and find() sees all of it. One map is either
// added to or updated: the other throws Error (keys.mixed). Values are handed out as copies, so nothing another worker
// does can make one invalid. walk() and take_sorted() are for when nobody adds. Sums of floating-point numbers depend
// on which worker met which.
#pragma once

#include <algorithm>
#include <atomic>
#include <cstddef>
#include <functional>
#include <optional>
#include <type_traits>
#include <utility>
#include <vector>

#include "antcrew/algorithm/sort.hpp"
#include "antcrew/machine/cache_line.hpp"
#include "antcrew/machine/lock.hpp"
#include "antcrew/machine/per_thread.hpp"
#include "antcrew/share/internal/key_sums.hpp"
#include "antcrew/share/internal/key_table.hpp"
#include "antcrew/share/internal/key_words.hpp"

namespace antcrew {

namespace internal {

[[noreturn]] void refuse_mixing();

template <class K, class V>
struct ValueNode {
  std::uint64_t hash;
  K key;
  V value;
  Lock lock;
};

}  // namespace internal

template <class K, class V, class Hash = std::hash<K>, class Equal = std::equal_to<K>>
class KeyMap {
  using Node = internal::ValueNode<K, V>;
  using Table = internal::KeyTable<internal::HashOfNode<Node>>;
  static constexpr bool summed = std::is_arithmetic_v<V> && !std::is_same_v<V, bool> && sizeof(V) <= 8;
  static constexpr bool summed_apart = summed && internal::bits_stand_for<K, Hash, Equal>;
  using Bits = std::conditional_t<sizeof(K) <= 4, std::uint32_t, std::uint64_t>;
  using Sums = std::conditional_t<summed_apart, internal::KeySums<Bits, V>, internal::NoSums>;

 public:
  KeyMap() = default;
  ~KeyMap() { drop(); }
  KeyMap(const KeyMap&) = delete;
  KeyMap& operator=(const KeyMap&) = delete;

  // value += amount, from V() when the key is new.
  void add(const K& key, const V& amount) {
    if constexpr (summed) {
      begin(Use::added);
      if constexpr (summed_apart) {
        const auto bits = static_cast<Bits>(internal::bits_of(key));
        Sums& mine = sums_.mine();
        // A key that is new when the worker's own sums are full goes where all workers meet.
        if (bits != 0 && mine.add(internal::mixed(bits), bits, amount)) return;
      }
      std::atomic_ref<V>(node(key).value).fetch_add(amount, std::memory_order_relaxed);
    } else {
      update(key, [&](V& value) { value = static_cast<V>(value + amount); });
    }
  }

  // fn(V&), alone with the value, which is V() when the key is new. Returns what fn returns.
  template <class Fn>
  auto update(const K& key, Fn&& fn) {
    begin(Use::updated);
    Node& at = node(key);
    const std::lock_guard<internal::Lock> held(at.lock);
    return fn(at.value);
  }

  // Whether the key was new; the value of one that was there stays.
  bool insert(const K& key, V value) {
    begin(Use::updated);
    bool added = false;
    find_or_make(key, std::move(value), added);
    return added;
  }

  // A copy of the value; nothing when the key is not there.
  std::optional<V> find(const K& key) const {
    const std::uint64_t hash = internal::hash_of<K, Hash, Equal>(key);
    if constexpr (summed) {
      if (use_.load(std::memory_order_relaxed) == Use::added) return total(hash, key);
    }
    Node* at = find_node(hash, key);
    if (at == nullptr) return std::nullopt;
    const std::lock_guard<internal::Lock> held(at->lock);
    return at->value;
  }
  bool contains(const K& key) const { return find(key).has_value(); }

  // How many keys. For when nobody adds, as are the following. After an add, it goes once through the room that the
  // workers' own sums have: 0.3 ms for 100,000 keys, 8 ms for more than a million.
  std::size_t size() {
    gather();
    return table_.size();
  }

  // fn(const K&, const V&) for every key, in no order.
  template <class Fn>
  void walk(Fn&& fn) {
    gather();
    table_.walk([&](std::uint64_t word) {
      const Node& at = *internal::node_of<Node>(word);
      fn(at.key, at.value);
    });
  }

  // Makes room for so many keys at once; what is there stays. For when nobody adds.
  void reserve(std::size_t keys) { table_.reserve(keys); }

  // All keys with their values, ascending by key; the map is empty afterwards. With a crew, its workers sort. When that
  // throws (a comparison, std::bad_alloc, Error crew.busy), the map is as it was.
  std::vector<std::pair<K, V>> take_sorted() {
    return take([](auto& all, const auto& less) { std::sort(all.begin(), all.end(), less); });
  }
  template <class Crew>
  std::vector<std::pair<K, V>> take_sorted(Crew& crew) {
    const auto held = crew.hold();
    return take([&](auto& all, const auto& less) { antcrew::sort(crew, all, less); });
  }

 private:
  // Plain keys and sums are copied out, others sorted where they lie: nothing is moved before nothing can go wrong any
  // more.
  template <class Sort>
  std::vector<std::pair<K, V>> take(const Sort& sort) {
    std::vector<std::pair<K, V>> all;
    if constexpr (summed_apart) {
      std::size_t count = table_.size();
      sums_.visit([&](const Sums& sums) { count += sums.size(); });
      all.reserve(count);
      table_.walk([&](std::uint64_t word) {
        const Node& at = *internal::node_of<Node>(word);
        all.emplace_back(at.key, at.value);
      });
      sums_.visit([&](const Sums& sums) {
        sums.walk([&](Bits bits, V amount) { all.emplace_back(internal::key_of_bits<K>(bits), amount); });
      });
      sort(all, [](const auto& a, const auto& b) { return a.first < b.first; });
      add_up_equal(all);
    } else {
      std::vector<Node*> nodes;
      nodes.reserve(table_.size());
      all.reserve(table_.size());
      table_.walk([&](std::uint64_t word) { nodes.push_back(internal::node_of<Node>(word)); });
      sort(nodes, [](const Node* a, const Node* b) { return a->key < b->key; });
      for (Node* node : nodes) all.emplace_back(std::move(node->key), std::move(node->value));
    }
    drop();
    table_.reset();
    sums_.visit([](Sums& sums) { sums.reset(); });
    use_.store(Use::none);
    return all;
  }

  // Several workers' sums of one key lie side by side.
  static void add_up_equal(std::vector<std::pair<K, V>>& all) {
    auto last = all.begin();
    for (auto at = all.begin(); at != all.end(); ++at) {
      if (at == last) continue;
      if (at->first == last->first) {
        last->second = static_cast<V>(last->second + at->second);
      } else {
        *++last = *at;
      }
    }
    if (last != all.end()) all.erase(last + 1, all.end());
  }

  enum class Use : int { none, added, updated };

  void begin(Use use) {
    Use now = use_.load(std::memory_order_relaxed);
    if (now == use) [[likely]]
      return;
    if (now == Use::none && use_.compare_exchange_strong(now, use, std::memory_order_relaxed)) return;
    if (now != use) internal::refuse_mixing();
  }

  Node& node(const K& key) {
    bool added = false;
    return find_or_make(key, V(), added);
  }
  Node& find_or_make(const K& key, V&& value, bool& added) {
    const std::uint64_t hash = internal::hash_of<K, Hash, Equal>(key);
    const internal::IsNode<Node, K, Equal> same{hash, key};
    const auto make = [&] { return internal::word_of(new Node{hash, key, std::move(value), {}}, hash); };
    const auto found = table_.find_or_add(hash, same, make);
    added = found.added;
    return *internal::node_of<Node>(found.word);
  }
  Node* find_node(std::uint64_t hash, const K& key) const {
    const std::uint64_t word = table_.find(hash, internal::IsNode<Node, K, Equal>{hash, key});
    return word == 0 ? nullptr : internal::node_of<Node>(word);
  }

  // What has been added to the key, here and in all workers' sums. Asked again when sums were handed over meanwhile.
  std::optional<V> total(std::uint64_t hash, const K& key) const {
    while (true) {
      const std::uint32_t before = handed_over_.load(std::memory_order_acquire);
      std::optional<V> sum;
      if constexpr (summed_apart) {
        const auto bits = static_cast<Bits>(internal::bits_of(key));
        if (bits != 0)
          sums_.visit([&](const Sums& sums) {
            if (const auto part = sums.find(hash, bits)) sum = static_cast<V>(sum.value_or(V()) + *part);
          });
      }
      if (Node* at = find_node(hash, key)) {
        sum = static_cast<V>(sum.value_or(V()) + std::atomic_ref<V>(at->value).load(std::memory_order_acquire));
      }
      if (before % 2 == 0 && handed_over_.load(std::memory_order_acquire) == before) return sum;
      internal::relax();
    }
  }

  // Into the table, where all workers meet.
  void hand_over(Sums& sums) {
    if constexpr (summed_apart) {
      const internal::LockHeld one_at_a_time(handing_over_);
      struct Under {
        std::atomic<std::uint32_t>& way;
        explicit Under(std::atomic<std::uint32_t>& its_way) : way(its_way) {
          way.fetch_add(1, std::memory_order_acq_rel);
        }
        ~Under() { way.fetch_add(1, std::memory_order_release); }
      } const under(handed_over_);
      sums.hand_over([&](Bits bits, V amount) {
        std::atomic_ref<V>(node(internal::key_of_bits<K>(bits)).value).fetch_add(amount, std::memory_order_release);
      });
    }
  }
  void gather() {
    sums_.visit([&](Sums& sums) {
      if (sums.size() > 0) hand_over(sums);
    });
  }

  void drop() noexcept {
    table_.walk([](std::uint64_t word) { delete internal::node_of<Node>(word); });
  }

  Table table_;
  internal::PerThread<Sums> sums_;
  alignas(internal::line_bytes) std::atomic<Use> use_{Use::none};
  alignas(internal::line_bytes) std::atomic<std::uint32_t> handed_over_{0};  // odd while one is at it
  internal::Lock handing_over_;
};

}  // namespace antcrew
