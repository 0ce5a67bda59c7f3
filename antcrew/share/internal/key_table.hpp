// The table behind KeySet and KeyMap: words that stand for keys, found without a lock, added under the lock of a small
// chunk, never taken out. As long as one thread only adds, it does so without the lock.
//
// After Fagin, Nievergelt, Pippenger and Strong 1979, "Extendible hashing: a fast access method for dynamic files": the
// upper bits of a hash choose a chunk through a directory; a full chunk is split in two by the next bit, so the table
// grows without ever holding two copies of itself. Inside a chunk: open addressing with linear probing.
//
// Invariants. A word is in the table from its first store on: a split moves it to the new chunk before it leaves the
// old one's slots. So a reader that meets the word it looks for, in whatever chunk, may believe it; one that does not
// must ask again under the lock, or see that neither the chunk's version nor the directory changed meanwhile. Orders.
// Words are stored with release and read with acquire: what a word points to is seen whole. Directory entries and the
// directory itself likewise. A chunk's version is odd while it is being split.
#pragma once

#include <algorithm>
#include <array>
#include <atomic>
#include <bit>
#include <cstddef>
#include <cstdint>
#include <memory>
#include <mutex>
#include <new>
#include <optional>
#include <vector>

#include "antcrew/machine/lock.hpp"
#include "antcrew/machine/random_delays.hpp"
#include "antcrew/share/internal/sole_owner.hpp"
#include "antcrew/share/internal/zeroed_memory.hpp"

namespace antcrew::internal {

// Both ends of the product are well mixed, also for keys that count up from 0 (the constant is 2^64 / golden ratio).
inline std::uint64_t mixed(std::uint64_t bits) noexcept {
  __extension__ using Wide = unsigned __int128;
  const Wide product = static_cast<Wide>(bits) * 0x9E3779B97F4A7C15u;
  return static_cast<std::uint64_t>(product) ^ static_cast<std::uint64_t>(product >> 64);
}

// Memory for many objects of one size, in slabs that grow with the table: few large pages instead of many small ones.
class Slabs {
 public:
  explicit Slabs(std::size_t bytes_each) : bytes_each_(bytes_each) {}
  Slabs(const Slabs&) = delete;
  Slabs& operator=(const Slabs&) = delete;

  // Zeroed, aligned to a cache line. Throws std::bad_alloc.
  void* take();
  // Takes all back, of at least one object that was taken; the first slab stays, so that the next take() succeeds.
  void begin_again() noexcept;

 private:
  std::size_t bytes_each_;
  std::vector<ZeroedMemory> slabs_;
  std::size_t bytes_ = 0;  // of all of them
  std::size_t next_ = 0;   // in the last slab
};

// HashOf: word -> its key's hash. 0 is no word.
template <class HashOf>
class KeyTable {
 public:
  KeyTable() { start(); }
  KeyTable(const KeyTable&) = delete;
  KeyTable& operator=(const KeyTable&) = delete;

  // The word for which match(word) holds, or 0. May miss one that is being moved.
  template <class Match>
  std::uint64_t glance(std::uint64_t hash, const Match& match) const noexcept {
    return chunk_of(hash)->find(hash, match);
  }

  // The same, missing none that was added before.
  template <class Match>
  std::uint64_t find(std::uint64_t hash, const Match& match) const noexcept {
    while (true) {
      const Chunk* chunk = chunk_of(hash);
      const std::uint32_t before = chunk->version.load(std::memory_order_acquire);
      at_border();
      if (const std::uint64_t word = chunk->find(hash, match)) return word;
      if (before % 2 == 0 && chunk_of(hash) == chunk && chunk->version.load(std::memory_order_acquire) == before) {
        return 0;
      }
      relax();
    }
  }

  struct Added {
    std::uint64_t word;
    bool added;
  };

  // Whether a word that is its own key is new. Four slots are compared without a branch: which of them holds the word
  // is what a processor would guess wrong most.
  bool add_new(std::uint64_t hash, std::uint64_t bits) {
    const Chunk* chunk = chunk_of(hash);
    const std::atomic<std::uint64_t>* four = &chunk->slots[Chunk::home(hash)];
    const auto is = [&](std::size_t k, std::uint64_t word) {
      return static_cast<unsigned>(four[k].load(std::memory_order_acquire) == word);
    };
    unsigned among_four = is(0, bits) | is(1, bits) | is(2, bits) | is(3, bits);
    asm("" : "+r"(among_four));  // or the compiler would branch on the fourth by itself
    if (among_four != 0) [[likely]]
      return false;
    const auto same = [bits](std::uint64_t word) { return word == bits; };
    const bool ends_here = (is(0, 0) | is(1, 0) | is(2, 0) | is(3, 0)) != 0;
    if (!ends_here && chunk->find(hash, same) != 0) return false;
    return add(hash, same, [bits] { return bits; }).added;
  }

  // The word that matches, or make()'s, which is added; make() runs under the chunk's lock, must not touch the table,
  // and may throw.
  template <class Match, class Make>
  Added find_or_add(std::uint64_t hash, const Match& match, const Make& make) {
    if (const std::uint64_t word = glance(hash, match)) return {word, false};
    return add(hash, match, make);
  }

  // The rest is for when nobody adds.
  template <class Fn>
  void walk(Fn&& fn) const {
    for (const auto& chunk : chunks_) {
      for (const auto& slot : chunk->slots) {
        if (const std::uint64_t word = slot.load(std::memory_order_acquire)) fn(word);
      }
    }
  }
  // The first chunk and the first directory stay: emptying needs no memory.
  void reset() noexcept {
    slabs_.begin_again();
    Chunk* first = ::new (slabs_.take()) Chunk(0);
    chunks_.resize(1);
    chunks_.front() = first;
    chunk_count_.store(1, std::memory_order_relaxed);
    directories_.resize(1);
    point_all_at(*first, {static_cast<std::atomic<Chunk*>*>(directories_.front().get()), 63});
  }
  // Makes chunks enough for so many keys; those that are there stay.
  void reserve(std::size_t keys) {
    unsigned depth = 0;
    // At random, some chunks get more than others: half full on the average leaves room for nearly all of them.
    while (depth < 40 && (slots_each / 2) << depth < keys) ++depth;
    split_down_to(depth);
  }
  // May run while others add: counts at least those added before, unless a chunk is being split just then.
  std::size_t size() const {
    const std::lock_guard<Lock> held(growing_);
    std::size_t all = 0;
    for (const Chunk* chunk : chunks_) all += chunk->used.load(std::memory_order_relaxed);
    return all;
  }

 private:
  static constexpr std::size_t slots_each = 512;
  static constexpr std::size_t full_at = slots_each * 3 / 4;

  struct Chunk {
    // In memory that is zero already: the slots are not written once more.
    explicit Chunk(unsigned its_depth) : depth(its_depth) {}
    // Slots are looked at from the start of a group of four on, which is in one cache line.
    static std::size_t home(std::uint64_t hash) noexcept { return hash % slots_each / 4 * 4; }
    // The word that matches, or 0 at the first empty slot: one load of a slot decides, since it may be filled
    // meanwhile.
    template <class Match>
    std::uint64_t find(std::uint64_t hash, const Match& match) const noexcept {
      for (std::size_t i = home(hash);; i = (i + 1) % slots_each) {
        const std::uint64_t word = slots[i].load(std::memory_order_acquire);
        if (word == 0) break;
        if (match(word)) return word;
      }
      const Chunk* next = more.load(std::memory_order_acquire);
      return next == nullptr ? 0 : next->find(hash, match);
    }
    void put(std::uint64_t hash, std::uint64_t word) noexcept {
      std::size_t i = home(hash);
      while (slots[i].load(std::memory_order_relaxed) != 0) i = (i + 1) % slots_each;
      slots[i].store(word, std::memory_order_release);
      used.store(used.load(std::memory_order_relaxed) + 1, std::memory_order_relaxed);
    }

    alignas(64) std::array<std::atomic<std::uint64_t>, slots_each> slots;
    Lock lock;
    std::atomic<std::uint32_t> version{0};
    std::atomic<Chunk*> more{nullptr};  // for words that no split tells apart; such a chunk is not split any more
    unsigned depth;                     // how many upper bits of the hash its words have in common; under the lock
    std::uint64_t prefix{0};            // those bits
    std::atomic<std::size_t> used{0};   // written under the lock
  };

  // The chunks by the upper bits of a hash, one bit at least. root_ holds where they are and how far to shift a hash,
  // so that both are read at once.
  static constexpr std::uint64_t shift_mask = 63;
  struct Directory {
    std::atomic<Chunk*>* chunks;
    unsigned shift;
    std::size_t place(std::uint64_t hash) const noexcept { return hash >> shift; }
    unsigned depth() const noexcept { return 64 - shift; }
  };
  Directory directory() const noexcept {
    const std::uint64_t root = root_.load(std::memory_order_acquire);
    return {reinterpret_cast<std::atomic<Chunk*>*>(static_cast<std::uintptr_t>(root & ~shift_mask)),
            static_cast<unsigned>(root & shift_mask)};
  }

  Chunk* chunk_of(std::uint64_t hash) const noexcept {
    const Directory now = directory();
    return now.chunks[now.place(hash)].load(std::memory_order_acquire);
  }

  void start() {
    Chunk* first = new_chunk(0);
    point_all_at(*first, new_directory(1));
  }
  void point_all_at(Chunk& only, const Directory& of_two) noexcept {
    for (std::size_t k = 0; k < 2; ++k) of_two.chunks[k].store(&only, std::memory_order_relaxed);
    publish(of_two);
  }
  Directory new_directory(unsigned depth) {
    const std::size_t bytes = sizeof(std::atomic<Chunk*>) << depth;
    auto* memory = static_cast<std::atomic<Chunk*>*>(::operator new(std::max<std::size_t>(bytes, 64), line));
    directories_.push_back(std::unique_ptr<void, Free>(memory));
    std::uninitialized_value_construct_n(memory, std::size_t{1} << depth);
    return {memory, 64 - depth};
  }
  void publish(const Directory& made) noexcept {
    root_.store(reinterpret_cast<std::uintptr_t>(made.chunks) | made.shift, std::memory_order_release);
  }

  template <class Match, class Make>
  [[gnu::noinline]] Added add(std::uint64_t hash, const Match& match, const Make& make) {
    while (true) {
      std::optional<Added> done;
      if (alone_.enter()) {
        const std::unique_ptr<SoleOwner, Leave> inside(&alone_);
        done = add_held(*chunk_of(hash), hash, match, make);
      } else {
        Chunk* chunk = chunk_of(hash);
        const std::lock_guard<Lock> held(chunk->lock);
        if (chunk_of(hash) != chunk) continue;  // split before we had it
        done = add_held(*chunk, hash, match, make);
      }
      if (done) return *done;
    }
  }
  struct Leave {
    void operator()(SoleOwner* owner) const noexcept { owner->leave(); }
  };

  // Nothing when the chunk had to be split first.
  template <class Match, class Make>
  std::optional<Added> add_held(Chunk& chunk, std::uint64_t hash, const Match& match, const Make& make) {
    if (const std::uint64_t word = chunk.find(hash, match)) return Added{word, false};
    if (chunk.used.load(std::memory_order_relaxed) >= full_at && may_split(chunk)) {
      split(chunk);
      return std::nullopt;
    }
    Chunk& roomy = with_room(chunk);
    const std::uint64_t word = make();
    at_border();
    roomy.put(hash, word);
    return Added{word, true};
  }

  // A poor hash must not make the directory larger than the table.
  bool may_split(const Chunk& chunk) const noexcept {
    const auto enough = static_cast<unsigned>(std::bit_width(chunk_count_.load(std::memory_order_relaxed) * full_at));
    return chunk.more.load(std::memory_order_relaxed) == nullptr && chunk.depth < enough;
  }
  Chunk& with_room(Chunk& first) {
    Chunk* chunk = &first;
    while (chunk->used.load(std::memory_order_relaxed) >= full_at) {
      Chunk* next = chunk->more.load(std::memory_order_relaxed);
      if (next == nullptr) {
        const std::lock_guard<Lock> held(growing_);
        next = new_chunk(chunk->depth);
        next->prefix = chunk->prefix;
        chunk->more.store(next, std::memory_order_release);
      }
      chunk = next;
    }
    return *chunk;
  }

  // Under the chunk's lock. The table's is held for a new chunk and for the directory only: chunks are split side by
  // side.
  void split(Chunk& chunk) {
    Chunk* upper = nullptr;
    {
      const std::lock_guard<Lock> held(growing_);
      // In this order: a directory that is larger than need be does no harm, a chunk that it does not know would.
      if (chunk.depth == directory().depth()) doubled(directory());
      upper = new_chunk(chunk.depth + 1);
    }
    std::array<std::uint64_t, slots_each> words;
    std::size_t count = 0;
    const std::uint64_t bit = std::uint64_t{1} << (63 - chunk.depth);
    for (const auto& slot : chunk.slots) {
      const std::uint64_t word = slot.load(std::memory_order_relaxed);
      if (word == 0) continue;
      const std::uint64_t hash = HashOf()(word);
      words[count++] = word;
      if ((hash & bit) != 0) upper->put(hash, word);
    }
    upper->prefix = chunk.prefix | bit;
    chunk.version.fetch_add(1, std::memory_order_acq_rel);
    at_border();
    {
      // The directory may have been doubled meanwhile, never halved.
      const std::lock_guard<Lock> held(growing_);
      point_at(directory(), *upper);
    }
    // Release: whoever meets an emptied slot sees the odd version, too.
    for (auto& slot : chunk.slots) slot.store(0, std::memory_order_release);
    chunk.used.store(0, std::memory_order_relaxed);
    ++chunk.depth;
    for (std::size_t k = 0; k < count; ++k) {
      const std::uint64_t hash = HashOf()(words[k]);
      if ((hash & bit) == 0) chunk.put(hash, words[k]);
    }
    chunk.version.fetch_add(1, std::memory_order_release);
  }

  // When nobody adds.
  void split_down_to(unsigned depth) {
    for (std::size_t k = 0; k < chunks_.size();) {
      Chunk& chunk = *chunks_[k];
      if (chunk.depth >= depth || chunk.more.load(std::memory_order_relaxed) != nullptr) {
        ++k;
      } else {
        split(chunk);
      }
    }
  }

  // All entries whose upper bits are those that the chunk's words share.
  static void point_at(const Directory& directory, Chunk& chunk) noexcept {
    const unsigned loose = directory.depth() - chunk.depth;
    const std::size_t first = (chunk.prefix >> (64 - chunk.depth)) << loose;
    for (std::size_t k = 0; k < (std::size_t{1} << loose); ++k) {
      directory.chunks[first + k].store(&chunk, std::memory_order_release);
    }
  }

  // Old directories stay for readers: together they are smaller than the newest, a 500th of the table.
  Directory doubled(const Directory& old) {
    const Directory larger = new_directory(old.depth() + 1);
    for (std::size_t k = 0; k < (std::size_t{1} << old.depth()); ++k) {
      Chunk* chunk = old.chunks[k].load(std::memory_order_relaxed);
      larger.chunks[2 * k].store(chunk, std::memory_order_relaxed);
      larger.chunks[2 * k + 1].store(chunk, std::memory_order_relaxed);
    }
    publish(larger);
    return larger;
  }

  Chunk* new_chunk(unsigned depth) {
    if (chunks_.size() == chunks_.capacity()) chunks_.reserve(std::max<std::size_t>(8, 2 * chunks_.size()));
    chunks_.push_back(::new (slabs_.take()) Chunk(depth));
    chunk_count_.store(chunks_.size(), std::memory_order_relaxed);
    return chunks_.back();
  }

  static constexpr std::align_val_t line{64};
  struct Free {
    void operator()(void* memory) const noexcept { ::operator delete(memory, line); }
  };

  alignas(64) std::atomic<std::uint64_t> root_{0};
  alignas(64) SoleOwner alone_;
  alignas(64) std::atomic<std::size_t> chunk_count_{0};
  mutable Lock growing_;  // what follows, and writing to the directory
  std::vector<std::unique_ptr<void, Free>> directories_;
  std::vector<Chunk*> chunks_;
  Slabs slabs_{sizeof(Chunk)};
};

}  // namespace antcrew::internal
