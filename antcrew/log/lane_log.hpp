// What the workers of one call did when: plain data, as it is read once the call has returned.
//
// A lane is the time line of one worker. It is made of stretches, one after the other without gaps, each of which tells
// what was at the top of the worker's stack of frames. Work taken up while waiting lies on top of the wait.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "antcrew/log/rank_facts.hpp"

namespace antcrew::internal {

enum class Doing : std::uint8_t {
  away,     // in no call of a crew
  body,     // the user's work
  waiting,  // inside a call of the crew, for others
  lock,
  stage,     // for a step or a stage of a pipeline
  moving,    // data between processes
  serial,    // the caller between regions
  starting,  // the caller, starting or ending a crew
  message,   // in a body of a rank, for another rank
};

// How a region's work is shared out.
enum class Sharing : std::uint8_t { even, pieces, halves, forks, group, graph, stages, processes, ranks, rank_pieces };

// What a worker of a pipeline waits for.
enum class Shortage : std::uint8_t { none, stage_taken, buffer_full, source };

struct Stretch {
  std::int64_t end_ns = 0;
  std::int64_t cpu_ns = -1;     // of the thread since it began, read at the end of the stretch; -1 = not read there
  std::int64_t delay_ns = -1;   // ready to run and not running, likewise
  std::int64_t called_ns = 0;   // of away and waiting: when somebody called this worker to new work; 0 = nobody did
  const void* about = nullptr;  // which lock; which stage, by its name; the rank waited for, + 1
  const char* phase = nullptr;  // innermost one that the worker's own work opened
  std::uint64_t first = 0;      // index of the first item of the pieces that end here
  std::uint64_t items = 0;      // of those pieces
  std::uint32_t pieces = 0;     // that end here
  std::uint32_t region = 0;     // from 1 on; 0 = none
  std::uint32_t thread = 0;     // by the kernel's number
  Doing doing = Doing::away;
  Shortage shortage = Shortage::none;
  // Since the last reading of the CPU clock, when time went by off the processor: whether the thread gave it up itself.
  enum class Slept : std::uint8_t { not_asked, no, yes };
  Slept slept = Slept::not_asked;
  bool stolen = false;  // the piece was taken from another worker
};

inline int awaited_rank(const Stretch& stretch) noexcept {
  return static_cast<int>(reinterpret_cast<std::uintptr_t>(stretch.about)) - 1;
}
inline const void* awaiting(int rank) noexcept {
  return reinterpret_cast<const void*>(static_cast<std::uintptr_t>(rank) + 1);
}

struct LaneRegion {
  std::int64_t begin_ns = 0;
  std::int64_t end_ns = 0;     // 0 = it had not ended
  const char* file = nullptr;  // the call's place in the source; null = not known
  const char* phase = nullptr;
  std::uint64_t n = 0;
  std::uint32_t workers = 0;
  int line = 0;
  Sharing sharing = Sharing::even;
  bool inner = false;  // begun inside a body
  bool grows = false;  // work was found on the way; of loops and processes: whoever takes part is only being started
  const char* crew = nullptr;
};

struct LaneLock {
  const void* address = nullptr;
  const char* name = nullptr;
  std::uint64_t holds = 0;
  std::uint64_t timed_holds = 0;
  std::int64_t timed_ns = 0;
  std::int64_t timed_cpu_ns = 0;     // of that, on a processor
  std::uint64_t waits = 0;           // of the C library's locks, by threads in lanes or not
  std::int64_t waited_ns = 0;        // likewise
  std::vector<const void*> callers;  // of these: addresses in the code, from the nearest on
  std::string place;                 // in the source, where the addresses tell
};

struct LaneStage {
  std::string name;
  bool alone = false;  // one item at a time
  std::int64_t busy_ns = 0;
  std::uint64_t items = 0;
};

struct LaneLog {
  std::int64_t begin_ns = 0;
  std::int64_t end_ns = 0;
  std::vector<std::vector<Stretch>> lanes;
  std::vector<Stretch> parent;  // of worker processes, during a region
  std::vector<LaneRegion> regions;
  std::vector<LaneLock> locks;
  std::vector<LaneStage> stages;
  std::int64_t cpu_at_begin_ns = 0;  // of the thread that calls
  std::int64_t delay_at_begin_ns = -1;
  std::vector<std::int64_t> cpu_before_ns;    // of each lane's thread when the call began; -1 = not known
  std::vector<std::int64_t> delay_before_ns;  // likewise
  std::vector<std::int64_t> kernel_cpu_ns;    // of each lane's threads during the call, by the kernel; -1 = not known
  std::int64_t parent_cpu_ns = 0;             // of the parent of worker processes, during regions
  std::int64_t path_ns = 0;                   // the critical path of tasks and graphs; 0 = there were none
  std::int64_t touched_again_ns = 0;          // page faults of the parent on memory that a fork made shared
  std::uint64_t events = 0;
  std::uint64_t cpu_readings = 0;
  std::uint64_t delay_readings = 0;
  std::uint64_t forks = 0;          // in two, of tasks
  std::uint64_t forks_told = 0;     // of these, on the critical path
  std::uint64_t lost = 0;           // stretches that found no room
  std::uint64_t calls_outside = 0;  // of crews, by threads that are in no lane
  std::optional<RankFacts> ranks;   // where workers are ranks
  bool unfinished = false;          // a worker was still at work when the call had returned
};

}  // namespace antcrew::internal
