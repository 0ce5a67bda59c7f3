#include "antcrew/report/machine_text.hpp"

#include <fmt/format.h>

#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {
namespace {

std::string plural(int count, const std::string& noun) {
  return fmt::format("{} {}{}", count, noun, count == 1 ? "" : "s");
}

std::string why_usable(const Limits& limits) {
  std::string text =
      fmt::format("{} online, {} in the affinity mask, ", limits.online_processors, limits.affinity_processors);
  return text + (limits.quota_cpus ? fmt::format("CPU quota {:.3g}", *limits.quota_cpus) : "no CPU quota");
}

std::string cache_text(const Cache& cache) {
  return fmt::format("L{}  {} × {}{}", cache.level, cache.count, cache.bytes == 0 ? "unknown" : bytes_text(cache.bytes),
                     cache.line_bytes == 0 ? "" : fmt::format(", lines of {} B", cache.line_bytes));
}

}  // namespace

std::string machine_text(const Machine& machine, double others_busy) {
  const Limits& limits = machine.limits;
  const Topology& t = machine.topology;
  std::string text =
      fmt::format("{} ({})\n\n", plural(machine.usable_processors(), "usable processor"), why_usable(limits));
  const auto line = [&](const char* name, const std::string& value) {
    text += fmt::format("  {:<14}{}\n", name, value);
  };
  line("processor", machine.processor.empty() ? "unknown" : machine.processor);
  line("system", machine.system);
  line("processors",
       fmt::format("{} logical, {}, {}, {}", t.logical_processors, plural(t.physical_cores, "physical core"),
                   plural(t.packages, "package"), plural(t.numa_nodes, "NUMA node")));
  for (std::size_t i = 0; i < t.caches.size(); ++i) line(i == 0 ? "caches" : "", cache_text(t.caches[i]));
  line("memory",
       fmt::format("{} installed, {} available{}", bytes_text(limits.memory_bytes), bytes_text(limits.available_bytes),
                   limits.memory_limit_bytes ? ", limit " + bytes_text(*limits.memory_limit_bytes) : ", no limit"));
  line("stack limit", bytes_text(limits.stack_bytes) + (limits.stack_bytes == 0 ? "" : " (ulimit -s to change it)"));
  line("clock",
       fmt::format("steps of {:.0f} ns, {:.0f} ns a reading", machine.clock.resolution_ns, machine.clock.read_ns));
  const Settings& set = machine.settings;
  const auto yes_or_no = [](const std::optional<bool>& known) { return !known ? "unknown" : *known ? "on" : "off"; };
  line("frequency", fmt::format("governor {}, boost {}", set.governor.empty() ? "unknown" : printable(set.governor, 30),
                                yes_or_no(set.boost)));
  line("siblings", std::string("several hardware threads a core: ") + yes_or_no(set.siblings));
  line("large pages", set.large_pages.empty() ? "unknown" : printable(set.large_pages, 30));
  line("counters", "instructions and cycles " + (set.counters.empty() ? std::string("unknown") : set.counters));
  line("noise now", fmt::format("{:.2f} processors busy, {:.2f} threads on average over the last minute", others_busy,
                                machine.load_1min));
  return text;
}

}  // namespace antcrew::report_layer
