// The sums that one worker keeps for itself: keys as words, open addressing by cache lines, at most most_own_keys of
// them.
//
// One worker writes, any may read: a slot's amount is stored before its key is (release), and read after it (acquire).
// A full table is copied to a larger one; the old one stays for readers until the end, and together they are smaller
// than the newest.
#pragma once

#include <array>
#include <atomic>
#include <cstddef>
#include <cstdint>
#include <memory>
#include <optional>
#include <utility>
#include <vector>

#include "antcrew/share/internal/key_table.hpp"
#include "antcrew/share/internal/zeroed_memory.hpp"

namespace antcrew::internal {

// For maps whose values are not summed up apart.
struct NoSums {
  std::size_t size() const noexcept { return 0; }
  void reset() noexcept {}
};

// Beyond this a worker's own table would take too much memory: with it some 32 MiB. Tests lower it.
inline constinit std::atomic<std::size_t> most_own_keys{(std::size_t{1} << 21) * 3 / 4};

// Bits: the word of a key, as small as it can be.
template <class Bits, class V>
class KeySums {
 public:
  KeySums() = default;
  KeySums(const KeySums&) = delete;
  KeySums& operator=(const KeySums&) = delete;

  // Owner. False when there is no room for a new key.
  bool add(std::uint64_t hash, Bits bits, V amount) {
    if (Table* table = table_.load(std::memory_order_relaxed); table != nullptr) [[likely]] {
      Bucket* bucket = table->at(hash);
      const std::size_t slot = slot_of(*bucket, bits);
      if (slot < width) [[likely]] {
        raise({bucket, slot}, amount);
        return true;
      }
    }
    return add_further(hash, bits, amount);
  }

  // Anyone.
  std::optional<V> find(std::uint64_t hash, Bits bits) const noexcept {
    const Table* table = table_.load(std::memory_order_acquire);
    if (table == nullptr) return std::nullopt;
    const Place at = table->place(hash, bits);
    if (at.bucket->bits[at.slot].load(std::memory_order_acquire) != bits) return std::nullopt;
    return at.bucket->amounts[at.slot].load(std::memory_order_acquire);
  }

  // When nobody adds. fn(bits, amount) for all; nothing but the room is kept here afterwards. When fn throws, what it
  // has not had yet stays. Release: who finds a sum gone sees what fn made of it.
  template <class Fn>
  void hand_over(Fn&& fn) {
    Table* table = table_.load(std::memory_order_relaxed);
    if (table == nullptr) return;
    auto* first = static_cast<Bucket*>(table->memory.data());
    const Bucket* end = first + table->buckets;
    for (Bucket* bucket = first; bucket < end; ++bucket) {
      for (std::size_t k = 0; k < width; ++k) {
        const Bits bits = bucket->bits[k].load(std::memory_order_relaxed);
        if (bits == 0) continue;
        fn(bits, bucket->amounts[k].load(std::memory_order_relaxed));
        bucket->amounts[k].store(V(), std::memory_order_release);  // nothing counts twice, should the next throw
      }
    }
    for (Bucket* bucket = first; bucket < end; ++bucket) {
      for (std::atomic<Bits>& bits : bucket->bits) bits.store(0, std::memory_order_release);
    }
    used_ = 0;
  }
  // When nobody adds. fn(bits, amount) for all; how many they are.
  template <class Fn>
  void walk(Fn&& fn) const {
    if (const Table* table = table_.load(std::memory_order_acquire)) walk(*table, fn);
  }
  std::size_t size() const noexcept { return table_.load(std::memory_order_acquire) == nullptr ? 0 : used_; }
  // When nobody reads.
  void reset() noexcept {
    table_.store(nullptr, std::memory_order_relaxed);
    tables_.clear();
    used_ = 0;
  }

 private:
  // As many as fit into one cache line: one line is fetched for each addition.
  static constexpr std::size_t width = sizeof(Bits) + sizeof(V) <= 8 ? 8 : 4;
  struct alignas(64) Bucket {
    std::array<std::atomic<Bits>, width> bits;
    std::array<std::atomic<V>, width> amounts;
  };
  struct Place {
    Bucket* bucket;
    std::size_t slot;  // width: none
  };
  struct Table {
    explicit Table(std::size_t its_buckets) : buckets(its_buckets), memory(its_buckets * sizeof(Bucket)) {}
    Bucket* at(std::uint64_t hash) const noexcept {
      return static_cast<Bucket*>(memory.data()) + (hash & (buckets - 1));
    }
    Bucket* after(Bucket* bucket) const noexcept {
      Bucket* first = static_cast<Bucket*>(memory.data());
      return bucket + 1 == first + buckets ? first : bucket + 1;
    }
    // The key's place, or the empty one where it would go.
    Place place(std::uint64_t hash, Bits bits) const noexcept {
      for (Bucket* bucket = at(hash);; bucket = after(bucket)) {
        for (std::size_t k = 0; k < width; ++k) {
          const Bits seen = bucket->bits[k].load(std::memory_order_acquire);
          if (seen == bits || seen == 0) return {bucket, k};
        }
      }
    }
    std::size_t buckets;
    ZeroedMemory memory;
  };

  // Which slot has the key, found without a branch that could be guessed wrong; width when none has.
  static std::size_t slot_of(const Bucket& bucket, Bits bits) noexcept {
    return slot_of(bucket, bits, std::make_index_sequence<width>());
  }
  template <std::size_t... k>
  static std::size_t slot_of(const Bucket& bucket, Bits bits, std::index_sequence<k...>) noexcept {
    const auto is = [&](std::size_t slot) {
      return static_cast<std::size_t>(bucket.bits[slot].load(std::memory_order_relaxed) == bits);
    };
    return width - (((width - k) * is(k)) + ...);
  }

  static void raise(const Place& at, V amount) noexcept {
    std::atomic<V>& sum = at.bucket->amounts[at.slot];
    sum.store(static_cast<V>(sum.load(std::memory_order_relaxed) + amount), std::memory_order_relaxed);
  }

  // The first bucket did not have it.
  [[gnu::noinline]] bool add_further(std::uint64_t hash, Bits bits, V amount) {
    Table* table = table_.load(std::memory_order_relaxed);
    if (table != nullptr) {
      const Place at = table->place(hash, bits);
      if (at.bucket->bits[at.slot].load(std::memory_order_relaxed) == bits) {
        raise(at, amount);
        return true;
      }
    }
    if (used_ >= most_own_keys.load(std::memory_order_relaxed)) return false;
    if (table == nullptr || used_ * 8 >= table->buckets * width * 7) table = grow(table);
    put(*table, hash, bits, amount);
    ++used_;
    return true;
  }

  static void put(const Table& table, std::uint64_t hash, Bits bits, V amount) noexcept {
    const Place at = table.place(hash, bits);
    at.bucket->amounts[at.slot].store(amount, std::memory_order_relaxed);
    at.bucket->bits[at.slot].store(bits, std::memory_order_release);
  }

  Table* grow(const Table* old) {
    tables_.push_back(std::make_unique<Table>(old == nullptr ? 64 : 2 * old->buckets));
    Table* larger = tables_.back().get();
    if (old != nullptr) {
      walk(*old, [&](Bits bits, V amount) { put(*larger, mixed(bits), bits, amount); });
    }
    table_.store(larger, std::memory_order_release);
    return larger;
  }

  template <class Fn>
  static void walk(const Table& table, Fn&& fn) {
    const Bucket* bucket = static_cast<const Bucket*>(table.memory.data());
    for (const Bucket* end = bucket + table.buckets; bucket < end; ++bucket) {
      for (std::size_t k = 0; k < width; ++k) {
        const Bits bits = bucket->bits[k].load(std::memory_order_relaxed);
        if (bits != 0) fn(bits, bucket->amounts[k].load(std::memory_order_relaxed));
      }
    }
  }

  std::atomic<Table*> table_{nullptr};
  std::size_t used_ = 0;
  std::vector<std::unique_ptr<Table>> tables_;
};

}  // namespace antcrew::internal
