// The only file that includes the JSON parser: a library's, which calls back for each value as it is read.
#include <nlohmann/json.hpp>

#include "antcrew/record/json.hpp"

namespace antcrew::json {
namespace {

constexpr std::size_t deepest = 1000;

class Builder {
 public:
  explicit Builder(Value& root) : root_(root) {}

  bool null() { return add(Value()); }
  bool boolean(bool value) { return add(value); }
  bool number_integer(std::int64_t value) { return add(value); }
  bool number_unsigned(std::uint64_t value) { return add(value); }
  bool number_float(double value, const std::string&) { return add(value); }
  bool string(std::string& value) { return add(value); }
  bool binary(std::vector<std::uint8_t>&) { return false; }
  bool start_object(std::size_t) { return open(Value::object()); }
  bool start_array(std::size_t) { return open(Value::array()); }
  bool end_object() { return close(); }
  bool end_array() { return close(); }
  // The last of several members of one name counts.
  bool key(std::string& name) {
    member_ = &(*open_.back())[name];
    return true;
  }
  template <class Error>
  bool parse_error(std::size_t position, const std::string&, const Error& error) {
    constexpr int number_out_of_range = 406;
    throw SyntaxError(error.what(), position, error.id == number_out_of_range);
  }

 private:
  Value* place(Value&& value) {
    if (open_.empty()) return &(root_ = std::move(value));
    Value& in = *open_.back();
    if (in.is_object()) return &(*member_ = std::move(value));
    in.push_back(std::move(value));
    return &in.items().back();
  }
  bool add(Value&& value) {
    place(std::move(value));
    return true;
  }
  // Pointers to open values stay: what is open is the last of its array, which grows only once it is closed.
  bool open(Value&& value) {
    if (open_.size() >= deepest) throw SyntaxError("values are nested too deeply", 0, false);
    open_.push_back(place(std::move(value)));
    return true;
  }
  bool close() {
    open_.pop_back();
    return true;
  }

  Value& root_;
  std::vector<Value*> open_;
  Value* member_ = nullptr;
};

}  // namespace

Value Value::parse(std::string_view text) {
  Value root;
  Builder builder(root);
  nlohmann::json::sax_parse(text.begin(), text.end(), &builder);
  return root;
}

std::optional<Value> Value::parsed(std::string_view text) {
  try {
    return parse(text);
  } catch (const SyntaxError&) {
    return std::nullopt;
  }
}

}  // namespace antcrew::json
