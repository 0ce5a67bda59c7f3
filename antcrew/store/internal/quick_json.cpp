// The quick parser says nothing of where a fault lies, and refuses some of what the other one takes (whole numbers
// beyond 64 bits, a byte order mark): what it refuses is left to that one.
#include "antcrew/store/internal/quick_json.hpp"

#include <simdjson.h>

#include <cstdint>
#include <utility>

namespace antcrew::internal {
namespace {

using simdjson::dom::element_type;

constexpr int deepest = 1000;  // as json::Value::parse

// False when it is nested too deeply.
bool take(const simdjson::dom::element& from, json::Value& to, int depth);

bool take(const simdjson::dom::array& from, json::Value& to, int depth) {
  to = json::Value::array();
  to.items().reserve(from.size());
  for (const simdjson::dom::element one : from) {
    if (!take(one, to.items().emplace_back(), depth)) return false;
  }
  return true;
}

// The last of several members of one name counts.
bool take(const simdjson::dom::object& from, json::Value& to, int depth) {
  to = json::Value::object();
  to.members().reserve(from.size());
  for (const auto& [name, one] : from) {
    if (!take(one, to[name], depth)) return false;
  }
  return true;
}

bool take(const simdjson::dom::element& from, json::Value& to, int depth) {
  switch (from.type()) {
    case element_type::ARRAY:
      return depth < deepest && take(simdjson::dom::array(from), to, depth + 1);
    case element_type::OBJECT:
      return depth < deepest && take(simdjson::dom::object(from), to, depth + 1);
    case element_type::INT64:
      to = std::int64_t(from);
      break;
    case element_type::UINT64:
      to = std::uint64_t(from);
      break;
    case element_type::DOUBLE:
      to = double(from);
      break;
    case element_type::STRING:
      to = std::string_view(from);
      break;
    case element_type::BOOL:
      to = bool(from);
      break;
    case element_type::NULL_VALUE:
      to = {};
      break;
  }
  return true;
}

}  // namespace

json::Value parse_quickly(std::string_view text) {
  {
    simdjson::dom::parser parser;
    simdjson::dom::element root;
    json::Value value;
    if (parser.parse(text.data(), text.size()).get(root) == simdjson::SUCCESS && take(root, value, 0)) return value;
  }
  return json::Value::parse(text);
}

}  // namespace antcrew::internal
