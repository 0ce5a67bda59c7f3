// The table behind KeySet and KeyMap: words that stand for keys, found without a lock, added under the lock of a small
// chunk, never taken out.
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

#include <array>
#include <atomic>
#include <bit>
#include <cstddef>
#include <cstdint>
#include <memory>
#include <mutex>
#include <vector>

#include "antcrew/crew/internal/jostle.hpp"
#include "antcrew/crew/internal/lock.hpp"

namespace antcrew::internal {

// Both ends of the product are well mixed, also for keys that count up from 0 (the constant is 2^64 / golden ratio).
inline std::uint64_t mixed(std::uint64_t bits) noexcept {
  __extension__ using Wide = unsigned __int128;
  const Wide product = static_cast<Wide>(bits ^ 0x2545F4914F6CDD1Du) * 0x9E3779B97F4A7C15u;
  return static_cast<std::uint64_t>(product) ^ static_cast<std::uint64_t>(product >> 64);
}

// HashOf: word -> its key's hash. 0 is no word.
template <class HashOf>
class KeyTable {
 public:
  KeyTable() {
    auto directory = std::make_unique<Directory>(0);
    directory->chunks[0].store(new_chunk(0), std::memory_order_relaxed);
    directory_.store(directory.get(), std::memory_order_release);
    directories_.push_back(std::move(directory));
  }
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

  // The word that matches, or make()'s, which is added; make() runs under the chunk's lock and may throw.
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
  // May run while others add: counts at least those added before.
  std::size_t size() const noexcept { return size_.load(std::memory_order_relaxed); }

 private:
  static constexpr std::size_t slots_each = 512;
  static constexpr std::size_t full_at = slots_each * 3 / 4;

  struct Chunk {
    explicit Chunk(unsigned its_depth) : depth(its_depth) {}
    template <class Match>
    std::uint64_t find(std::uint64_t hash, const Match& match) const noexcept {
      for (std::size_t i = hash % slots_each;; i = (i + 1) % slots_each) {
        const std::uint64_t word = slots[i].load(std::memory_order_acquire);
        if (word == 0) break;
        if (match(word)) return word;
      }
      const Chunk* next = more.load(std::memory_order_acquire);
      return next == nullptr ? 0 : next->find(hash, match);
    }
    void put(std::uint64_t hash, std::uint64_t word) noexcept {
      std::size_t i = hash % slots_each;
      while (slots[i].load(std::memory_order_relaxed) != 0) i = (i + 1) % slots_each;
      slots[i].store(word, std::memory_order_release);
      ++used;
    }

    alignas(64) std::array<std::atomic<std::uint64_t>, slots_each> slots{};
    Lock lock;
    std::atomic<std::uint32_t> version{0};
    std::atomic<Chunk*> more{nullptr};  // for words that no split tells apart; such a chunk is not split any more
    unsigned depth;                     // how many upper bits of the hash its words have in common; under the lock
    std::size_t used = 0;
  };

  struct Directory {
    explicit Directory(unsigned its_depth)
        : depth(its_depth), chunks(new std::atomic<Chunk*>[std::size_t{1} << its_depth]) {}
    std::size_t place(std::uint64_t hash) const noexcept { return depth == 0 ? 0 : hash >> (64 - depth); }
    unsigned depth;
    std::unique_ptr<std::atomic<Chunk*>[]> chunks;
  };

  Chunk* chunk_of(std::uint64_t hash) const noexcept {
    const Directory* directory = directory_.load(std::memory_order_acquire);
    return directory->chunks[directory->place(hash)].load(std::memory_order_acquire);
  }

  template <class Match, class Make>
  [[gnu::noinline]] Added add(std::uint64_t hash, const Match& match, const Make& make) {
    while (true) {
      Chunk* chunk = chunk_of(hash);
      const std::lock_guard<Lock> held(chunk->lock);
      if (chunk_of(hash) != chunk) continue;  // split before we had it
      if (const std::uint64_t word = chunk->find(hash, match)) return {word, false};
      if (chunk->used >= full_at && may_split(*chunk)) {
        split(*chunk);
        continue;
      }
      Chunk& roomy = with_room(*chunk);
      const std::uint64_t word = make();
      at_border();
      roomy.put(hash, word);
      size_.fetch_add(1, std::memory_order_relaxed);
      return {word, true};
    }
  }

  // A poor hash must not make the directory larger than the table.
  bool may_split(const Chunk& chunk) const noexcept {
    const auto enough = static_cast<unsigned>(std::bit_width(size() + full_at));
    return chunk.more.load(std::memory_order_relaxed) == nullptr && chunk.depth < enough;
  }
  Chunk& with_room(Chunk& first) {
    Chunk* chunk = &first;
    while (chunk->used >= full_at) {
      Chunk* next = chunk->more.load(std::memory_order_relaxed);
      if (next == nullptr) {
        const std::lock_guard<std::mutex> held(growing_);
        next = new_chunk(chunk->depth);
        chunk->more.store(next, std::memory_order_release);
      }
      chunk = next;
    }
    return *chunk;
  }

  // Under the chunk's lock.
  void split(Chunk& chunk) {
    const std::lock_guard<std::mutex> held(growing_);
    Chunk* upper = new_chunk(chunk.depth + 1);
    Directory* directory = directory_.load(std::memory_order_relaxed);
    if (chunk.depth == directory->depth) directory = doubled(*directory);
    std::array<std::uint64_t, slots_each> words;
    std::size_t count = 0;
    std::uint64_t any_hash = 0;
    const std::uint64_t bit = std::uint64_t{1} << (63 - chunk.depth);
    for (const auto& slot : chunk.slots) {
      const std::uint64_t word = slot.load(std::memory_order_relaxed);
      if (word == 0) continue;
      any_hash = HashOf()(word);
      words[count++] = word;
      if ((any_hash & bit) != 0) upper->put(any_hash, word);
    }
    chunk.version.fetch_add(1, std::memory_order_acq_rel);
    at_border();
    point_at(*directory, *upper, any_hash | bit);
    for (auto& slot : chunk.slots) slot.store(0, std::memory_order_relaxed);
    chunk.used = 0;
    ++chunk.depth;
    for (std::size_t k = 0; k < count; ++k) {
      const std::uint64_t hash = HashOf()(words[k]);
      if ((hash & bit) == 0) chunk.put(hash, words[k]);
    }
    chunk.version.fetch_add(1, std::memory_order_release);
  }

  // All entries whose upper bits are those that the chunk's words share.
  static void point_at(Directory& directory, Chunk& chunk, std::uint64_t hash) noexcept {
    const unsigned loose = directory.depth - chunk.depth;
    const std::size_t first = (hash >> (64 - chunk.depth)) << loose;
    for (std::size_t k = 0; k < (std::size_t{1} << loose); ++k) {
      directory.chunks[first + k].store(&chunk, std::memory_order_release);
    }
  }

  // Old directories stay for readers: together they are smaller than the newest, a 500th of the table.
  Directory* doubled(const Directory& old) {
    auto larger = std::make_unique<Directory>(old.depth + 1);
    for (std::size_t k = 0; k < (std::size_t{1} << old.depth); ++k) {
      Chunk* chunk = old.chunks[k].load(std::memory_order_relaxed);
      larger->chunks[2 * k].store(chunk, std::memory_order_relaxed);
      larger->chunks[2 * k + 1].store(chunk, std::memory_order_relaxed);
    }
    directories_.push_back(std::move(larger));
    directory_.store(directories_.back().get(), std::memory_order_release);
    return directories_.back().get();
  }

  Chunk* new_chunk(unsigned depth) {
    chunks_.push_back(std::make_unique<Chunk>(depth));
    return chunks_.back().get();
  }

  alignas(64) std::atomic<Directory*> directory_{nullptr};
  alignas(64) std::atomic<std::size_t> size_{0};
  std::mutex growing_;  // directories_, chunks_, and writing to the directory
  std::vector<std::unique_ptr<Directory>> directories_;
  std::vector<std::unique_ptr<Chunk>> chunks_;
};

}  // namespace antcrew::internal
