#include "antcrew/machine/hardware_counters.hpp"

#include <linux/perf_event.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>

namespace antcrew::machine_layer {
namespace {

int open_counter(std::uint64_t what, bool kernel_too) {
  perf_event_attr attributes{};
  attributes.size = sizeof attributes;
  attributes.type = PERF_TYPE_HARDWARE;
  attributes.config = what;
  attributes.inherit = 1;
  attributes.exclude_hv = 1;
  attributes.exclude_kernel = kernel_too ? 0 : 1;
  attributes.read_format = PERF_FORMAT_TOTAL_TIME_ENABLED | PERF_FORMAT_TOTAL_TIME_RUNNING;
  return static_cast<int>(::syscall(SYS_perf_event_open, &attributes, 0, -1, -1, PERF_FLAG_FD_CLOEXEC));
}

// Scaled up where the processor had to take turns between counters.
std::optional<double> count_in(int counter) {
  std::uint64_t told[3] = {};  // count, time enabled, time running
  if (counter < 0 || ::read(counter, told, sizeof told) != static_cast<ssize_t>(sizeof told) || told[2] == 0)
    return std::nullopt;
  return static_cast<double>(told[0]) * static_cast<double>(told[1]) / static_cast<double>(told[2]);
}

}  // namespace

HardwareCounters::HardwareCounters() {
  for (const bool kernel_too : {true, false}) {
    instructions_ = open_counter(PERF_COUNT_HW_INSTRUCTIONS, kernel_too);
    if (instructions_ < 0) continue;
    cycles_ = open_counter(PERF_COUNT_HW_CPU_CYCLES, kernel_too);
    if (cycles_ >= 0) return;
    ::close(instructions_);
    instructions_ = -1;
  }
  const bool none = errno == ENOENT || errno == ENODEV || errno == EOPNOTSUPP || errno == ENOSYS;
  refused_ = none ? "not counted: this machine has no counters to offer"
                  : std::string("not counted: the kernel refuses (") + std::strerror(errno) + ")";
}

HardwareCounters::~HardwareCounters() {
  if (instructions_ >= 0) ::close(instructions_);
  if (cycles_ >= 0) ::close(cycles_);
}

std::optional<HardwareCounters::Counts> HardwareCounters::read() const {
  const auto instructions = count_in(instructions_);
  const auto cycles = count_in(cycles_);
  if (!instructions || !cycles) return std::nullopt;
  return Counts{*instructions, *cycles};
}

}  // namespace antcrew::machine_layer
