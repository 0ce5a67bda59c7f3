// The control groups that this process is in, versions 1 and 2: what they allow, and what they held back.
//
// A limit of any group above holds too, so the smallest on the way up counts. Finding the groups reads some files; the
// readings afterwards read one file a group. Any thread may use one.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "antcrew/machine/layer.hpp"

namespace antcrew::machine_layer {

// Where the kernel's files are; tests give folders of their own.
struct LimitSources {
  std::string proc = "/proc";
  std::string cgroup_mounts_root;  // put before each mount point that mountinfo names
};

class ControlGroup {
 public:
  explicit ControlGroup(const LimitSources& sources = {});

  std::optional<double> quota_cpus() const noexcept { return quota_cpus_; }  // in processors; none = no quota
  double period_s() const noexcept { return period_s_; }                     // of that quota; 0 = no quota
  std::optional<std::uint64_t> memory_limit_bytes() const;
  // What is left of the tightest memory limit, file caches that can be dropped counted as free; none = no limit.
  std::optional<std::uint64_t> memory_room_bytes() const;
  // Time that the groups with a quota were held back so far; none without one.
  std::optional<double> throttled_s() const;

 private:
  struct Folder {
    std::string path;
    bool version2 = false;
  };
  static std::vector<Folder> on_the_way_up(const LimitSources& sources, const std::string& controller);

  std::vector<Folder> limited_cpu_;
  std::vector<Folder> memory_;
  std::optional<double> quota_cpus_;
  double period_s_ = 0;
};

// This process's, found at the first call; a forked one has its parent's.
const ControlGroup& own_control_group();

}  // namespace antcrew::machine_layer
