#include "antcrew/machine/control_group.hpp"

#include <algorithm>
#include <cstdlib>
#include <fstream>
#include <sstream>

namespace antcrew::machine_layer {
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
  const bool below = path.rfind(root, 0) == 0 && (path.size() == root.size() || path[root.size()] == '/');
  if (below) return path.substr(root.size());
  return "/";
}

std::optional<double> number_in(const std::string& path) {
  std::ifstream file(path);
  double value = 0;
  if (file >> value) return value;
  return std::nullopt;
}

// A file of lines "name value".
std::optional<double> named_number(const std::string& path, const std::string& wanted) {
  std::ifstream file(path);
  std::string name;
  double value = 0;
  while (file >> name >> value) {
    if (name == wanted) return value;
  }
  return std::nullopt;
}

struct Quota {
  double cpus = 0;
  double period_s = 0;
};

std::optional<Quota> quota_of(const std::string& folder, bool version2) {
  double period_us = 0;
  double quota_us = 0;
  if (version2) {
    std::ifstream file(folder + "/cpu.max");
    std::string quota;
    if (!(file >> quota >> period_us) || quota == "max") return std::nullopt;
    quota_us = std::strtod(quota.c_str(), nullptr);
  } else {
    quota_us = number_in(folder + "/cpu.cfs_quota_us").value_or(0);
    period_us = number_in(folder + "/cpu.cfs_period_us").value_or(0);
  }
  if (quota_us <= 0 || period_us <= 0) return std::nullopt;
  return Quota{quota_us / period_us, period_us * 1e-6};
}

std::optional<double> memory_limit_of(const std::string& folder, bool version2) {
  constexpr double unlimited = 4e18;  // version 1 writes a huge number for "none"
  const auto limit = number_in(folder + (version2 ? "/memory.max" : "/memory.limit_in_bytes"));
  return limit && *limit < unlimited ? limit : std::nullopt;
}

}  // namespace

// mountinfo: id parent dev root mountpoint options … - type source super-options
std::vector<ControlGroup::Folder> ControlGroup::on_the_way_up(const LimitSources& sources,
                                                              const std::string& controller) {
  std::vector<Folder> found;
  for (const std::string& line : lines_of(sources.proc + "/self/mountinfo")) {
    const std::vector<std::string> fields = split(line, ' ');
    const auto dash = std::find(fields.begin(), fields.end(), "-");
    if (fields.size() < 6 || fields.end() - dash < 4) continue;
    const bool version2 = dash[1] == "cgroup2";
    if (!version2 && !(dash[1] == "cgroup" && contains(split(dash[3], ','), controller))) continue;
    const auto group = group_path(sources.proc, version2, controller);
    if (!group) continue;
    const std::string mount = sources.cgroup_mounts_root + fields[4];
    std::string path = below_root(*group, fields[3]);
    for (path = path == "/" ? "" : path; !path.empty(); path.resize(path.rfind('/')))
      found.push_back({mount + path, version2});
    found.push_back({mount, version2});
  }
  return found;
}

ControlGroup::ControlGroup(const LimitSources& sources) : memory_(on_the_way_up(sources, "memory")) {
  for (const Folder& folder : on_the_way_up(sources, "cpu")) {
    const auto quota = quota_of(folder.path, folder.version2);
    if (!quota) continue;
    limited_cpu_.push_back(folder);
    if (quota_cpus_ && *quota_cpus_ <= quota->cpus) continue;
    quota_cpus_ = quota->cpus;
    period_s_ = quota->period_s;
  }
}

std::optional<std::uint64_t> ControlGroup::memory_limit_bytes() const {
  std::optional<double> smallest;
  for (const Folder& folder : memory_) {
    const auto limit = memory_limit_of(folder.path, folder.version2);
    if (limit && (!smallest || *limit < *smallest)) smallest = limit;
  }
  if (!smallest) return std::nullopt;
  return static_cast<std::uint64_t>(*smallest);
}

std::optional<std::uint64_t> ControlGroup::memory_room_bytes() const {
  std::optional<double> smallest;
  for (const Folder& folder : memory_) {
    const auto limit = memory_limit_of(folder.path, folder.version2);
    const auto used = number_in(folder.path + (folder.version2 ? "/memory.current" : "/memory.usage_in_bytes"));
    if (!limit || !used) continue;
    const double caches =
        named_number(folder.path + "/memory.stat", folder.version2 ? "inactive_file" : "total_inactive_file")
            .value_or(0);
    const double room = std::max(0.0, *limit - *used + caches);
    if (!smallest || room < *smallest) smallest = room;
  }
  if (!smallest) return std::nullopt;
  return static_cast<std::uint64_t>(*smallest);
}

std::optional<double> ControlGroup::throttled_s() const {
  std::optional<double> sum;
  for (const Folder& folder : limited_cpu_) {
    const auto held = folder.version2 ? named_number(folder.path + "/cpu.stat", "throttled_usec")
                                      : named_number(folder.path + "/cpu.stat", "throttled_time");
    if (held) sum = sum.value_or(0) + *held * (folder.version2 ? 1e-6 : 1e-9);
  }
  return sum;
}

const ControlGroup& own_control_group() {
  static const ControlGroup own;
  return own;
}

}  // namespace antcrew::machine_layer
