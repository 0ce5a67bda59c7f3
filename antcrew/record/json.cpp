#include "antcrew/record/json.hpp"

#include <algorithm>
#include <charconv>
#include <cmath>
#include <cstring>

namespace antcrew::json {
namespace {

const char* name_of(Value::Kind kind) noexcept {
  switch (kind) {
    case Value::Kind::null:
      return "null";
    case Value::Kind::boolean:
      return "boolean";
    case Value::Kind::text:
      return "string";
    case Value::Kind::array:
      return "array";
    case Value::Kind::object:
      return "object";
    default:
      return "number";
  }
}

// Writing

class Writer {
 public:
  Writer(std::string& to, int indent, bool ascii) : to_(to), indent_(indent), ascii_(ascii) {}

  void write(const Value& value, int depth) {
    switch (value.kind()) {
      case Value::Kind::null:
        to_ += "null";
        return;
      case Value::Kind::boolean:
        to_ += value.get<bool>() ? "true" : "false";
        return;
      case Value::Kind::negative:
        return write_whole(value.get<std::int64_t>());
      case Value::Kind::natural:
        return write_whole(value.get<std::uint64_t>());
      case Value::Kind::number:
        return write_number(value.get<double>());
      case Value::Kind::text:
        return write_text(value.text());
      case Value::Kind::array:
        return write_list('[', ']', value.items(), depth, [&](const Value& one) { write(one, depth + 1); });
      case Value::Kind::object:
        return write_list('{', '}', value.members(), depth, [&](const Member& one) {
          write_text(one.name);
          to_ += indent_ < 0 ? ":" : ": ";
          write(one.value, depth + 1);
        });
    }
  }

 private:
  template <class List, class WriteOne>
  void write_list(char begin, char end, const List& list, int depth, const WriteOne& write_one) {
    to_ += begin;
    bool first = true;
    for (const auto& one : list) {
      if (!first) to_ += ',';
      first = false;
      new_line(depth + 1);
      write_one(one);
    }
    if (!list.empty()) new_line(depth);
    to_ += end;
  }
  void new_line(int depth) {
    if (indent_ < 0) return;
    to_ += '\n';
    to_.append(static_cast<std::size_t>(indent_) * static_cast<std::size_t>(depth), ' ');
  }

  template <class Whole>
  void write_whole(Whole value) {
    char text[24];
    to_.append(text, std::to_chars(text, text + sizeof text, value).ptr);
  }

  // The fewest digits that give the same number again; with a point or an exponent, so that it is read as a number.
  void write_number(double value) {
    if (!std::isfinite(value)) return static_cast<void>(to_ += "null");
    if (std::signbit(value)) to_ += '-';
    if (value == 0) return static_cast<void>(to_ += "0.0");
    char text[40];
    const char* end = std::to_chars(text, text + sizeof text, std::fabs(value), std::chars_format::scientific).ptr;
    const char* e = std::find(static_cast<const char*>(text), end, 'e');
    std::string digits(static_cast<const char*>(text), e);
    if (digits.size() > 1) digits.erase(1, 1);
    const char* exponent_at = e + 1 + (e[1] == '+' ? 1 : 0);
    int exponent = 0;
    std::from_chars(exponent_at, end, exponent);
    const int point = exponent + 1;  // digits before the point
    const int count = static_cast<int>(digits.size());
    if (count <= point && point <= 15) {
      to_ += digits;
      to_.append(static_cast<std::size_t>(point - count), '0');
      to_ += ".0";
    } else if (0 < point && point <= 15) {
      to_.append(digits, 0, static_cast<std::size_t>(point));
      to_ += '.';
      to_.append(digits, static_cast<std::size_t>(point));
    } else if (-4 < point && point <= 0) {
      to_ += "0.";
      to_.append(static_cast<std::size_t>(-point), '0');
      to_ += digits;
    } else {
      to_ += digits[0];
      if (count > 1) to_.append(".").append(digits, 1);
      to_ += exponent < 0 ? "e-" : "e+";
      if (std::abs(exponent) < 10) to_ += '0';
      write_whole(std::abs(exponent));
    }
  }

  void write_text(const std::string& text) {
    to_ += '"';
    for (std::size_t at = 0; at < text.size();) at += write_character(text, at);
    to_ += '"';
  }
  // How many bytes it took.
  std::size_t write_character(const std::string& text, std::size_t at) {
    const auto first = static_cast<unsigned char>(text[at]);
    if (first >= 0x80) return write_beyond_ascii(text, at);
    switch (first) {
      case '"':
        to_ += "\\\"";
        break;
      case '\\':
        to_ += "\\\\";
        break;
      case '\b':
        to_ += "\\b";
        break;
      case '\f':
        to_ += "\\f";
        break;
      case '\n':
        to_ += "\\n";
        break;
      case '\r':
        to_ += "\\r";
        break;
      case '\t':
        to_ += "\\t";
        break;
      default:
        if (first < 0x20 || (ascii_ && first == 0x7F)) {
          write_escaped(first);
        } else {
          to_ += text[at];
        }
    }
    return 1;
  }
  // (Unicode Standard, table 3-7: well-formed byte sequences.) What is none is replaced as far as it went.
  std::size_t write_beyond_ascii(const std::string& text, std::size_t at) {
    const auto byte = [&](std::size_t k) { return k < text.size() ? static_cast<unsigned char>(text[k]) : 0u; };
    const unsigned first = byte(at);
    std::size_t length = 0;
    unsigned low = 0x80, high = 0xBF;
    if (first >= 0xC2 && first <= 0xDF) length = 2;
    if (first >= 0xE0 && first <= 0xEF) length = 3;
    if (first >= 0xF0 && first <= 0xF4) length = 4;
    if (first == 0xE0) low = 0xA0;
    if (first == 0xED) high = 0x9F;
    if (first == 0xF0) low = 0x90;
    if (first == 0xF4) high = 0x8F;
    std::uint32_t code = length == 2 ? first & 0x1F : length == 3 ? first & 0x0F : first & 0x07;
    std::size_t good = 1;
    for (; good < length; ++good, low = 0x80, high = 0xBF) {
      const unsigned next = byte(at + good);
      if (next < low || next > high) break;
      code = code << 6 | (next & 0x3F);
    }
    if (length == 0 || good < length) {
      to_ += ascii_ ? "\\ufffd" : "\xEF\xBF\xBD";
      return good;
    }
    if (!ascii_) {
      to_.append(text, at, length);
    } else if (code < 0x10000) {
      write_escaped(code);
    } else {
      write_escaped(0xD800 + ((code - 0x10000) >> 10));
      write_escaped(0xDC00 + ((code - 0x10000) & 0x3FF));
    }
    return length;
  }
  void write_escaped(std::uint32_t code) {
    constexpr char digits[] = "0123456789abcdef";
    to_ += "\\u";
    for (int shift = 12; shift >= 0; shift -= 4) to_ += digits[code >> shift & 0xF];
  }

  std::string& to_;
  int indent_;
  bool ascii_;
};

bool find_path(const Value& in, const Value* value, std::string& path) {
  if (&in == value) return true;
  const std::size_t before = path.size();
  if (in.is_array()) {
    for (std::size_t k = 0; k < in.size(); ++k) {
      path += "/" + std::to_string(k);
      if (find_path(in.items()[k], value, path)) return true;
      path.resize(before);
    }
  } else if (in.is_object()) {
    for (const Member& member : in.members()) {
      path += '/';
      for (const char c : member.name) path += c == '~' ? "~0" : c == '/' ? "~1" : std::string(1, c);
      if (find_path(member.value, value, path)) return true;
      path.resize(before);
    }
  }
  return false;
}

}  // namespace

std::string Value::dump(int indent, bool ascii) const {
  std::string text;
  Writer(text, indent, ascii).write(*this, 0);
  return text;
}

std::string path_in(const Value& root, const Value* value) {
  std::string path;
  return value != nullptr && find_path(root, value, path) ? path : std::string();
}

// Making

Value::Value(std::initializer_list<Value> list) {
  const auto is_member = [](const Value& one) { return one.is_array() && one.size() == 2 && one.at(0).is_string(); };
  if (!std::all_of(list.begin(), list.end(), is_member)) {
    *this = array(list);
    return;
  }
  make(Kind::object);
  for (const Value& one : list) (*this)[one.at(0).text()] = one.at(1);
}

Value::Value(const Value& other) : kind_(other.kind_), held_(other.held_) {
  if (kind_ == Kind::text) held_.text = new std::string(*other.held_.text);
  if (kind_ == Kind::array) held_.array = new std::vector<Value>(*other.held_.array);
  if (kind_ == Kind::object) held_.object = new std::vector<Member>(*other.held_.object);
}

Value Value::array(std::initializer_list<Value> list) {
  Value made;
  made.make(Kind::array);
  made.held_.array->assign(list.begin(), list.end());
  return made;
}

Value Value::object() {
  Value made;
  made.make(Kind::object);
  return made;
}

void Value::be(bool value) noexcept {
  kind_ = Kind::boolean;
  held_.boolean = value;
}
void Value::be(std::int64_t value) noexcept {
  if (value >= 0) return be(static_cast<std::uint64_t>(value));
  kind_ = Kind::negative;
  held_.negative = value;
}
void Value::be(std::uint64_t value) noexcept {
  kind_ = Kind::natural;
  held_.natural = value;
}
void Value::be(double value) noexcept {
  kind_ = Kind::number;
  held_.number = value;
}
void Value::be(std::string_view value) {
  held_.text = new std::string(value);
  kind_ = Kind::text;
}
void Value::make(Kind kind) {
  if (kind == Kind::array) held_.array = new std::vector<Value>();
  if (kind == Kind::object) held_.object = new std::vector<Member>();
  kind_ = kind;
}
void Value::drop() noexcept {
  if (kind_ == Kind::text) delete held_.text;
  if (kind_ == Kind::array) delete held_.array;
  if (kind_ == Kind::object) delete held_.object;
  kind_ = Kind::null;
}

// Asking

void Value::refuse(const char* wanted) const {
  throw FieldError(std::string("type must be ") + wanted + ", but is " + name_of(kind_), this);
}

bool Value::boolean() const {
  if (kind_ != Kind::boolean) refuse("boolean");
  return held_.boolean;
}
double Value::number() const {
  if (kind_ == Kind::negative) return static_cast<double>(held_.negative);
  if (kind_ == Kind::natural) return static_cast<double>(held_.natural);
  if (kind_ == Kind::boolean) return held_.boolean ? 1 : 0;
  if (kind_ != Kind::number) refuse("number");
  return held_.number;
}
const std::string& Value::text() const {
  if (kind_ != Kind::text) refuse("string");
  return *held_.text;
}
std::vector<Value>& Value::items() {
  if (kind_ != Kind::array) refuse("array");
  return *held_.array;
}
const std::vector<Value>& Value::items() const {
  if (kind_ != Kind::array) refuse("array");
  return *held_.array;
}
std::vector<Member>& Value::members() {
  if (kind_ != Kind::object) refuse("object");
  return *held_.object;
}
const std::vector<Member>& Value::members() const {
  if (kind_ != Kind::object) refuse("object");
  return *held_.object;
}

std::size_t Value::size() const noexcept {
  switch (kind_) {
    case Kind::null:
      return 0;
    case Kind::array:
      return held_.array->size();
    case Kind::object:
      return held_.object->size();
    default:
      return 1;
  }
}

void Value::for_members(void (*each)(void* to, const std::string& name, const Value& value), void* to) const {
  for (const Member& member : members()) each(to, member.name, member.value);
}

const Value* Value::find(std::string_view name) const noexcept {
  if (kind_ != Kind::object) return nullptr;
  for (const Member& member : *held_.object) {
    if (member.name == name) return &member.value;
  }
  return nullptr;
}

Value& Value::operator[](std::string_view name) {
  if (kind_ == Kind::null) make(Kind::object);
  if (const Value* found = find(name)) return const_cast<Value&>(*found);
  return members().emplace_back(Member{std::string(name), {}}).value;
}

const Value& Value::at(std::string_view name) const {
  if (kind_ != Kind::object) throw FieldError(std::string("cannot use at() with ") + name_of(kind_), this);
  if (const Value* found = find(name)) return *found;
  throw FieldError("key '" + std::string(name) + "' not found", this);
}

const Value& Value::at(std::size_t place) const {
  if (kind_ != Kind::array) throw FieldError(std::string("cannot use at() with ") + name_of(kind_), this);
  if (place < held_.array->size()) return (*held_.array)[place];
  throw FieldError("array index " + std::to_string(place) + " is out of range", this);
}

void Value::erase(std::string_view name) {
  std::erase_if(members(), [&](const Member& member) { return member.name == name; });
}

void Value::push_back(Value value) {
  if (kind_ == Kind::null) make(Kind::array);
  items().push_back(std::move(value));
}

void Value::update(const Value& other) {
  for (const Member& member : other.members()) (*this)[member.name] = member.value;
}

Value Value::value(std::string_view name, const Value& otherwise) const {
  const Value* found = find(name);
  return found == nullptr ? otherwise : *found;
}

bool operator==(const Value& one, const Value& other) noexcept {
  using Kind = Value::Kind;
  if (one.kind_ == other.kind_) {
    switch (one.kind_) {
      case Kind::null:
        return true;
      case Kind::boolean:
        return one.held_.boolean == other.held_.boolean;
      case Kind::negative:
        return one.held_.negative == other.held_.negative;
      case Kind::natural:
        return one.held_.natural == other.held_.natural;
      case Kind::number:
        return one.held_.number == other.held_.number;
      case Kind::text:
        return *one.held_.text == *other.held_.text;
      case Kind::array:
        return *one.held_.array == *other.held_.array;
      case Kind::object:
        return *one.held_.object == *other.held_.object;
    }
  }
  const bool numbers = one.is_number() && other.is_number();
  return numbers && (one.kind_ == Kind::number || other.kind_ == Kind::number) && one.number() == other.number();
}

}  // namespace antcrew::json
