// What this process and everything below it used so far: CPU time, switches, page faults, memory.
//
// Differences between two readings belong to what ran in between. Times are seconds, memory is bytes. Any thread may
// call these; each takes some microseconds per thread and process that is alive.
#pragma once

#include <cstdint>
#include <vector>

#include <sys/types.h>

#include "antcrew/machine/layer.hpp"

namespace antcrew::machine_layer {

struct Usage {
  double user_s = 0;  // of this process, its ended children and its living descendants
  double system_s = 0;
  double caller_s = 0;             // user and system time of the calling thread alone
  double run_delay_s = 0;          // runnable but not running, over all living threads of this process
  double ended_threads_cpu_s = 0;  // own CPU time that no living thread tells of
  std::int64_t switches_voluntary = 0;
  std::int64_t switches_forced = 0;
  std::int64_t faults_minor = 0;
  std::int64_t faults_major = 0;

  double cpu_s() const noexcept { return user_s + system_s; }
  // False where threads that ended took theirs along: a difference then lacks it.
  bool run_delay_known() const noexcept;
};

// The two readings around a piece of work: what they cost themselves falls outside.
Usage usage_before();
Usage usage_after();
Usage operator-(const Usage& later, const Usage& earlier);

// Starts the peak of this process's resident memory anew. False where the kernel refuses.
bool reset_peak_memory();
std::uint64_t peak_memory_bytes();
std::uint64_t resident_bytes();
// Resident and not backed by a file or shared memory, as of now: what a fork would share with the child.
std::uint64_t private_bytes_now();
// Page faults of this process that read nothing from a disk. And, of the whole machine: writes to pages that had been
// shared by a fork and are nobody else's any more; -1 where the kernel does not count them. The latter takes 20 µs.
std::int64_t minor_faults() noexcept;
std::int64_t pages_taken_back();
// Private writable memory that is mapped, touched or not: what RLIMIT_DATA limits.
std::uint64_t virtual_data_bytes();

// CPU time of this process but for the calling thread, to the nanosecond: the kernel itself adds a running thread's
// time up at its next tick only.
double other_threads_cpu_s();

// CPU time of another process, to the nanosecond for what does not run just now; 0 when it is gone.
double cpu_s_of(pid_t process) noexcept;

// Threads of this process, ended ones excluded. One system call.
int thread_count();
// Of them, those that the kernel is taking down: their function has returned, and a join may have, too.
int exiting_threads();
// Other threads of this process, and threads of the processes below it, that run or would run if they had a processor.
int runnable_besides_caller();

// The processors that the living threads of this process, and the processes below it, ran on last; -1 = unknown. The
// calling thread comes first.
std::vector<int> processors_last_used();

// Whether this process has, or has had, a child.
bool forked_ever();

// Gone, or ended and not waited for yet.
bool has_ended(pid_t process);

// Processes below this one; those that ended but were not waited for yet count only where asked for.
std::vector<pid_t> descendants(bool ended_too);
inline std::vector<pid_t> living_descendants() {
  return descendants(false);
}

}  // namespace antcrew::machine_layer
