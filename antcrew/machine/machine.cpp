#include "antcrew/machine/machine.hpp"

#include <sys/utsname.h>

#include <cstdlib>
#include <fstream>

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

}  // namespace

Machine this_machine() {
  return {processor_name(), system_name(), topology(), read_limits(), measure_clock(), load_now()};
}

}  // namespace antcrew::machine_layer
