// A set of keys that many workers fill and ask at the same time.
//
//   KeySet<std::uint32_t> species;
//   crew.each(readings, [&](const Reading& r) { species.insert(r.species); });
//   std::vector<std::uint32_t> all = species.take_sorted();
//
// Any thread may insert and ask at any time: a key that is there already costs a look without a lock. Keys are never
// taken out singly, so nothing another worker does makes a key move that one has seen. walk() and take_sorted() are for
// when nobody inserts. Integers, enumerations and pointers take 8 bytes at a load of 3/8 to 3/4, and so does what
// keys_are_their_bits is said of; others an allocation each.
#pragma once

#include <algorithm>
#include <atomic>
#include <cstddef>
#include <functional>
#include <utility>
#include <vector>

#include "antcrew/algorithm/sort.hpp"
#include "antcrew/machine/cache_line.hpp"
#include "antcrew/share/internal/key_table.hpp"
#include "antcrew/share/internal/key_words.hpp"

namespace antcrew {

template <class K, class Hash = std::hash<K>, class Equal = std::equal_to<K>>
class KeySet {
  static constexpr bool small = internal::bits_stand_for<K, Hash, Equal>;
  using Node = internal::KeyNode<K>;
  using HashOf = std::conditional_t<small, internal::HashOfBits, internal::HashOfNode<Node>>;
  using Table = internal::KeyTable<HashOf>;

 public:
  KeySet() = default;
  ~KeySet() { drop(); }
  KeySet(const KeySet&) = delete;
  KeySet& operator=(const KeySet&) = delete;

  // Whether the key is new: true for exactly one of several workers that insert it at once.
  bool insert(const K& key) {
    if constexpr (small) {
      const std::uint64_t bits = internal::bits_of(key);
      if (bits == 0) return !zero_.load(std::memory_order_relaxed) && !zero_.exchange(true);
      return table_.add_new(internal::mixed(bits), bits);
    } else {
      const std::uint64_t hash = internal::hash_of<K, Hash, Equal>(key);
      const internal::IsNode<Node, K, Equal> same{hash, key};
      return table_.find_or_add(hash, same, [&] { return internal::word_of(new Node{hash, key}, hash); }).added;
    }
  }

  bool contains(const K& key) const {
    if constexpr (small) {
      const std::uint64_t bits = internal::bits_of(key);
      if (bits == 0) return zero_.load(std::memory_order_acquire);
      return table_.find(internal::mixed(bits), [bits](std::uint64_t word) { return word == bits; }) != 0;
    } else {
      const std::uint64_t hash = internal::hash_of<K, Hash, Equal>(key);
      return table_.find(hash, internal::IsNode<Node, K, Equal>{hash, key}) != 0;
    }
  }

  // How many keys; exact when nobody inserts.
  std::size_t size() const noexcept { return table_.size() + (zero_.load(std::memory_order_relaxed) ? 1 : 0); }

  // fn(const K&) for every key, in no order.
  template <class Fn>
  void walk(Fn&& fn) const {
    if constexpr (small) {
      if (zero_.load(std::memory_order_acquire)) fn(internal::key_of_bits<K>(0));
      table_.walk([&](std::uint64_t word) { fn(internal::key_of_bits<K>(word)); });
    } else {
      table_.walk([&](std::uint64_t word) { fn(std::as_const(internal::node_of<Node>(word)->key)); });
    }
  }

  // Makes room for so many keys at once; what is there stays. For when nobody inserts.
  void reserve(std::size_t keys) { table_.reserve(keys); }

  // All keys in ascending order; the set is empty afterwards. With a crew, its workers sort. When that throws (a
  // comparison, std::bad_alloc, Error crew.busy), the set is as it was.
  std::vector<K> take_sorted() {
    return take([](auto& all, const auto& less) { std::sort(all.begin(), all.end(), less); });
  }
  template <class Crew>
  std::vector<K> take_sorted(Crew& crew) {
    const auto held = crew.hold();
    return take([&](auto& all, const auto& less) { antcrew::sort(crew, all, less); });
  }

 private:
  template <class Sort>
  std::vector<K> take(const Sort& sort) {
    std::vector<K> keys;
    keys.reserve(size());
    if constexpr (small) {
      walk([&](const K& key) { keys.push_back(key); });
      sort(keys, std::less<>());
    } else {
      // Sorted where they lie: nothing is moved before nothing can go wrong any more.
      std::vector<Node*> nodes;
      nodes.reserve(size());
      table_.walk([&](std::uint64_t word) { nodes.push_back(internal::node_of<Node>(word)); });
      sort(nodes, [](const Node* a, const Node* b) { return a->key < b->key; });
      for (Node* node : nodes) keys.push_back(std::move(node->key));
    }
    drop();
    table_.reset();
    zero_.store(false);
    return keys;
  }

  void drop() noexcept {
    if constexpr (!small) {
      table_.walk([](std::uint64_t word) { delete internal::node_of<Node>(word); });
    }
  }

  Table table_;
  alignas(internal::line_bytes) std::atomic<bool> zero_{false};  // the key whose word would be 0
};

}  // namespace antcrew
