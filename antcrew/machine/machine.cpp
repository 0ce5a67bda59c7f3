#include "antcrew/machine/machine.hpp"

#include <sys/utsname.h>

#include <cstdlib>
#include <fstream>

#include "antcrew/machine/hardware_counters.hpp"

namespace antcrew::machine_layer {
namespace {

std::string processor_name() {
  std::ifstream file("/proc/cpuinfo");
  for (std::string line; std::getline(file, line);) {
    const std::size_t colon = line.find(": ");
    if (line.rfind("model name", 0) == 0 && colon != std::string::npos) return line.substr(colon + 2);
  }
  return {};
}

std::string system_name() {
  utsname name{};
  return uname(&name) == 0 ? std::string(name.sysname) + " " + name.release : std::string();
}

double load_now() {
  double loads[1] = {0};
  return getloadavg(loads, 1) == 1 ? loads[0] : 0;
}

std::string first_line_of(const char* path) {
  std::ifstream file(path);
  std::string line;
  std::getline(file, line);
  return line;
}

std::optional<bool> flag_in(const char* path, const char* yes) {
  const std::string line = first_line_of(path);
  return line.empty() ? std::nullopt : std::optional<bool>(line == yes);
}

// "always [madvise] never"
std::string chosen_in(const char* path) {
  const std::string line = first_line_of(path);
  const std::size_t from = line.find('[');
  const std::size_t to = line.find(']');
  return from == std::string::npos || to == std::string::npos ? std::string() : line.substr(from + 1, to - from - 1);
}

Settings settings_now() {
  Settings settings;
  settings.governor = first_line_of("/sys/devices/system/cpu/cpu0/cpufreq/scaling_governor");
  settings.boost = flag_in("/sys/devices/system/cpu/cpufreq/boost", "1");
  if (!settings.boost) settings.boost = flag_in("/sys/devices/system/cpu/intel_pstate/no_turbo", "0");
  settings.siblings = flag_in("/sys/devices/system/cpu/smt/active", "1");
  settings.large_pages = chosen_in("/sys/kernel/mm/transparent_hugepage/enabled");
  const HardwareCounters counters;
  settings.counters = counters.refused().empty() ? "counted" : counters.refused();
  return settings;
}

}  // namespace

Machine this_machine() {
  return {processor_name(), system_name(), topology(), read_limits(), measure_clock(), load_now(), settings_now()};
}

}  // namespace antcrew::machine_layer
