#include "antcrew/machine/limits.hpp"

#include <sys/resource.h>
#include <unistd.h>

#include <algorithm>
#include <cmath>
#include <fstream>

#include "antcrew/machine/processors.hpp"

namespace antcrew::machine_layer {
namespace {

std::uint64_t meminfo_bytes(const std::string& proc, const std::string& field) {
  std::ifstream file(proc + "/meminfo");
  for (std::string line; std::getline(file, line);) {
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
  const ControlGroup group(sources);
  limits.quota_cpus = group.quota_cpus();
  rlimit stack{};
  if (getrlimit(RLIMIT_STACK, &stack) == 0 && stack.rlim_cur != RLIM_INFINITY) limits.stack_bytes = stack.rlim_cur;
  limits.memory_bytes = meminfo_bytes(sources.proc, "MemTotal");
  limits.available_bytes = meminfo_bytes(sources.proc, "MemAvailable");
  limits.memory_limit_bytes = group.memory_limit_bytes();
  if (const auto room = group.memory_room_bytes()) limits.available_bytes = std::min(limits.available_bytes, *room);
  rlimit space{};
  if (getrlimit(RLIMIT_AS, &space) == 0 && space.rlim_cur != RLIM_INFINITY) {
    limits.memory_limit_bytes =
        std::min<std::uint64_t>(limits.memory_limit_bytes.value_or(space.rlim_cur), space.rlim_cur);
  }
  return limits;
}

}  // namespace antcrew::machine_layer
