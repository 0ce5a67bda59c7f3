// A JSON value: what is written and what was read. One source file includes the parser (json_reader.cpp), so that
// whoever reads or writes JSON need not compile it.
//
//   Json json = {{"title", study.title}, {"rounds", 7}};
//   json["cells"].push_back(…);
//   std::string text = json.dump(2);
//   Json again = Json::parse(text);                        // throws SyntaxError
//   int rounds = again.at("rounds").get<int>();            // throws FieldError
//
// Members of an object keep their order; an empty optional is null. A type of one's own is written and read by
// to_json(Json&, const T&) and from_json(const Json&, T&) beside it.
#pragma once

#include <array>
#include <concepts>
#include <cstddef>
#include <cstdint>
#include <initializer_list>
#include <map>
#include <optional>
#include <stdexcept>
#include <string>
#include <string_view>
#include <type_traits>
#include <utility>
#include <vector>

#include "antcrew/record/layer.hpp"

namespace antcrew::json {

class Value;

// Text that is no JSON. `byte`: how many had been read, one more than there are when the end came too early; 0 where
// values are nested too deeply.
class SyntaxError : public std::runtime_error {
 public:
  SyntaxError(const std::string& what, std::size_t its_byte, bool number_out_of_range)
      : std::runtime_error(what), byte(its_byte), out_of_range(number_out_of_range) {}
  std::size_t byte;
  bool out_of_range;  // the fault is a number that no double can hold
};

// A value that is missing or of another kind than was asked for. `at`: the value that was asked.
class FieldError : public std::runtime_error {
 public:
  FieldError(const std::string& what, const Value* its_value) : std::runtime_error(what), at(its_value) {}
  const Value* at;
};

template <class T>
concept Text = std::convertible_to<const T&, std::string_view> && !std::same_as<T, std::nullptr_t>;
template <class T>
concept MapLike = requires {
  typename T::key_type;
  typename T::mapped_type;
};
template <class T>
concept ListLike = requires(const T& list) {
  typename T::value_type;
  list.begin();
  list.end();
}
&&!MapLike<T> && !Text<T>;
template <class T>
inline constexpr bool is_optional = false;
template <class T>
inline constexpr bool is_optional<std::optional<T>> = true;
template <class T>
concept WrittenByItsOwn = requires(Value& value, const T& written) {
  to_json(value, written);
};

struct Member;

class Value {
 public:
  enum class Kind : unsigned char { null, boolean, negative, natural, number, text, array, object };

  Value() noexcept = default;
  Value(std::nullptr_t) noexcept {}
  template <class T>
  requires(!std::same_as<std::remove_cvref_t<T>, Value> && !std::same_as<std::remove_cvref_t<T>, Member>)
      Value(const T& value) {
    if constexpr (std::same_as<T, bool>) {
      be(value);
    } else if constexpr (std::integral<T> && std::is_signed_v<T>) {
      be(static_cast<std::int64_t>(value));
    } else if constexpr (std::integral<T>) {
      be(static_cast<std::uint64_t>(value));
    } else if constexpr (std::floating_point<T>) {
      be(static_cast<double>(value));
    } else if constexpr (WrittenByItsOwn<T>) {
      to_json(*this, value);
    } else if constexpr (is_optional<T>) {
      if (value) *this = Value(*value);
    } else if constexpr (Text<T>) {
      be(std::string_view(value));
    } else if constexpr (MapLike<T>) {
      make(Kind::object);
      for (const auto& [name, one] : value) (*this)[name] = one;
    } else {
      static_assert(ListLike<T>, "a type of one's own needs to_json(json::Value&, const T&) beside it");
      make(Kind::array);
      for (const auto& one : value) push_back(Value(one));
    }
  }
  // An object when all are pairs that begin with a text, else an array.
  Value(std::initializer_list<Value> list);
  Value(const Value& other);
  Value(Value&& other) noexcept : kind_(other.kind_), held_(other.held_) { other.kind_ = Kind::null; }
  Value& operator=(Value other) noexcept {
    std::swap(kind_, other.kind_);
    std::swap(held_, other.held_);
    return *this;
  }
  ~Value() {
    if (kind_ >= Kind::text) drop();
  }

  static Value array(std::initializer_list<Value> list = {});
  static Value object();

  // Throws SyntaxError. Values nested more than 1,000 deep are refused.
  static Value parse(std::string_view text);
  static std::optional<Value> parsed(std::string_view text);

  // One line without an indent. What is not UTF-8 is replaced by U+FFFD; with `ascii` all else is escaped.
  std::string dump(int indent = -1, bool ascii = false) const;

  Kind kind() const noexcept { return kind_; }
  bool is_null() const noexcept { return kind_ == Kind::null; }
  bool is_boolean() const noexcept { return kind_ == Kind::boolean; }
  bool is_number() const noexcept { return kind_ >= Kind::negative && kind_ <= Kind::number; }
  bool is_number_integer() const noexcept { return kind_ == Kind::negative || kind_ == Kind::natural; }
  bool is_number_unsigned() const noexcept { return kind_ == Kind::natural; }
  bool is_string() const noexcept { return kind_ == Kind::text; }
  bool is_array() const noexcept { return kind_ == Kind::array; }
  bool is_object() const noexcept { return kind_ == Kind::object; }

  // Of arrays and objects; 0 of null, 1 of all else.
  std::size_t size() const noexcept;
  bool empty() const noexcept { return size() == 0; }
  std::vector<Value>& items();  // of an array
  const std::vector<Value>& items() const;
  std::vector<Member>& members();  // of an object
  const std::vector<Member>& members() const;

  // Null becomes an object; a name that is not there yet is added.
  Value& operator[](std::string_view name);
  const Value& operator[](std::string_view name) const { return at(name); }
  const Value& operator[](std::size_t place) const { return at(place); }
  const Value& at(std::string_view name) const;
  const Value& at(std::size_t place) const;
  const Value* find(std::string_view name) const noexcept;  // null when it is not there, or this is no object
  bool contains(std::string_view name) const noexcept { return find(name) != nullptr; }
  void erase(std::string_view name);
  // Null becomes an array.
  void push_back(Value value);
  // Adds the members of another object.
  void update(const Value& other);
  // A member, or this where it is not there.
  Value value(std::string_view name, const Value& otherwise) const;

  template <class T>
  T get() const {
    T value{};
    get_to(value);
    return value;
  }
  template <class T>
  void get_to(T& value) const {
    if constexpr (std::same_as<T, Value>) {
      value = *this;
    } else if constexpr (std::same_as<T, bool>) {
      value = boolean();
    } else if constexpr (std::is_arithmetic_v<T>) {
      if (kind_ == Kind::negative) {
        value = static_cast<T>(held_.negative);
      } else if (kind_ == Kind::natural) {
        value = static_cast<T>(held_.natural);
      } else {
        value = static_cast<T>(number());
      }
    } else if constexpr (std::same_as<T, std::string>) {
      value = text();
    } else if constexpr (requires { from_json(*this, value); }) {
      from_json(*this, value);
    } else if constexpr (MapLike<T>) {
      T all;
      for_members([](void* to, const std::string& name, const Value& one) { one.get_to((*static_cast<T*>(to))[name]); },
                  &all);
      value = std::move(all);
    } else {
      T all;
      for (const Value& one : items()) one.get_to(all.emplace_back());
      value = std::move(all);
    }
  }
  const std::string& text() const;

  // Numbers by their value, whatever their kind.
  friend bool operator==(const Value& one, const Value& other) noexcept;

 private:
  void be(bool value) noexcept;
  void be(std::int64_t value) noexcept;
  void be(std::uint64_t value) noexcept;
  void be(double value) noexcept;
  void be(std::string_view value);
  void make(Kind kind);
  void drop() noexcept;
  bool boolean() const;
  double number() const;
  void for_members(void (*each)(void* to, const std::string& name, const Value& value), void* to) const;
  [[noreturn]] void refuse(const char* wanted) const;

  Kind kind_ = Kind::null;
  union Held {
    bool boolean;
    std::int64_t negative;
    std::uint64_t natural;
    double number;
    std::string* text;
    std::vector<Value>* array;
    std::vector<Member>* object;
  } held_ = {};
};

struct Member {
  std::string name;
  Value value;
  friend bool operator==(const Member&, const Member&) = default;
};

// Where a value stands in another: "/cells/0/workers"; empty when it is that itself, or not in it.
std::string path_in(const Value& root, const Value* value);

}  // namespace antcrew::json

namespace antcrew {
using Json = json::Value;
}
