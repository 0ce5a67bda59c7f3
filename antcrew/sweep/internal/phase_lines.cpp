#include "antcrew/sweep/internal/phase_lines.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <optional>
#include <sstream>
#include <utility>
#include <vector>

#include "antcrew/base/printable.hpp"
#include "antcrew/record/json.hpp"
#include "antcrew/sweep/internal/trial_folder.hpp"

namespace antcrew::internal {
namespace {

constexpr std::size_t most_names = 200;
constexpr std::size_t most_workers = 4096;
constexpr std::size_t longest_line = 4096;
constexpr std::size_t most_phase_bytes = 16 << 20;

struct Stretch {
  double begin;
  double end;
};

// The time in which at least one was in it, and how many were at once.
void add_union(std::vector<Stretch>& stretches, PhaseFacts& phase) {
  std::vector<std::pair<double, int>> borders;
  for (const Stretch& one : stretches) {
    borders.emplace_back(one.begin, 1);
    borders.emplace_back(one.end, -1);
  }
  std::sort(borders.begin(), borders.end());
  double wall = 0;
  double since = 0;
  int inside = 0;
  int most = 0;
  for (const auto& [at, step] : borders) {
    if (inside > 0) wall += at - since;
    inside += step;
    most = std::max(most, inside);
    since = at;
  }
  phase.wall_s = wall;
  phase.at_once = most;
}

class Lines {
 public:
  // What is wrong with it; empty = nothing.
  std::string line(const std::string& text) {
    const Json json = Json::parsed(text).value_or(Json());
    if (!json.is_object()) return "not a JSON object";
    const auto number = [&](const char* key) -> std::optional<double> {
      const Json* found = json.find(key);
      if (found == nullptr || !found->is_number()) return std::nullopt;
      const double value = found->get<double>();
      return std::isfinite(value) ? std::optional<double>(value) : std::nullopt;
    };
    for (auto* sums : {&found_.counters, &found_.quantities}) {
      const std::string kind = sums == &found_.counters ? "counter" : "quantity";
      const Json* counter = json.find(kind.c_str());
      if (counter == nullptr || !counter->is_string()) continue;
      const auto more = number("add");
      if (!more) return "a " + kind + " without a number to \"add\"";
      const std::string name = printable(counter->get<std::string>(), 100);
      if (sums->count(name) == 0 && sums->size() >= most_names) return "too many counters";
      (*sums)[name] += *more;
      return {};
    }
    const Json* phase = json.find("phase");
    if (phase == nullptr || !phase->is_string()) return "neither \"phase\" nor \"counter\" with a name";
    const auto begin = number("begin");
    const auto end = number("end");
    const auto took = number("s");
    if (!took && !(begin && end)) return "a phase without \"s\", or \"begin\" and \"end\"";
    const double seconds = took ? *took : *end - *begin;
    if (seconds < 0) return "a phase that ends before it begins";
    const std::string name = printable(phase->get<std::string>(), 100);
    if (found_.phases.count(name) == 0 && found_.phases.size() >= most_names) return "too many phases";
    PhaseFacts& facts = found_.phases[name];
    facts.worker_s += seconds;
    ++facts.count;
    if (begin && end) stretches_[name].push_back({*begin, *end});
    std::string worker = label(json, "worker");
    if (const std::string host = label(json, "host"); !host.empty()) worker += (worker.empty() ? "" : " on ") + host;
    if (!worker.empty() && (facts.by_worker_s.count(worker) > 0 || facts.by_worker_s.size() < most_workers))
      facts.by_worker_s[worker] += seconds;
    return {};
  }

  PhaseLines finished() {
    for (auto& [name, stretches] : stretches_) {
      PhaseFacts& phase = found_.phases[name];
      if (static_cast<std::int64_t>(stretches.size()) == phase.count) add_union(stretches, phase);
    }
    return std::move(found_);
  }
  void trouble(const std::string& text, const std::string& what) {
    if (found_.not_understood++ == 0) found_.first_trouble = fmt::format("{}: {}", printable(text, 80), what);
  }

 private:
  static std::string label(const Json& json, const char* key) {
    const Json* found = json.find(key);
    if (found == nullptr) return {};
    if (found->is_string()) return printable(found->get<std::string>(), 60);
    return found->is_number_integer() ? std::to_string(found->get<std::int64_t>()) : std::string();
  }

  PhaseLines found_;
  std::map<std::string, std::vector<Stretch>> stretches_;
};

}  // namespace

PhaseLines read_phase_lines(const std::string& path) {
  Lines lines;
  std::string text;
  read_beginning(path, most_phase_bytes, text);
  std::istringstream all(std::move(text));
  for (std::string line; std::getline(all, line);) {
    if (line.find_first_not_of(" \t\r") == std::string::npos) continue;
    const std::string what = line.size() > longest_line ? "too long" : lines.line(line);
    if (!what.empty()) lines.trouble(line, what);
  }
  return lines.finished();
}

}  // namespace antcrew::internal
