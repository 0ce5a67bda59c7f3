// How a key becomes a word of a KeyTable: small plain keys are the word; others lie in a node of their own that the
// word points to, with 16 bits of the hash to tell most others without looking there.
#pragma once

#include <cstdint>
#include <cstring>
#include <functional>
#include <type_traits>
#include <utility>

#include "antcrew/share/internal/key_table.hpp"

namespace antcrew {

// Specialise it as true for a small plain type of your own (8 bytes at the most, no padding) whose objects are equal if
// and only if their bytes are: KeySet and KeyMap then need no allocation for a key, and neither its == nor its hash is
// called.
template <class K>
inline constexpr bool keys_are_their_bits = false;

namespace internal {

// Integers, enumerations and pointers; other types only where their user says so.
template <class K>
inline constexpr bool small_key = sizeof(K) <= 8 && (std::is_integral_v<K> || std::is_enum_v<K> ||
                                                     std::is_pointer_v<K> || keys_are_their_bits<K>);

// Whether the bits may stand for the key: not where the user compares or hashes in a way of his own.
template <class K, class Hash, class Equal>
inline constexpr bool bits_stand_for =
    small_key<K>&& std::is_same_v<Equal, std::equal_to<K>>&& std::is_same_v<Hash, std::hash<K>>;

template <class K>
std::uint64_t bits_of(const K& key) noexcept {
  static_assert(std::is_trivially_copyable_v<K> && std::has_unique_object_representations_v<K>,
                "keys_are_their_bits is for plain types without padding");
  std::uint64_t bits = 0;
  std::memcpy(&bits, &key, sizeof(K));
  return bits;
}
template <class K>
K key_of_bits(std::uint64_t bits) noexcept {
  K key;
  std::memcpy(&key, &bits, sizeof(K));
  return key;
}

struct HashOfBits {
  std::uint64_t operator()(std::uint64_t bits) const noexcept { return mixed(bits); }
};

template <class K>
struct KeyNode {
  std::uint64_t hash;
  K key;
};

inline constexpr unsigned tag_shift = 48;  // addresses of this platform's programs have 47 bits
inline constexpr std::uint64_t address_mask = (std::uint64_t{1} << tag_shift) - 1;

inline std::uint64_t word_of(const void* node, std::uint64_t hash) noexcept {
  return reinterpret_cast<std::uintptr_t>(node) | ((hash >> 16) << tag_shift);
}
template <class Node>
Node* node_of(std::uint64_t word) noexcept {
  return reinterpret_cast<Node*>(static_cast<std::uintptr_t>(word & address_mask));
}

template <class Node>
struct HashOfNode {
  std::uint64_t operator()(std::uint64_t word) const noexcept { return node_of<Node>(word)->hash; }
};

// Holds for the word of a node with this key.
template <class Node, class K, class Equal>
struct IsNode {
  std::uint64_t hash;
  const K& key;
  bool operator()(std::uint64_t word) const {
    return ((word ^ word_of(nullptr, hash)) >> tag_shift) == 0 && node_of<Node>(word)->hash == hash &&
           Equal()(node_of<Node>(word)->key, key);
  }
};

template <class K, class Hash, class Equal>
std::uint64_t hash_of(const K& key) {
  if constexpr (bits_stand_for<K, Hash, Equal>) {
    return mixed(bits_of(key));
  } else {
    return mixed(static_cast<std::uint64_t>(Hash()(key)));
  }
}

}  // namespace internal
}  // namespace antcrew
