#define JSON_DIAGNOSTICS 1  // a field's error names its path in the file
#include "antcrew/record/record_json.hpp"

#include <nlohmann/json.hpp>

#include "antcrew/base/error.hpp"

namespace antcrew {

using Json = nlohmann::ordered_json;

namespace {

constexpr const char* format_name = "antcrew-record";

template <class Enum, std::size_t N>
Enum enum_from(const Json& json, const Enum (&all)[N]) {
  const auto name = json.get<std::string>();
  for (const Enum value : all) {
    if (name == name_of(value)) return value;
  }
  throw Json::other_error::create(501, "unknown value '" + name + "'", &json);
}

constexpr Fault::Kind fault_kinds[] = {Fault::Kind::wrong_answer, Fault::Kind::threw};
constexpr Cell::Kind cell_kinds[] = {Cell::Kind::baseline, Cell::Kind::variant};

// Absent and null both mean "none".
template <class T>
void read_optional(const Json& json, const char* name, std::optional<T>& value) {
  if (json.contains(name) && !json.at(name).is_null()) value = json.at(name).get<T>();
}

template <class T>
Json nullable(const std::optional<T>& value) {
  return value ? Json(*value) : Json(nullptr);
}

}  // namespace

void to_json(Json& json, const Cache& c) {
  json = {{"level", c.level}, {"size_bytes", c.bytes}, {"count", c.count}, {"line_bytes", c.line_bytes}};
}
void from_json(const Json& json, Cache& c) {
  json.at("level").get_to(c.level);
  json.at("size_bytes").get_to(c.bytes);
  json.at("count").get_to(c.count);
  json.at("line_bytes").get_to(c.line_bytes);
}

void to_json(Json& json, const Machine& m) {
  json = {{"processor", m.processor},
          {"system", m.system},
          {"logical_processors", m.topology.logical_processors},
          {"physical_cores", m.topology.physical_cores},
          {"packages", m.topology.packages},
          {"numa_nodes", m.topology.numa_nodes},
          {"caches", m.topology.caches},
          {"online_processors", m.limits.online_processors},
          {"affinity_processors", m.limits.affinity_processors},
          {"quota_cpus", nullable(m.limits.quota_cpus)},
          {"usable_processors", m.usable_processors()},
          {"stack_limit_bytes", m.limits.stack_bytes},
          {"memory_bytes", m.limits.memory_bytes},
          {"available_bytes", m.limits.available_bytes},
          {"memory_limit_bytes", nullable(m.limits.memory_limit_bytes)},
          {"clock_resolution_ns", m.clock.resolution_ns},
          {"clock_read_ns", m.clock.read_ns},
          {"load_1min", m.load_1min}};
}
void from_json(const Json& json, Machine& m) {
  json.at("processor").get_to(m.processor);
  json.at("system").get_to(m.system);
  json.at("logical_processors").get_to(m.topology.logical_processors);
  json.at("physical_cores").get_to(m.topology.physical_cores);
  json.at("packages").get_to(m.topology.packages);
  json.at("numa_nodes").get_to(m.topology.numa_nodes);
  json.at("caches").get_to(m.topology.caches);
  json.at("online_processors").get_to(m.limits.online_processors);
  json.at("affinity_processors").get_to(m.limits.affinity_processors);
  read_optional(json, "quota_cpus", m.limits.quota_cpus);
  json.at("stack_limit_bytes").get_to(m.limits.stack_bytes);
  json.at("memory_bytes").get_to(m.limits.memory_bytes);
  json.at("available_bytes").get_to(m.limits.available_bytes);
  read_optional(json, "memory_limit_bytes", m.limits.memory_limit_bytes);
  json.at("clock_resolution_ns").get_to(m.clock.resolution_ns);
  json.at("clock_read_ns").get_to(m.clock.read_ns);
  json.at("load_1min").get_to(m.load_1min);
}

void to_json(Json& json, const BuildFacts& b) {
  json = {{"compiler", b.compiler},
          {"flags", b.flags},
          {"build_type", b.build_type},
          {"optimised", b.optimised},
          {"library_optimised", b.library_optimised}};
}
void from_json(const Json& json, BuildFacts& b) {
  json.at("compiler").get_to(b.compiler);
  json.at("flags").get_to(b.flags);
  json.at("build_type").get_to(b.build_type);
  json.at("optimised").get_to(b.optimised);
  json.at("library_optimised").get_to(b.library_optimised);
}

void to_json(Json& json, const PlanFacts& p) {
  json = {{"rounds", p.rounds}, {"budget_s", p.budget_s}, {"seed", p.seed}};
}
void from_json(const Json& json, PlanFacts& p) {
  json.at("rounds").get_to(p.rounds);
  json.at("budget_s").get_to(p.budget_s);
  json.at("seed").get_to(p.seed);
}

void to_json(Json& json, const Point& p) {
  json = {{"size", p.size}, {"dimensions", p.dimensions}};
}
void from_json(const Json& json, Point& p) {
  json.at("size").get_to(p.size);
  json.at("dimensions").get_to(p.dimensions);
}

void to_json(Json& json, const Fault& f) {
  json = {{"kind", name_of(f.kind)}, {"round", f.round}, {"text", f.text}, {"evidence", f.evidence}};
}
void from_json(const Json& json, Fault& f) {
  f.kind = enum_from(json.at("kind"), fault_kinds);
  json.at("round").get_to(f.round);
  json.at("text").get_to(f.text);
  json.at("evidence").get_to(f.evidence);
}

void to_json(Json& json, const Trial& t) {
  json = {{"round", t.round},
          {"wall_s", t.wall_s},
          {"calls", t.calls},
          {"visited_s", t.visited_s},
          {"settling_calls", t.settling_calls},
          {"settling_s", t.settling_s},
          {"cpu_s", t.cpu_s},
          {"agreed", t.agreed}};
}
void from_json(const Json& json, Trial& t) {
  json.at("round").get_to(t.round);
  json.at("wall_s").get_to(t.wall_s);
  json.at("calls").get_to(t.calls);
  json.at("visited_s").get_to(t.visited_s);
  json.at("settling_calls").get_to(t.settling_calls);
  json.at("settling_s").get_to(t.settling_s);
  json.at("cpu_s").get_to(t.cpu_s);
  json.at("agreed").get_to(t.agreed);
}

void to_json(Json& json, const Cell& c) {
  json = {{"variant", c.variant},
          {"crew", c.crew},
          {"kind", name_of(c.kind)},
          {"workers", c.workers},
          {"point", c.point},
          {"startup_s", c.startup_s},
          {"cold_s", c.cold_s},
          {"asked_processors", c.asked_processors},
          {"granted_processors", c.granted_processors},
          {"faults", c.faults},
          {"trials", c.trials}};
}
void from_json(const Json& json, Cell& c) {
  json.at("variant").get_to(c.variant);
  json.at("crew").get_to(c.crew);
  c.kind = enum_from(json.at("kind"), cell_kinds);
  json.at("workers").get_to(c.workers);
  json.at("point").get_to(c.point);
  json.at("startup_s").get_to(c.startup_s);
  json.at("cold_s").get_to(c.cold_s);
  json.at("asked_processors").get_to(c.asked_processors);
  json.at("granted_processors").get_to(c.granted_processors);
  json.at("faults").get_to(c.faults);
  json.at("trials").get_to(c.trials);
}

std::string to_json(const Machine& machine) {
  return Json(machine).dump(1) + "\n";
}

std::string to_json(const Record& r) {
  const Json json = {{"format", format_name},
                     {"version", r.version},
                     {"library_version", r.library_version},
                     {"created", r.created},
                     {"title", r.title},
                     {"agreement", r.agreement},
                     {"measured_s", r.measured_s},
                     {"complete", r.complete},
                     {"machine", r.machine},
                     {"build", r.build},
                     {"plan", r.plan},
                     {"points", r.points},
                     {"cells", r.cells}};
  return json.dump(1) + "\n";
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

Record record_of(const Json& json) {
  Record r;
  json.at("version").get_to(r.version);
  json.at("library_version").get_to(r.library_version);
  json.at("created").get_to(r.created);
  json.at("title").get_to(r.title);
  json.at("agreement").get_to(r.agreement);
  json.at("measured_s").get_to(r.measured_s);
  json.at("complete").get_to(r.complete);
  json.at("machine").get_to(r.machine);
  json.at("build").get_to(r.build);
  json.at("plan").get_to(r.plan);
  json.at("points").get_to(r.points);
  json.at("cells").get_to(r.cells);
  return r;
}

void check_references(const Record& record, const std::string& where) {
  for (const Cell& cell : record.cells) {
    if (cell.point >= record.points.size() || cell.workers < 1) {
      bad_input("record.field", where,
                "the cell of '" + cell.variant + "' names a point or worker count that does not exist",
                "give an undamaged record");
    }
  }
}

}  // namespace

Record record_from_json(const std::string& text, const std::string& where) {
  const Json json = parsed(text, where);
  check_format(json, where);
  try {
    Record record = record_of(json);
    check_references(record, where);
    return record;
  } catch (const Json::exception& error) {
    const std::string what = error.what();  // "[json.exception.…] (/cells/0) key 'workers' not found"
    const std::size_t bracket = what.find("] ");
    bad_input("record.field", where, bracket == std::string::npos ? what : what.substr(bracket + 2),
              "give an undamaged record");
  }
}

}  // namespace antcrew
