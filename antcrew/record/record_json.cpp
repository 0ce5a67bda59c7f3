#include "antcrew/record/record_json.hpp"

#include <algorithm>

#include "antcrew/base/error.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/record/internal/field_json.hpp"
#include "antcrew/record/internal/rank_check.hpp"
#include "antcrew/record/internal/record_fields.hpp"
#include "antcrew/record/internal/timeline_json.hpp"
#include "antcrew/record/point_json.hpp"
#include "antcrew/record/record.hpp"

namespace antcrew::record_layer {

namespace {

using internal::fields;

constexpr const char* format_name = "antcrew-record";
constexpr const char* rounds_beside = "rounds_beside";
constexpr Fault::Kind fault_kinds[] = {
    Fault::Kind::crashed,       Fault::Kind::out_of_memory,   Fault::Kind::timed_out,      Fault::Kind::threw,
    Fault::Kind::wrong_answer,  Fault::Kind::left_work,       Fault::Kind::threads_left,   Fault::Kind::remembered,
    Fault::Kind::changed_input, Fault::Kind::changed_program, Fault::Kind::cannot_disagree};
constexpr Cell::Kind cell_kinds[] = {Cell::Kind::baseline, Cell::Kind::variant, Cell::Kind::probe};
constexpr Pin pins[] = {Pin::off, Pin::apart, Pin::near};
constexpr LeftOut::What left_outs[] = {LeftOut::What::everything, LeftOut::What::cells,      LeftOut::What::rounds,
                                       LeftOut::What::points,     LeftOut::What::confirming, LeftOut::What::checks,
                                       LeftOut::What::metering};

template <class Enum, std::size_t N>
void enum_from(const Json& json, const Enum (&all)[N], Enum& value) {
  const auto name = json.get<std::string>();
  for (const Enum known : all) {
    if (name == name_of(known)) {
      value = known;
      return;
    }
  }
  throw json::FieldError("unknown value '" + name + "'", &json);
}

using Writer = internal::FieldWriter;
using Reader = internal::FieldReader;

template <class T>
concept Described = requires(Json& json, const T& value) {
  fields(Writer{json}, value);
};

}  // namespace

void to_json(Json& json, Fault::Kind kind) {
  json = name_of(kind);
}
void from_json(const Json& json, Fault::Kind& kind) {
  enum_from(json, fault_kinds, kind);
}
void to_json(Json& json, Cell::Kind kind) {
  json = name_of(kind);
}
void from_json(const Json& json, Cell::Kind& kind) {
  enum_from(json, cell_kinds, kind);
}
void to_json(Json& json, LeftOut::What what) {
  json = name_of(what);
}
void from_json(const Json& json, LeftOut::What& what) {
  enum_from(json, left_outs, what);
}
template <Described T>
void to_json(Json& json, const T& value) {
  json = Json::object();
  fields(Writer{json}, value);
}
template <Described T>
void from_json(const Json& json, T& value) {
  fields(Reader{json}, value);
}

}  // namespace antcrew::record_layer

// Found by the namespace of what is written.
namespace antcrew {

using namespace base_layer;

void to_json(Json& json, Pin pin) {
  json = name_of(pin);
}
void from_json(const Json& json, Pin& pin) {
  const std::string before = json.is_string() ? json.get<std::string>() : "";  // "spread", "close": earlier words
  if (before != "spread" && before != "close") return record_layer::enum_from(json, record_layer::pins, pin);
  pin = before == "spread" ? Pin::apart : Pin::near;
}

}  // namespace antcrew

namespace antcrew::machine_layer {

template <record_layer::Described T>
void to_json(Json& json, const T& value) {
  json = Json::object();
  fields(record_layer::Writer{json}, value);
  if constexpr (std::is_same_v<T, Machine>) json["usable_processors"] = value.usable_processors();
}
template <record_layer::Described T>
void from_json(const Json& json, T& value) {
  fields(record_layer::Reader{json}, value);
}

}  // namespace antcrew::machine_layer

// Metered calls: short numbers, and nothing that is as usual.
namespace antcrew::internal {

inline void to_json(Json& json, const LaneParts& parts) {
  json = Json::array();
  for (const double seconds : parts.seconds) json.push_back(short_number(seconds));
}
inline void from_json(const Json& json, LaneParts& parts) {
  const std::size_t count = std::min(json.size(), lane_states);  // states that came later are zero in older records
  for (std::size_t k = 0; k < count; ++k) json.at(k).get_to(parts.seconds[k]);
}
template <record_layer::Described T>
void to_json(Json& json, const T& value) {
  json = Json::object();
  fields(ShortFieldWriter{json}, value);
}
template <record_layer::Described T>
void from_json(const Json& json, T& value) {
  fields(record_layer::Reader{json}, value);
}

}  // namespace antcrew::internal

namespace antcrew::record_layer {
namespace {

constexpr const char* always_there[] = {"round", "wall_s", "calls"};

bool is_always_there(const std::string& name) {
  return std::find(std::begin(always_there), std::end(always_there), name) != std::end(always_there);
}

// A column a field, null where a trial does not know it; one in which all have the default is left out.
Json columns_of(const std::vector<Trial>& trials) {
  Json columns = Json::object();
  if (trials.empty()) return columns;
  const Json usual = Trial{};
  for (const auto& [name, value] : usual.members()) columns[name] = Json::array();
  for (const Trial& trial : trials) {
    Json row = trial;
    for (auto& [name, value] : row.members()) columns[name].push_back(std::move(value));
  }
  for (const json::Member& field : usual.members()) {
    const std::vector<Json>& column = columns.at(field.name).items();
    const bool told = is_always_there(field.name) ||
                      std::any_of(column.begin(), column.end(), [&](const Json& one) { return !(one == field.value); });
    if (!told) columns.erase(field.name);
  }
  return columns;
}

std::vector<Trial> trials_of(const Json& columns) {
  std::vector<Trial> trials;
  if (columns.empty()) return trials;
  for (const char* name : always_there) columns.at(name);
  const std::size_t count = columns.at("round").size();
  for (const auto& [name, column] : columns.members()) {
    if (!column.is_array() || column.size() != count)
      throw json::FieldError("the column '" + name + "' is not as long as the others", &columns);
  }
  std::vector<const Json*> found;
  Trial usual;
  fields(internal::ColumnFinder{columns, found}, usual);
  trials.resize(count);
  for (std::size_t row = 0; row < count; ++row) {
    std::size_t field = 0;
    fields(internal::RowReader{found, row, field}, trials[row]);
  }
  return trials;
}

// As Writer, but for the trials of cells, which become columns.
struct RecordWriter : Writer {
  using Writer::operator();
  void operator()(const char* name, const std::vector<Trial>& trials) const { json[name] = columns_of(trials); }
  void operator()(const char* name, const std::vector<Cell>& cells) const {
    json[name] = Json::array();
    for (const Cell& cell : cells) {
      Json one = Json::object();
      fields(RecordWriter{{one}}, cell);
      json[name].push_back(std::move(one));
    }
  }
};

// Trials come as columns or, before version 2, one by one.
struct CellReader : Reader {
  using Reader::operator();
  void operator()(const char* name, std::vector<Trial>& trials) const {
    const Json& there = json.at(name);
    trials = there.is_array() ? there.get<std::vector<Trial>>() : trials_of(there);
  }
  void operator()(const char* name, std::vector<Cell>& cells) const {
    const Json& there = json.at(name);
    cells.resize(there.size());
    for (std::size_t i = 0; i < cells.size(); ++i) fields(CellReader{{there.at(i)}}, cells[i]);
  }
};

// The first records had one number of rounds, and CPU time that was not split.
void understand_first_records(const Json& json, Record& record) {
  const Json& plan = json.at("plan");
  if (plan.contains("rounds")) plan.at("rounds").get_to(record.plan.least_rounds);
  if (plan.contains("rounds")) record.plan.most_rounds = record.plan.least_rounds;
  for (std::size_t i = 0; i < record.cells.size(); ++i) {
    const Json& trials = json.at("cells").at(i).at("trials");
    for (std::size_t k = 0; trials.is_array() && k < trials.size(); ++k) {
      if (trials[k].contains("cpu_s")) record.cells[i].trials[k].user_s = trials[k].at("cpu_s").get<double>();
    }
  }
}

// What older records have no word for.
void complete(Record& record) {
  for (Cell& cell : record.cells) {
    for (internal::LaneSums& sums : cell.metered) {
      if (!sums.ranks || internal::fits_together(*sums.ranks)) continue;
      sums.ranks.reset();
      sums.withheld = "what the record says of its ranks does not fit together";
    }
    for (Trial& trial : cell.trials) {
      if (trial.generation == 0) trial.generation = trial.round;
      if (record.version < 2 && trial.peak_bytes == 0u) trial.peak_bytes.reset();
      if (record.version >= 3) continue;  // until then what was used was always known, and not written where it was 0
      for (auto field : {&Trial::user_s, &Trial::system_s, &Trial::others_cpu_s})
        trial.*field = (trial.*field).value_or(0);
      for (auto field :
           {&Trial::switches_voluntary, &Trial::switches_forced, &Trial::faults_minor, &Trial::faults_major})
        trial.*field = (trial.*field).value_or(0);
    }
  }
}

bool is_plain(const std::string& name) {
  return std::all_of(name.begin(), name.end(), [](char c) { return c >= ' ' && c <= '~'; });
}

// A record may come from anywhere, and what it says goes to terminals.
void make_printable(Json& json) {
  if (json.is_string()) {
    json = printable(json.text());
  } else if (json.is_array()) {
    for (Json& one : json.items()) make_printable(one);
  } else if (json.is_object() && std::all_of(json.members().begin(), json.members().end(),
                                             [](const json::Member& member) { return is_plain(member.name); })) {
    for (auto& [name, value] : json.members()) make_printable(value);
  } else if (json.is_object()) {
    Json clean = Json::object();
    for (auto& [name, value] : json.members()) {
      make_printable(value);
      clean[printable(name)] = std::move(value);
    }
    json = std::move(clean);
  }
}

// Numbers need no look; in a text that has none of these, nor do strings.
bool may_be_unprintable(const std::string& text) {
  return text.find("\\") != std::string::npos || std::any_of(text.begin(), text.end(), [](char c) {
           const auto byte = static_cast<unsigned char>(c);
           return byte >= 0x7F || (byte < 0x20 && c != '\n' && c != '\t' && c != '\r');
         });
}

Json parsed(const std::string& text, const std::string& where, ParseJson parse = &Json::parse) {
  try {
    Json json = parse(text);
    if (may_be_unprintable(text)) make_printable(json);
    return json;
  } catch (const json::SyntaxError& error) {
    if (error.out_of_range)
      bad_input("record.syntax", where, "a number in it is out of range", "give a record that a study saved");
    if (error.byte == 0)
      bad_input("record.syntax", where, "values in it are nested more than 1,000 deep",
                "give a record that a study saved");
    const bool cut = error.byte > text.size();
    bad_input("record.syntax", where,
              cut ? "cut short after " + std::to_string(text.size()) + " bytes"
                  : "not JSON at byte " + std::to_string(error.byte),
              "give a record that a study saved, ending in .json");
  }
}

void check_format(const Json& json, const std::string& where) {
  if (!json.is_object() || json.value("format", Json()) != format_name) {
    bad_input("record.format", where, "JSON, but not an Ant Crew record", "give a record that a study saved");
  }
  const Json version = json.value("version", Json());
  if (!version.is_number_integer()) {
    bad_input("record.field", where, "the field 'version' is missing or not a number", "give an undamaged record");
  }
  if (version.get<int>() > Record::newest_version) {
    bad_input("record.version", where,
              "a record of version " + std::to_string(version.get<int>()) + ", this Ant Crew (" + library_version() +
                  ") reads up to version " + std::to_string(Record::newest_version),
              "use a newer Ant Crew");
  }
}

// "(/cells/0) key 'workers' not found"
[[noreturn]] void bad_field(const json::FieldError& error, const Json& in, const std::string& where) {
  const std::string path = json::path_in(in, error.at);
  bad_input("record.field", where, (path.empty() ? "" : "(" + path + ") ") + error.what(), "give an undamaged record");
}

}  // namespace

std::string to_json(const Machine& machine) {
  return Json(machine).dump(1) + "\n";
}

std::string to_json(const Record& record, const std::string& rounds_token) {
  Json json = {{"format", format_name}};
  if (!rounds_token.empty()) json[rounds_beside] = rounds_token;
  fields(RecordWriter{{json}}, record);
  json["version"] = Record::newest_version;
  return json.dump(rounds_token.empty() ? 1 : -1) + "\n";
}

Record record_from_json(const std::string& text, const std::string& where, std::string* rounds_token) {
  return record_from_json(text, where, rounds_token, &Json::parse);
}

Record record_from_json(const std::string& text, const std::string& where, std::string* rounds_token, ParseJson parse) {
  const Json json = parsed(text, where, parse);
  check_format(json, where);
  try {
    Record record;
    fields(CellReader{{json}}, record);
    understand_first_records(json, record);
    complete(record);
    record.version = Record::newest_version;
    check_references(record, where);
    if (rounds_token != nullptr) *rounds_token = json.value(rounds_beside, "").get<std::string>();
    return record;
  } catch (const json::FieldError& error) {
    bad_field(error, json, where);
  }
}

std::string to_json(const RecordStep& step) {
  Json json = {{"at_s", step.measured_s}};
  if (step.visited) json["visited"] = {{"cell", step.visited->cell}, {"seen", Json(step.visited->seen)}};
  if (step.block) json["block"] = *step.block;
  if (step.crowd) json["crowd"] = *step.crowd;
  if (step.confirmation) json["confirmation"] = *step.confirmation;
  if (step.left_out) json["left_out"] = *step.left_out;
  if (step.yardstick) json["yardstick"] = *step.yardstick;
  if (step.together) json["together"] = *step.together;
  if (step.waited_idle_s > 0) json["waited_idle_s"] = step.waited_idle_s;
  if (step.dropped) json["dropped"] = {{"asleep", step.dropped->asleep}, {"paused", step.dropped->paused}};
  return json.dump();
}

RecordStep step_from_json(const std::string& text, const std::string& where) {
  const Json json = parsed(text, where);
  try {
    RecordStep step;
    const Reader read{json};
    read("at_s", step.measured_s);
    if (json.contains("visited")) {
      step.visited.emplace();
      json.at("visited").at("cell").get_to(step.visited->cell);
      fields(CellReader{{json.at("visited").at("seen")}}, step.visited->seen);
    }
    read.later("block", step.block);
    read.later("crowd", step.crowd);
    read.later("confirmation", step.confirmation);
    read.later("left_out", step.left_out);
    read.later("yardstick", step.yardstick);
    read.later("together", step.together);
    read.later("waited_idle_s", step.waited_idle_s);
    if (json.contains("dropped")) {
      step.dropped = {json.at("dropped").at("asleep").get<int>(), json.at("dropped").at("paused").get<int>()};
    }
    return step;
  } catch (const json::FieldError& error) {
    bad_field(error, json, where);
  }
}

}  // namespace antcrew::record_layer
