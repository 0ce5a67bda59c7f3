#include "antcrew/record/json.hpp"

#include <algorithm>

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
