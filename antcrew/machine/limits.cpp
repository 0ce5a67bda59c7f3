#include "antcrew/machine/limits.hpp"

#include <sys/resource.h>
#include <unistd.h>

#include <algorithm>
#include <cmath>
#include <fstream>
#include <sstream>
#include <vector>

#include "antcrew/machine/processors.hpp"

namespace antcrew {
namespace {

std::vector<std::string> lines_of(const std::string& path) {
  std::ifstream file(path);
  std::vector<std::string> lines;
  for (std::string line; std::getline(file, line);) lines.push_back(line);
  return lines;
}

std::vector<std::string> split(const std::string& text, char separator) {
  std::vector<std::string> parts;
  std::stringstream stream(text);
  for (std::string part; std::getline(stream, part, separator);) parts.push_back(part);
  return parts;
}

bool contains(const std::vector<std::string>& items, const std::string& wanted) {
  return std::find(items.begin(), items.end(), wanted) != items.end();
}

// A mounted control group hierarchy and this process's place in it.
struct Hierarchy {
  bool version2 = false;
  std::string mount;  // folder where the hierarchy is visible
  std::string path;   // below it
};

// /proc/self/cgroup: "0::/a/b" (version 2), "4:cpu,cpuacct:/a/b" (version 1).
std::optional<std::string> group_path(const std::string& proc, bool version2, const std::string& controller) {
  for (const std::string& line : lines_of(proc + "/self/cgroup")) {
    const std::size_t first = line.find(':');
    const std::size_t second = line.find(':', first + 1);
    if (first == std::string::npos || second == std::string::npos) continue;
    const std::string controllers = line.substr(first + 1, second - first - 1);
    const bool match = version2 ? controllers.empty() : contains(split(controllers, ','), controller);
    if (match) return line.substr(second + 1);
  }
  return std::nullopt;
}

// The mount's own root is the part of the group's path that is not visible below the mount point.
std::string below_root(const std::string& path, const std::string& root) {
  if (root == "/") return path;
  if (path.rfind(root, 0) == 0) return path.substr(root.size());
  return "/";
}

// mountinfo: id parent dev root mountpoint options … - type source super-options
std::vector<Hierarchy> hierarchies(const LimitSources& sources, const std::string& controller) {
  std::vector<Hierarchy> found;
  for (const std::string& line : lines_of(sources.proc + "/self/mountinfo")) {
    const std::vector<std::string> fields = split(line, ' ');
    const auto dash = std::find(fields.begin(), fields.end(), "-");
    if (fields.size() < 6 || fields.end() - dash < 4) continue;
    const bool version2 = dash[1] == "cgroup2";
    if (!version2 && !(dash[1] == "cgroup" && contains(split(dash[3], ','), controller))) continue;
    if (const auto path = group_path(sources.proc, version2, controller)) {
      found.push_back({version2, sources.cgroup_mounts_root + fields[4], below_root(*path, fields[3])});
    }
  }
  return found;
}

std::optional<double> number_in(const std::string& path) {
  std::ifstream file(path);
  double value = 0;
  if (file >> value) return value;
  return std::nullopt;
}

std::optional<double> quota_of(const Hierarchy& at, const std::string& folder) {
  if (at.version2) {
    std::ifstream file(folder + "/cpu.max");
    std::string quota;
    double period = 0;
    if (!(file >> quota >> period) || quota == "max" || period <= 0) return std::nullopt;
    return std::strtod(quota.c_str(), nullptr) / period;
  }
  const auto quota = number_in(folder + "/cpu.cfs_quota_us");
  const auto period = number_in(folder + "/cpu.cfs_period_us");
  if (!quota || !period || *quota <= 0 || *period <= 0) return std::nullopt;
  return *quota / *period;
}

std::optional<double> memory_of(const Hierarchy& at, const std::string& folder) {
  const auto limit = number_in(folder + (at.version2 ? "/memory.max" : "/memory.limit_in_bytes"));
  constexpr double unlimited = 4e18;  // version 1 writes a huge number for "none"
  return limit && *limit < unlimited ? limit : std::nullopt;
}

// A limit of any group above holds too, so the smallest on the way up counts.
template <class Read>
std::optional<double> smallest_on_the_way_up(const LimitSources& sources, const std::string& controller, Read read) {
  std::optional<double> smallest;
  for (const Hierarchy& at : hierarchies(sources, controller)) {
    std::string path = at.path == "/" ? "" : at.path;
    while (true) {
      const auto here = read(at, at.mount + path);
      if (here && (!smallest || *here < *smallest)) smallest = here;
      if (path.empty()) break;
      path.resize(path.rfind('/'));
    }
  }
  return smallest;
}

std::uint64_t meminfo_bytes(const std::string& proc, const std::string& field) {
  for (const std::string& line : lines_of(proc + "/meminfo")) {
    if (line.rfind(field + ":", 0) == 0) return std::strtoull(line.c_str() + field.size() + 1, nullptr, 10) * 1024;
  }
  return 0;
}

// Without the pins of crews; where the system does not tell, all that are online.
int affinity_count() {
  const int own = internal::own_processors().count();
  return own > 0 ? own : static_cast<int>(std::max(1L, sysconf(_SC_NPROCESSORS_ONLN)));
}

}  // namespace

int Limits::usable_processors() const noexcept {
  int usable = std::min(online_processors, affinity_processors);
  if (quota_cpus) usable = std::min(usable, static_cast<int>(std::floor(*quota_cpus + 1e-9)));
  return std::max(usable, 1);
}

int usable_processors_now() {
  static const Limits at_start = read_limits();
  Limits now = at_start;
  now.affinity_processors = affinity_count();
  return now.usable_processors();
}

Limits read_limits(const LimitSources& sources) {
  Limits limits;
  limits.online_processors = static_cast<int>(std::max(1L, sysconf(_SC_NPROCESSORS_ONLN)));
  limits.affinity_processors = affinity_count();
  limits.quota_cpus = smallest_on_the_way_up(sources, "cpu", quota_of);
  rlimit stack{};
  if (getrlimit(RLIMIT_STACK, &stack) == 0 && stack.rlim_cur != RLIM_INFINITY) limits.stack_bytes = stack.rlim_cur;
  limits.memory_bytes = meminfo_bytes(sources.proc, "MemTotal");
  limits.available_bytes = meminfo_bytes(sources.proc, "MemAvailable");
  if (const auto group = smallest_on_the_way_up(sources, "memory", memory_of)) {
    limits.memory_limit_bytes = static_cast<std::uint64_t>(*group);
  }
  rlimit space{};
  if (getrlimit(RLIMIT_AS, &space) == 0 && space.rlim_cur != RLIM_INFINITY) {
    limits.memory_limit_bytes =
        std::min<std::uint64_t>(limits.memory_limit_bytes.value_or(space.rlim_cur), space.rlim_cur);
  }
  return limits;
}

}  // namespace antcrew
