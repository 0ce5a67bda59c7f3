#include "antcrew/machine/limits.hpp"

#include <doctest/doctest.h>
#include <sched.h>

#include "antcrew/machine/machine.hpp"
#include "support/command.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using test::TemporaryFolder;
using test::write_file;

namespace {

const std::string meminfo = "MemTotal:       1000 kB\nMemAvailable:    400 kB\n";

LimitSources sources_in(const TemporaryFolder& root) {
  return {root / "proc", root / "mounts"};
}

void version2(const TemporaryFolder& root, const std::string& path) {
  write_file(root / "proc/meminfo", meminfo);
  write_file(root / "proc/self/cgroup", "0::" + path + "\n");
  write_file(root / "proc/self/mountinfo", "30 23 0:26 / /sys/fs/cgroup rw,nosuid shared:9 - cgroup2 cgroup2 rw\n");
}

}  // namespace

TEST_CASE("the smallest quota on the way up to the root counts, version 2") {
  const TemporaryFolder root;
  version2(root, "/office/survey");
  write_file(root / "mounts/sys/fs/cgroup/office/survey/cpu.max", "max 100000\n");
  write_file(root / "mounts/sys/fs/cgroup/office/cpu.max", "150000 100000\n");
  write_file(root / "mounts/sys/fs/cgroup/office/survey/memory.max", "300000000\n");
  write_file(root / "mounts/sys/fs/cgroup/office/memory.max", "max\n");
  const Limits limits = read_limits(sources_in(root));
  CHECK(limits.quota_cpus == 1.5);
  CHECK(limits.memory_limit_bytes == 300'000'000u);
  CHECK(limits.memory_bytes == 1000u * 1024);
  CHECK(limits.available_bytes == 400u * 1024);
  CHECK(limits.usable_processors() == 1);  // 1.5 processors keep one worker busy all the time, not two
}

TEST_CASE("quota and memory limit of version 1, seen through a mount whose root is the group itself") {
  const TemporaryFolder root;
  write_file(root / "proc/meminfo", meminfo);
  write_file(root / "proc/self/cgroup", "5:memory:/box/7\n4:cpu,cpuacct:/box/7\n0::/\n");
  write_file(root / "proc/self/mountinfo",
             "31 23 0:27 /box/7 /cg/cpu rw - cgroup cgroup rw,cpu,cpuacct\n"
             "32 23 0:28 /box/7 /cg/memory rw - cgroup cgroup rw,memory\n");
  write_file(root / "mounts/cg/cpu/cpu.cfs_quota_us", "50000\n");
  write_file(root / "mounts/cg/cpu/cpu.cfs_period_us", "100000\n");
  write_file(root / "mounts/cg/memory/memory.limit_in_bytes", "9223372036854771712\n");
  const Limits limits = read_limits(sources_in(root));
  CHECK(limits.quota_cpus == 0.5);
  CHECK_FALSE(limits.memory_limit_bytes.has_value());
  CHECK(limits.usable_processors() == 1);
}

TEST_CASE("what the group was held back, its period and the room in its memory, version 2") {
  const TemporaryFolder root;
  version2(root, "/office/survey");
  write_file(root / "mounts/sys/fs/cgroup/office/survey/cpu.max", "100000 50000\n");
  write_file(root / "mounts/sys/fs/cgroup/office/survey/cpu.stat",
             "usage_usec 5\nnr_throttled 63\nthrottled_usec 1500000\n");
  write_file(root / "mounts/sys/fs/cgroup/cpu.stat", "throttled_usec 99000000\n");  // others', without a quota of ours
  write_file(root / "mounts/sys/fs/cgroup/office/survey/memory.max", "300000\n");
  write_file(root / "mounts/sys/fs/cgroup/office/survey/memory.current", "250000\n");
  write_file(root / "mounts/sys/fs/cgroup/office/survey/memory.stat", "anon 1\ninactive_file 40000\n");
  const ControlGroup group(sources_in(root));
  CHECK(group.quota_cpus() == 2.0);
  CHECK(group.period_s() == doctest::Approx(0.05));
  CHECK(group.throttled_s() == 1.5);
  CHECK(group.memory_room_bytes() == 90'000u);
  CHECK(read_limits(sources_in(root)).available_bytes == 90'000u);  // less than the 400 kB that the machine has
}

TEST_CASE("the same in version 1, and unknown is not zero") {
  const TemporaryFolder root;
  write_file(root / "proc/meminfo", meminfo);
  write_file(root / "proc/self/cgroup", "4:cpu,cpuacct:/box/7\n");
  write_file(root / "proc/self/mountinfo", "31 23 0:27 / /cg/cpu rw - cgroup cgroup rw,cpu,cpuacct\n");
  write_file(root / "mounts/cg/cpu/box/cpu.cfs_quota_us", "50000\n");
  write_file(root / "mounts/cg/cpu/box/cpu.cfs_period_us", "100000\n");
  write_file(root / "mounts/cg/cpu/box/cpu.stat", "nr_periods 9\nthrottled_time 2500000000\n");
  const ControlGroup group(sources_in(root));
  CHECK(group.throttled_s() == 2.5);
  CHECK(group.period_s() == doctest::Approx(0.1));
  CHECK_FALSE(group.memory_room_bytes().has_value());
  const TemporaryFolder empty;
  CHECK_FALSE(ControlGroup(sources_in(empty)).throttled_s().has_value());
  CHECK(ControlGroup(sources_in(empty)).period_s() == 0);
}

TEST_CASE("no quota, no control group, no files: no limit is invented") {
  const TemporaryFolder root;
  version2(root, "/");
  CHECK_FALSE(read_limits(sources_in(root)).quota_cpus.has_value());
  const TemporaryFolder empty;
  CHECK_FALSE(read_limits(sources_in(empty)).quota_cpus.has_value());
}

TEST_CASE("a smaller affinity mask makes fewer usable processors") {
  cpu_set_t before;
  REQUIRE(sched_getaffinity(0, sizeof before, &before) == 0);
  int first = 0;
  while (!CPU_ISSET(first, &before)) ++first;
  cpu_set_t one;
  CPU_ZERO(&one);
  CPU_SET(first, &one);
  REQUIRE(sched_setaffinity(0, sizeof one, &one) == 0);
  CHECK(read_limits().usable_processors() == 1);
  CHECK(usable_processors_now() == 1);
  CHECK(processor_order(Nearness::apart) == std::vector<int>{first});
  sched_setaffinity(0, sizeof before, &before);
}

TEST_CASE("the machine it runs on makes sense") {
  const Machine machine = this_machine();
  CHECK(machine.topology.physical_cores <= machine.topology.logical_processors);
  CHECK(machine.usable_processors() <= machine.limits.online_processors);
  CHECK(machine.limits.memory_bytes > machine.limits.available_bytes);
  CHECK(machine.clock.read_ns > 0);
  CHECK(machine.clock.resolution_ns >= 1);
  CHECK(processor_order(Nearness::near).size() == static_cast<std::size_t>(machine.limits.affinity_processors));
}
