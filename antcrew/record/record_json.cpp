#define JSON_DIAGNOSTICS 1  // a field's error names its path in the file
#include "antcrew/record/record_json.hpp"

#include <algorithm>
#include <nlohmann/json.hpp>

#include "antcrew/base/error.hpp"

namespace antcrew {

using Json = nlohmann::ordered_json;

namespace {

constexpr const char* format_name = "antcrew-record";

constexpr Fault::Kind fault_kinds[] = {Fault::Kind::crashed,     Fault::Kind::out_of_memory, Fault::Kind::timed_out,
                                       Fault::Kind::threw,       Fault::Kind::wrong_answer,  Fault::Kind::left_work,
                                       Fault::Kind::threads_left};
constexpr Cell::Kind cell_kinds[] = {Cell::Kind::baseline, Cell::Kind::variant, Cell::Kind::probe};
constexpr Pin pins[] = {Pin::off, Pin::apart, Pin::near};

template <class Enum, std::size_t N>
void enum_from(const Json& json, const Enum (&all)[N], Enum& value) {
  const auto name = json.get<std::string>();
  for (const Enum known : all) {
    if (name == name_of(known)) {
      value = known;
      return;
    }
  }
  throw Json::other_error::create(501, "unknown value '" + name + "'", &json);
}

// One list of fields a type, used for writing and for reading. R is the type, const when it is written.
template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, Cache>
void fields(F&& f, R& c) {
  f("level", c.level);
  f("size_bytes", c.bytes);
  f("count", c.count);
  f("line_bytes", c.line_bytes);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, Machine>
void fields(F&& f, R& m) {
  f("processor", m.processor);
  f("system", m.system);
  f("logical_processors", m.topology.logical_processors);
  f("physical_cores", m.topology.physical_cores);
  f("packages", m.topology.packages);
  f("numa_nodes", m.topology.numa_nodes);
  f("caches", m.topology.caches);
  f("online_processors", m.limits.online_processors);
  f("affinity_processors", m.limits.affinity_processors);
  f("quota_cpus", m.limits.quota_cpus);
  f("stack_limit_bytes", m.limits.stack_bytes);
  f("memory_bytes", m.limits.memory_bytes);
  f("available_bytes", m.limits.available_bytes);
  f("memory_limit_bytes", m.limits.memory_limit_bytes);
  f("clock_resolution_ns", m.clock.resolution_ns);
  f("clock_read_ns", m.clock.read_ns);
  f("load_1min", m.load_1min);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, BuildFacts>
void fields(F&& f, R& b) {
  f("compiler", b.compiler);
  f("flags", b.flags);
  f("build_type", b.build_type);
  f("optimised", b.optimised);
  f("library_optimised", b.library_optimised);
  f("program_hash", b.program_hash);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, PlanFacts>
void fields(F&& f, R& p) {
  f("least_rounds", p.least_rounds);
  f("most_rounds", p.most_rounds);
  f("width", p.width);
  f("budget_s", p.budget_s);
  f("seed", p.seed);
  f("stands", p.stands);
  f("weak_scaling", p.weak_scaling);
  f("asked", p.asked);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, Point>
void fields(F&& f, R& p) {
  f("size", p.size);
  f("dimensions", p.dimensions);
  f("pin", p.pin);
  f("base_size", p.base_size);
  f("grown_for", p.grown_for);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, Fault>
void fields(F&& f, R& fault) {
  f("kind", fault.kind);
  f("round", fault.round);
  f("text", fault.text);
  f("evidence", fault.evidence);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, PhaseFacts>
void fields(F&& f, R& p) {
  f("worker_s", p.worker_s);
  f("count", p.count);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, Trial>
void fields(F&& f, R& t) {
  f("round", t.round);
  f("stand", t.stand);
  f("wall_s", t.wall_s);
  f("calls", t.calls);
  f("visited_s", t.visited_s);
  f("settling_calls", t.settling_calls);
  f("settling_s", t.settling_s);
  f("user_s", t.user_s);
  f("system_s", t.system_s);
  f("others_cpu_s", t.others_cpu_s);
  f("run_delay_s", t.run_delay_s);
  f("switches_voluntary", t.switches_voluntary);
  f("switches_forced", t.switches_forced);
  f("faults_minor", t.faults_minor);
  f("faults_major", t.faults_major);
  f("peak_bytes", t.peak_bytes);
  f("compare_s", t.compare_s);
  f("tail_s", t.tail_s);
  f("tail_cpu_s", t.tail_cpu_s);
  f("agreed", t.agreed);
  f("phases", t.phases);
  f("counters", t.counters);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, Cell>
void fields(F&& f, R& c) {
  f("variant", c.variant);
  f("crew", c.crew);
  f("kind", c.kind);
  f("workers", c.workers);
  f("point", c.point);
  f("attempt", c.attempt);
  f("probe_of", c.probe_of);
  f("startup_s", c.startup_s);
  f("cold_s", c.cold_s);
  f("tree_bytes", c.tree_bytes);
  f("asked_processors", c.asked_processors);
  f("granted_processors", c.granted_processors);
  f("faults", c.faults);
  f("trials", c.trials);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, CrowdFacts>
void fields(F&& f, R& c) {
  f("point", c.point);
  f("copies", c.copies);
  f("time_s", c.time_s);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, BlockFacts>
void fields(F&& f, R& b) {
  f("point", b.point);
  f("make_input_s", b.make_input_s);
  f("reference_s", b.reference_s);
  f("input_bytes", b.input_bytes);
  f("own_inputs", b.own_inputs);
  f("wall_s", b.wall_s);
  f("own_cpu_s", b.own_cpu_s);
  f("other_cpu_s", b.other_cpu_s);
  f("steal_s", b.steal_s);
  f("throttled_s", b.throttled_s);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, Record>
void fields(F&& f, R& r) {
  f("version", r.version);
  f("library_version", r.library_version);
  f("created", r.created);
  f("title", r.title);
  f("agreement", r.agreement);
  f("measured_s", r.measured_s);
  f("complete", r.complete);
  f("load_before", r.load_before);
  f("machine", r.machine);
  f("build", r.build);
  f("plan", r.plan);
  f("points", r.points);
  f("blocks", r.blocks);
  f("crowds", r.crowds);
  f("ladders", r.ladders);
  f("cells", r.cells);
}

struct Writer {
  Json& json;
  template <class T>
  void operator()(const char* name, const T& value) const {
    json[name] = value;
  }
  template <class T>
  void operator()(const char* name, const std::optional<T>& value) const {
    json[name] = value ? Json(*value) : Json(nullptr);
  }
};

struct Reader {
  const Json& json;
  template <class T>
  void operator()(const char* name, T& value) const {
    json.at(name).get_to(value);
  }
  // Absent and null both mean "none".
  template <class T>
  void operator()(const char* name, std::optional<T>& value) const {
    if (json.contains(name) && !json.at(name).is_null()) value = json.at(name).get<T>();
  }
};

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
void to_json(Json& json, Pin pin) {
  json = name_of(pin);
}
void from_json(const Json& json, Pin& pin) {
  const std::string before = json.is_string() ? json.get<std::string>() : "";  // "spread", "close": earlier words
  if (before != "spread" && before != "close") return enum_from(json, pins, pin);
  pin = before == "spread" ? Pin::apart : Pin::near;
}

template <Described T>
void to_json(Json& json, const T& value) {
  json = Json::object();
  fields(Writer{json}, value);
  if constexpr (std::is_same_v<T, Machine>) json["usable_processors"] = value.usable_processors();
}
template <Described T>
void from_json(const Json& json, T& value) {
  fields(Reader{json}, value);
}

std::string to_json(const Machine& machine) {
  return Json(machine).dump(1) + "\n";
}

std::string to_json(const Cell& cell) {
  return Json(cell).dump();
}

std::string to_json(const Record& record) {
  Json json = {{"format", format_name}};
  fields(Writer{json}, record);
  return json.dump(1) + "\n";
}

namespace {

constexpr const char* here_come_trials = "here come the trials of this cell";

// Writes everything but the trials, for which it leaves a mark.
struct MarkingWriter {
  Json& json;
  template <class T>
  void operator()(const char* name, const T& value) const {
    Writer{json}(name, value);
  }
  void operator()(const char* name, const std::vector<Trial>&) const { json[name] = here_come_trials; }
  void operator()(const char* name, const std::vector<Cell>& cells) const {
    json[name] = Json::array();
    for (const Cell& cell : cells) {
      Json one = Json::object();
      fields(MarkingWriter{one}, cell);
      json[name].push_back(std::move(one));
    }
  }
};

}  // namespace

void GrowingRecordText::keep_up(Cached& cached, const Cell& cell) {
  if (cell.trials.size() < cached.trials) {  // a round in flight was dropped
    cached.trials = cell.trials.size();
    cached.ends.resize(cached.trials);
    cached.text.resize(cached.ends.empty() ? 0 : cached.ends.back());
  }
  for (; cached.trials < cell.trials.size(); ++cached.trials) {
    cached.text += cached.trials > 0 ? ",\n" : "\n";
    cached.text += Json(cell.trials[cached.trials]).dump();
    cached.ends.push_back(cached.text.size());
  }
}

std::string GrowingRecordText::text(const Record& record) {
  Json json = {{"format", format_name}};
  fields(MarkingWriter{json}, record);
  const std::string frame = json.dump();
  const std::string mark = std::string("\"") + here_come_trials + "\"";
  cells_.resize(record.cells.size());
  std::string text;
  std::size_t from = 0;
  for (std::size_t i = 0; i < record.cells.size(); ++i) {
    keep_up(cells_[i], record.cells[i]);
    const std::size_t at = frame.find(mark, from);
    text.append(frame, from, at - from).append("[").append(cells_[i].text).append("]");
    from = at + mark.size();
  }
  return text.append(frame, from).append("\n");
}

namespace {

Json parsed(const std::string& text, const std::string& where) {
  try {
    return Json::parse(text);
  } catch (const Json::parse_error& error) {
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

}  // namespace

// "[json.exception.…] (/cells/0) key 'workers' not found"
[[noreturn]] static void bad_field(const Json::exception& error, const std::string& where) {
  const std::string what = error.what();
  const std::size_t bracket = what.find("] ");
  bad_input("record.field", where, bracket == std::string::npos ? what : what.substr(bracket + 2),
            "give an undamaged record");
}

Record record_from_json(const std::string& text, const std::string& where) {
  const Json json = parsed(text, where);
  check_format(json, where);
  try {
    Record record;
    fields(Reader{json}, record);
    check_references(record, where);
    return record;
  } catch (const Json::exception& error) {
    bad_field(error, where);
  }
}

Cell cell_from_json(const std::string& text, const std::string& where) {
  try {
    return parsed(text, where).get<Cell>();
  } catch (const Json::exception& error) {
    bad_field(error, where);
  }
}

}  // namespace antcrew
