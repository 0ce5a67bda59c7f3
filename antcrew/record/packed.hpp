// A message between processes of one program: its name and its fields as bytes, over the lists of fields that records
// have. Both ends were forked from the same program, so numbers travel as they lie in memory, and exactly.
//
//   using Request = std::variant<StartCell, EndCells>;            // plain structs
//   std::string bytes = pack<Request>(EndCells{{4711}});
//   Request request = unpack<Request>(bytes);                     // throws BadMessage, which says what and where
#pragma once

#include <array>
#include <cstdint>
#include <cstring>
#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <type_traits>
#include <utility>
#include <variant>
#include <vector>

#include "antcrew/base/bad_message.hpp"
#include "antcrew/base/hash.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/record/internal/record_fields.hpp"
#include "antcrew/record/layer.hpp"

namespace antcrew::internal {

// A message may tell its own name and fields, as these do for one that does not.
template <class T>
inline constexpr const char* message_name = T::called;

template <class T>
concept TellsItsFields = requires {
  T::called;
};

template <class F, class R>
requires TellsItsFields<std::remove_const_t<R>>
void fields(F&& f, R& message) {
  std::remove_const_t<R>::each(f, message);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, LaneParts>
void fields(F&& f, R& parts) {
  f("seconds", parts.seconds);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, TimelineStretch>
void fields(F&& f, R& s) {
  f("from_s", s.from_s);
  f("to_s", s.to_s);
  f("what", s.what);
  f("name", s.name);
  f("pieces", s.pieces);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, TimelineLane>
void fields(F&& f, R& lane) {
  f("worker", lane.worker);
  f("stretches", lane.stretches);
}

// How the types that have no list of fields travel: a size before what has one, a flag before what may be absent.
struct Packer {
  std::string& to;

  template <class T>
  void operator()(const char*, const T& value) const {
    put(value);
  }
  template <class T>
  void later(const char*, const T& value) const {
    put(value);
  }

  template <class T>
  requires(std::is_arithmetic_v<T> || std::is_enum_v<T>) void put(const T& value) const {
    to.append(reinterpret_cast<const char*>(&value), sizeof value);
  }
  void put(const std::string& text) const {
    put(static_cast<std::uint64_t>(text.size()));
    to += text;
  }
  void put(const PointValue& value) const {
    put(value.is_word());
    if (value.is_word()) return put(value.word());
    put(value.number());
  }
  template <class T>
  void put(const std::optional<T>& value) const {
    put(value.has_value());
    if (value) put(*value);
  }
  template <class First, class Second>
  void put(const std::pair<First, Second>& both) const {
    put(both.first);
    put(both.second);
  }
  template <class T, std::size_t N>
  void put(const std::array<T, N>& all) const {
    for (const T& one : all) put(one);
  }
  template <class T>
  void put(const std::vector<T>& all) const {
    put(static_cast<std::uint64_t>(all.size()));
    for (const T& one : all) put(one);
  }
  template <class Key, class T>
  void put(const std::map<Key, T>& all) const {
    put(static_cast<std::uint64_t>(all.size()));
    for (const auto& one : all) put(one);
  }
  template <class T>
  void put(const T& value) const {
    fields(*this, value);
  }
};

// The same, back. Sizes are not believed: what is not there any more ends it at the first missing byte.
struct Unpacker {
  std::string_view& from;
  std::string_view message;
  const char*& field;
  bool clean = false;  // texts may hold anything, and go to people

  template <class T>
  void operator()(const char* name, T& value) const {
    field = name;
    get(value);
  }
  template <class T>
  void later(const char* name, T& value) const {
    (*this)(name, value);
  }

  template <class T>
  requires(std::is_arithmetic_v<T> || std::is_enum_v<T>) void get(T& value) const {
    const std::string_view bytes = take(sizeof value);
    if constexpr (std::is_same_v<T, bool>) {
      value = bytes[0] != 0;
    } else {
      std::memcpy(&value, bytes.data(), sizeof value);
    }
  }
  void get(std::string& text) const {
    text = take(size());
    if (clean) text = printable(text);
  }
  void get(PointValue& value) const {
    if (value_of<bool>()) {
      value = PointValue(value_of<std::string>());
    } else {
      value = PointValue(value_of<std::size_t>());
    }
  }
  template <class T>
  void get(std::optional<T>& value) const {
    value.reset();
    if (value_of<bool>()) value = value_of<T>();
  }
  template <class T, std::size_t N>
  void get(std::array<T, N>& all) const {
    for (T& one : all) get(one);
  }
  template <class T>
  void get(std::vector<T>& all) const {
    all.clear();
    for (std::uint64_t left = size(); left > 0; --left) all.push_back(value_of<T>());
  }
  template <class Key, class T>
  void get(std::map<Key, T>& all) const {
    all.clear();
    for (std::uint64_t left = size(); left > 0; --left) {
      Key key = value_of<Key>();
      all.insert_or_assign(std::move(key), value_of<T>());
    }
  }
  template <class First, class Second>
  void get(std::pair<First, Second>& both) const {
    get(both.first);
    get(both.second);
  }
  template <class T>
  void get(T& value) const {
    fields(*this, value);
  }

 private:
  template <class T>
  T value_of() const {
    T value{};
    get(value);
    return value;
  }
  std::uint64_t size() const { return value_of<std::uint64_t>(); }
  std::string_view take(std::uint64_t bytes) const {
    if (bytes > from.size())
      throw BadMessage("the message '" + std::string(message) + "' was cut short in its field '" + field + "'");
    const std::string_view taken = from.substr(0, bytes);
    from.remove_prefix(bytes);
    return taken;
  }
};

// The hash of all that follows, the name, a zero byte, the fields.
template <class Variant>
std::string pack(const Variant& message) {
  return std::visit(
      [](const auto& one) {
        std::string body = message_name<std::remove_cvref_t<decltype(one)>>;
        body += '\0';
        Packer{body}.put(one);
        return text_hash(body) + body;
      },
      message);
}

template <class Variant, std::size_t K = 0>
Variant unpack_named(std::string_view name, std::string_view& fields_of_it, bool clean) {
  if constexpr (K == std::variant_size_v<Variant>) {
    throw BadMessage("an unknown message '" + printable(std::string(name), 40) + "'");
  } else {
    using Message = std::variant_alternative_t<K, Variant>;
    if (name != message_name<Message>) return unpack_named<Variant, K + 1>(name, fields_of_it, clean);
    Message message{};
    const char* field = "its first";
    Unpacker{fields_of_it, name, field, clean}.get(message);
    return message;
  }
}

// clean: what is not printable in its texts is replaced.
template <class Variant>
Variant unpack(std::string_view bytes, bool clean = false) {
  constexpr std::size_t hash_digits = 16;
  const std::size_t name_end = bytes.size() < hash_digits ? bytes.npos : bytes.find('\0', hash_digits);
  if (name_end == bytes.npos)
    throw BadMessage("a message without a name, of " + std::to_string(bytes.size()) + " bytes");
  const std::string_view name = bytes.substr(hash_digits, name_end - hash_digits);
  std::string_view rest = bytes.substr(name_end + 1);
  Variant message = unpack_named<Variant>(name, rest, clean);
  if (!rest.empty())
    throw BadMessage("the message '" + std::string(name) + "' is " + std::to_string(rest.size()) + " bytes too long");
  if (text_hash(bytes.substr(hash_digits)) != bytes.substr(0, hash_digits))
    throw BadMessage("the message '" + std::string(name) + "' was damaged on its way");
  return message;
}

}  // namespace antcrew::internal
