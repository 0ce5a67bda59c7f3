#include "antcrew/machine/noise.hpp"

#include <time.h>
#include <unistd.h>

#include <algorithm>
#include <fstream>
#include <string>

#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/control_group.hpp"

namespace antcrew::machine_layer {
namespace {

double throttled_s() {
  return own_control_group().throttled_s().value_or(0);
}

}  // namespace

// The first line of /proc/stat: cpu user nice system idle iowait irq softirq steal …, in ticks.
MachineTimes machine_times() {
  std::ifstream file("/proc/stat");
  std::string name;
  double user = 0, nice = 0, system = 0, idle = 0, iowait = 0, irq = 0, softirq = 0, steal = 0;
  file >> name >> user >> nice >> system >> idle >> iowait >> irq >> softirq >> steal;
  const double ticks = static_cast<double>(::sysconf(_SC_CLK_TCK));
  return {(user + nice + system + irq + softirq) / ticks, steal / ticks, throttled_s()};
}

double other_load(double seconds) {
  const MachineTimes before = machine_times();
  const std::int64_t start = now_ns();
  timespec pause{static_cast<time_t>(seconds),
                 static_cast<long>((seconds - static_cast<double>(static_cast<time_t>(seconds))) * 1e9)};
  ::nanosleep(&pause, nullptr);
  const double elapsed_s = static_cast<double>(now_ns() - start) * 1e-9;
  return std::max(0.0, machine_times().busy_s - before.busy_s) / std::max(elapsed_s, 1e-3);
}

}  // namespace antcrew::machine_layer
