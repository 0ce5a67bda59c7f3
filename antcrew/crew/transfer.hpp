// How values go from one process to another.
//
// Plain types (trivially copyable; no pointers, iterators, spans, string views, references), strings, vectors, pairs,
// tuples, optionals, variants, maps and sets (ordered or not) of types that travel, and CommonArrays go without help;
// those without padding or elements of their own as one block, not element by element. Another type travels by two
// functions beside it, and needs a default constructor:
//
//   void pack(antcrew::Packer& to, const Buoy& buoy)   { to.put(buoy.name); to.put(buoy.drift_m); }
//   void unpack(antcrew::Unpacker& from, Buoy& buoy)   { from.get(buoy.name); from.get(buoy.drift_m); }
//
// or, where it has cereal's functions already, by including antcrew/crew/by_cereal.hpp.
// Both ends run the same program: nothing here is a file format.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>
#include <functional>
#include <iterator>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <tuple>
#include <type_traits>
#include <utility>
#include <variant>
#include <vector>

#include "antcrew/crew/common_array.hpp"

namespace antcrew {

class Packer;
class Unpacker;

namespace internal {

// Copied byte by byte it would point to what the sender has.
template <class T>
inline constexpr bool points_elsewhere = std::is_pointer_v<T> || std::is_member_pointer_v<T> || requires {
  typename std::iterator_traits<T>::iterator_category;
};
template <class E, std::size_t n>
inline constexpr bool points_elsewhere<std::span<E, n>> = true;
template <class C, class R>
inline constexpr bool points_elsewhere<std::basic_string_view<C, R>> = true;
template <class T>
inline constexpr bool points_elsewhere<std::reference_wrapper<T>> = true;

}  // namespace internal

template <class T>
concept Plain = std::is_trivially_copyable_v<T> && !internal::points_elsewhere<T>;

// Specialise as true for a type to be packed by cereal (see by_cereal.hpp).
template <class T>
inline constexpr bool travels_by_cereal = false;

// Gathers values; large blocks stay where they are until they have been sent, so put what lives on, no local copies.
class Packer {
 public:
  template <class T>
  void put(const T& value);
  template <class T>
  requires(!std::is_lvalue_reference_v<T> &&
           !Plain<T>) void put(T&& temporary) = delete;  // it would be gone before it is sent
  // As one block, without its length. It must stay where it is until this has been sent.
  void block(const void* data, std::size_t bytes);
  // Always sent by itself, however short.
  void apart(const void* data, std::size_t bytes);

  // For the crews: what is to be sent.
  struct Block {
    const void* data;
    std::size_t bytes;
  };
  std::size_t bytes() const noexcept { return small_.size() + large_bytes_; }
  const std::vector<char>& small() const noexcept { return small_; }
  const std::vector<Block>& large() const noexcept { return large_; }
  const std::vector<std::shared_ptr<internal::CommonMemory>>& commons() const noexcept { return commons_; }
  void clear() noexcept;

  static constexpr std::size_t large_from = 16 * 1024;

 private:
  void put_common(const std::shared_ptr<internal::CommonMemory>& memory);

  std::vector<char> small_;
  std::vector<Block> large_;
  std::size_t large_bytes_ = 0;
  std::vector<std::shared_ptr<internal::CommonMemory>> commons_;
};

// Where large blocks come from, in the order in which they were put.
class BlockSource {
 public:
  virtual ~BlockSource() = default;
  virtual void read(void* to, std::size_t bytes) = 0;
  // The array that has this serial number in the process that sent it.
  virtual std::shared_ptr<internal::CommonMemory> common(std::uint64_t serial, std::size_t bytes) = 0;
};

class Unpacker {
 public:
  Unpacker(const char* small, std::size_t bytes, BlockSource& large) : at_(small), left_(bytes), large_(large) {}

  template <class T>
  void get(T& value);
  void block(void* to, std::size_t bytes);

 private:
  // One without a value, which an exception has left so, stays as it is.
  template <class V, std::size_t... k>
  void get_alternative(V& value, std::size_t index, std::index_sequence<k...>) {
    const auto one = [&]<std::size_t its>() {
      if (index == its) get(value.template emplace<its>());
    };
    (one.template operator()<k>(), ...);
  }
  std::shared_ptr<internal::CommonMemory> get_common();

  const char* at_;
  std::size_t left_;
  BlockSource& large_;
};

namespace internal {

template <class T>
inline constexpr bool is_vector = false;
template <class T, class A>
inline constexpr bool is_vector<std::vector<T, A>> = true;
template <class T>
inline constexpr bool is_string = false;
template <class C, class R, class A>
inline constexpr bool is_string<std::basic_string<C, R, A>> = true;
template <class T>
inline constexpr bool is_common_array = false;
template <class T>
inline constexpr bool is_common_array<CommonArray<T>> = true;
template <class T>
inline constexpr bool is_tuple = false;
template <class... T>
inline constexpr bool is_tuple<std::tuple<T...>> = true;
template <class A, class B>
inline constexpr bool is_tuple<std::pair<A, B>> = true;

template <class T>
inline constexpr bool is_optional = false;
template <class T>
inline constexpr bool is_optional<std::optional<T>> = true;
template <class T>
inline constexpr bool is_variant = false;
template <class... T>
inline constexpr bool is_variant<std::variant<T...>> = true;
// Maps and sets: of what they hold, as it is made before it goes in.
template <class T>
concept Keyed = requires(T& all, typename T::value_type item) {
  typename T::key_type;
  all.insert(all.end(), std::move(item));
};
template <class T>
struct MutableItem {
  using type = typename T::value_type;
};
template <class T>
requires requires {
  typename T::mapped_type;
}
struct MutableItem<T> {
  using type = std::pair<typename T::key_type, typename T::mapped_type>;
};

template <class T>
concept PacksItself = requires(Packer& to, Unpacker& from, const T& value, T& made) {
  pack(to, value);
  unpack(from, made);
};

[[noreturn]] void refuse_short_value();

// By cereal, in by_cereal.hpp.
template <class T>
void pack_by_cereal(Packer& to, const T& value);
template <class T>
void unpack_by_cereal(Unpacker& from, T& value);

template <class T>
consteval bool travels() {
  if constexpr (PacksItself<T> || travels_by_cereal<T> || is_common_array<T> || is_string<T>) {
    return true;
  } else if constexpr (std::is_same_v<T, CommonCounter>) {
    return true;
  } else if constexpr (is_vector<T> || is_optional<T>) {
    return travels<typename T::value_type>();
  } else if constexpr (is_variant<T>) {
    return []<std::size_t... k>(std::index_sequence<k...>) {
      return (travels<std::variant_alternative_t<k, T>>() && ...);
    }
    (std::make_index_sequence<std::variant_size_v<T>>());
  } else if constexpr (Keyed<T>) {
    return travels<typename MutableItem<T>::type>();
  } else if constexpr (is_tuple<T>) {
    return []<std::size_t... k>(std::index_sequence<k...>) {
      return (travels<std::remove_const_t<std::tuple_element_t<k, T>>>() && ...);
    }
    (std::make_index_sequence<std::tuple_size_v<T>>());
  } else {
    return Plain<T>;
  }
}

}  // namespace internal

// What can be sent to another process and back.
template <class T>
concept Travels = internal::travels<T>();

template <class T>
void Packer::put(const T& value) {
  static_assert(Travels<T>, "this type does not travel: see the top of antcrew/crew/transfer.hpp");
  if constexpr (internal::PacksItself<T>) {
    pack(*this, value);
  } else if constexpr (travels_by_cereal<T>) {
    internal::pack_by_cereal(*this, value);
  } else if constexpr (std::is_same_v<T, CommonCounter>) {
    put(value.cell());
  } else if constexpr (internal::is_common_array<T>) {
    put_common(value.memory());
    put(value.size());
  } else if constexpr (internal::is_vector<T> || internal::is_string<T>) {
    put(value.size());
    using Item = typename T::value_type;
    if constexpr (Plain<Item> && !internal::PacksItself<Item> && !std::is_same_v<Item, bool>) {
      block(value.data(), value.size() * sizeof(Item));
    } else {
      for (const auto& item : value) put(static_cast<const Item&>(item));
    }
  } else if constexpr (internal::is_optional<T>) {
    put(char{value.has_value()});
    if (value) put(*value);
  } else if constexpr (internal::is_variant<T>) {
    put(value.index());
    if (!value.valueless_by_exception()) std::visit([&](const auto& held) { put(held); }, value);
  } else if constexpr (internal::Keyed<T>) {
    put(value.size());
    for (const auto& item : value) put(item);
  } else if constexpr (internal::is_tuple<T>) {
    std::apply([&](const auto&... part) { (put(part), ...); }, value);
  } else {
    block(&value, sizeof(T));
  }
}

template <class T>
void Unpacker::get(T& value) {
  static_assert(Travels<T>, "this type does not travel: see the top of antcrew/crew/transfer.hpp");
  if constexpr (internal::PacksItself<T>) {
    unpack(*this, value);
  } else if constexpr (travels_by_cereal<T>) {
    internal::unpack_by_cereal(*this, value);
  } else if constexpr (std::is_same_v<T, CommonCounter>) {
    CommonArray<std::int64_t> cell;
    get(cell);
    value = CommonCounter(std::move(cell));
  } else if constexpr (internal::is_common_array<T>) {
    std::shared_ptr<internal::CommonMemory> memory = get_common();
    std::size_t n = 0;
    get(n);
    value = memory ? T(std::move(memory), n) : T();
  } else if constexpr (internal::is_vector<T> || internal::is_string<T>) {
    using Item = typename T::value_type;
    if constexpr (Plain<Item> && !internal::PacksItself<Item> && !std::is_same_v<Item, bool>) {
      std::size_t n = 0;
      get(n);
      value.clear();
      value.reserve(n);
      // Step by step, so that what a resize writes is still in the cache when it is overwritten.
      constexpr std::size_t step = 128 * 1024 / sizeof(Item) + 1;
      if (n * sizeof(Item) < Packer::large_from) {
        value.resize(n);
        block(value.data(), n * sizeof(Item));
      } else {
        for (std::size_t made = 0; made < n;) {
          const std::size_t next = n - made < step ? n : made + step;
          value.resize(next);
          large_.read(value.data() + made, (next - made) * sizeof(Item));
          made = next;
        }
      }
    } else {
      std::size_t n = 0;
      get(n);
      value.clear();
      value.reserve(n);
      for (std::size_t k = 0; k < n; ++k) {
        if constexpr (std::is_same_v<Item, bool>) {
          bool item = false;
          get(item);
          value.push_back(item);
        } else {
          get(value.emplace_back());
        }
      }
    }
  } else if constexpr (internal::is_optional<T>) {
    char there = 0;
    get(there);
    value.reset();
    if (there != 0) get(value.emplace());
  } else if constexpr (internal::is_variant<T>) {
    std::size_t index = 0;
    get(index);
    get_alternative(value, index, std::make_index_sequence<std::variant_size_v<T>>());
  } else if constexpr (internal::Keyed<T>) {
    std::size_t n = 0;
    get(n);
    value.clear();
    for (std::size_t k = 0; k < n; ++k) {
      typename internal::MutableItem<T>::type item{};
      get(item);
      value.insert(value.end(), std::move(item));
    }
  } else if constexpr (internal::is_tuple<T>) {
    std::apply([&](auto&... part) { (get(part), ...); }, value);
  } else {
    block(&value, sizeof(T));
  }
}

}  // namespace antcrew
