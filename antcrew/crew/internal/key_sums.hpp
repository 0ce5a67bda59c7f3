// The sums that one worker keeps for itself: keys as words, open addressing, at most most_keys of them.
//
// One worker writes, any may read: a slot's amount is stored before its key is (release), and read after it (acquire).
// A full table is copied to a larger one; the old one stays for readers until the end, and together they are smaller
// than the newest.
#pragma once

#include <atomic>
#include <cstddef>
#include <cstdint>
#include <memory>
#include <optional>
#include <vector>

#include "antcrew/crew/internal/key_table.hpp"

namespace antcrew::internal {

// For maps whose values are not summed up apart.
struct NoSums {
  bool in_use() const noexcept { return false; }
  void reset() noexcept {}
};

template <class V>
class KeySums {
 public:
  // Beyond this the workers seldom meet at a key, and the table that they share costs them less than one each.
  static constexpr std::size_t most_keys = 200'000;

  KeySums() = default;
  KeySums(const KeySums&) = delete;
  KeySums& operator=(const KeySums&) = delete;

  bool in_use() const noexcept { return !over_.load(std::memory_order_relaxed); }

  // Owner. False when there is no room for a new key.
  bool add(std::uint64_t hash, std::uint64_t bits, V amount) {
    Table* table = table_.load(std::memory_order_relaxed);
    if (table != nullptr) [[likely]] {
      Slot& slot = table->place(hash, bits);
      if (slot.bits.load(std::memory_order_relaxed) == bits) [[likely]] {
        slot.amount.store(static_cast<V>(slot.amount.load(std::memory_order_relaxed) + amount),
                          std::memory_order_relaxed);
        return true;
      }
    }
    return add_key(hash, bits, amount);
  }

  // Anyone.
  std::optional<V> find(std::uint64_t hash, std::uint64_t bits) const noexcept {
    const Table* table = table_.load(std::memory_order_acquire);
    if (table == nullptr) return std::nullopt;
    const Slot& slot = table->place(hash, bits);
    if (slot.bits.load(std::memory_order_acquire) != bits) return std::nullopt;
    return slot.amount.load(std::memory_order_relaxed);
  }

  // Owner, or anyone when it is at rest. fn(bits, amount) for all; nothing is kept here afterwards.
  template <class Fn>
  void hand_over(Fn&& fn) {
    over_.store(true, std::memory_order_relaxed);
    Table* table = table_.load(std::memory_order_relaxed);
    if (table == nullptr) return;
    for (std::size_t i = 0; i < table->size; ++i) {
      const std::uint64_t bits = table->slots[i].bits.load(std::memory_order_relaxed);
      if (bits != 0) fn(bits, table->slots[i].amount.load(std::memory_order_relaxed));
    }
    table_.store(nullptr, std::memory_order_release);
  }
  // When nobody reads.
  void reset() noexcept {
    table_.store(nullptr, std::memory_order_relaxed);
    over_.store(false, std::memory_order_relaxed);
    tables_.clear();
    used_ = 0;
  }

 private:
  struct Slot {
    std::atomic<std::uint64_t> bits{0};
    std::atomic<V> amount{};
  };
  struct Table {
    explicit Table(std::size_t its_size) : size(its_size), slots(new Slot[its_size]) {}
    // The key's slot, or the empty one where it would go.
    Slot& place(std::uint64_t hash, std::uint64_t bits) const noexcept {
      std::size_t i = hash & (size - 1);
      while (true) {
        const std::uint64_t seen = slots[i].bits.load(std::memory_order_acquire);
        if (seen == bits || seen == 0) return slots[i];
        i = (i + 1) & (size - 1);
      }
    }
    std::size_t size;
    std::unique_ptr<Slot[]> slots;
  };

  [[gnu::noinline]] bool add_key(std::uint64_t hash, std::uint64_t bits, V amount) {
    if (used_ >= most_keys) return false;
    Table* table = table_.load(std::memory_order_relaxed);
    if (table == nullptr || used_ * 4 >= table->size * 3) table = grow(table);
    Slot& slot = table->place(hash, bits);
    slot.amount.store(amount, std::memory_order_relaxed);
    slot.bits.store(bits, std::memory_order_release);
    ++used_;
    return true;
  }

  Table* grow(const Table* old) {
    tables_.push_back(std::make_unique<Table>(old == nullptr ? 256 : 2 * old->size));
    Table* larger = tables_.back().get();
    for (std::size_t i = 0; old != nullptr && i < old->size; ++i) {
      const std::uint64_t bits = old->slots[i].bits.load(std::memory_order_relaxed);
      if (bits == 0) continue;
      Slot& slot = larger->place(mixed(bits), bits);
      slot.amount.store(old->slots[i].amount.load(std::memory_order_relaxed), std::memory_order_relaxed);
      slot.bits.store(bits, std::memory_order_relaxed);
    }
    table_.store(larger, std::memory_order_release);
    return larger;
  }

  std::atomic<Table*> table_{nullptr};
  std::atomic<bool> over_{false};
  std::size_t used_ = 0;
  std::vector<std::unique_ptr<Table>> tables_;
};

}  // namespace antcrew::internal
