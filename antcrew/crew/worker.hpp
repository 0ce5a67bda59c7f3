// What a worker has to itself: its number, and a folder for its files.
//
//   crew.each(n, [&](std::size_t i) {
//     std::ofstream part(scratch_folder() + "/part-" + std::to_string(i));
//     part << "made by worker " << this_worker();
//   });
//
// The same for threads and processes. Any thread may ask.
#pragma once

#include <string>

namespace antcrew {

// The calling worker's number in its crew: 0 is the caller of a ThreadCrew or TaskCrew, or the first process of a
// ProcessCrew or StandingCrew. 0 outside of any crew.
int this_worker() noexcept;

// An empty folder of the calling thread's own, made when it first asks, below $TMPDIR or /tmp. It goes with all that is
// in it when its thread or worker process ends, or soon after the program has ended, however that was: a small process
// of its own waits for that. Throws Error (crew.scratch) when the folder cannot be made.
std::string scratch_folder();

namespace internal {

inline constinit thread_local int current_worker_number = 0;

// For a worker's process. prepare_scratch: before the fork, and adopt_scratch after it, so that its folder lies with
// the parent's. drop_own_scratch: before _exit. remove_scratch_of: by the parent, when a worker has died.
// remove_all_scratch_of: of a process that has ended, and of its workers.
void prepare_scratch() noexcept;
void adopt_scratch() noexcept;
void drop_own_scratch() noexcept;
bool used_scratch() noexcept;
void remove_scratch_of(int process) noexcept;
void remove_all_scratch_of(int process) noexcept;

}  // namespace internal
}  // namespace antcrew
