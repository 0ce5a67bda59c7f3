#include "antcrew/machine/leftover_work.hpp"

#include <sys/wait.h>
#include <time.h>

#include <algorithm>
#include <cerrno>

#include "antcrew/machine/clock.hpp"

namespace antcrew::machine_layer {
namespace {

// Threads of a crew look for work for some 25 µs before they sleep; that is no work.
constexpr double quiet_cpu_share = 0.02;
constexpr double first_look_s = 60e-6;
constexpr double longest_look_s = 5e-3;

void rest(double seconds) {
  timespec t{static_cast<time_t>(seconds),
             static_cast<long>((seconds - static_cast<double>(static_cast<time_t>(seconds))) * 1e9)};
  ::nanosleep(&t, nullptr);
}

bool no_children() {
  siginfo_t info{};
  return ::waitid(P_ALL, 0, &info, WEXITED | WNOHANG | WNOWAIT) != 0 && errno == ECHILD;
}

std::vector<pid_t> processes_now() {
  return no_children() ? std::vector<pid_t>() : living_descendants();
}

// CPU time of all but the calling thread.
double others_cpu_s(const std::vector<pid_t>& processes) {
  if (processes.empty()) return other_threads_cpu_s();
  const Usage usage = usage_after();
  return usage.cpu_s() - usage.caller_s;
}

int count_new(const std::vector<pid_t>& now, const std::vector<pid_t>& before) {
  return static_cast<int>(std::count_if(
      now.begin(), now.end(), [&](pid_t pid) { return std::find(before.begin(), before.end(), pid) == before.end(); }));
}

}  // namespace

LeftoverWork::LeftoverWork() : threads_(thread_count()), processes_(processes_now()) {}

Leftover LeftoverWork::look(double patience_s) const {
  const std::int64_t returned = now_ns();
  const std::vector<pid_t> begun = processes_now();
  if (begun.empty() && thread_count() <= 1) return {};
  // One that was joined may still be on its way out, for milliseconds where a hypervisor takes its processor.
  const int leaving = exiting_threads();
  const int begun_threads = std::max(0, thread_count() - threads_ - leaving);
  const int begun_processes = count_new(begun, processes_);
  const double cpu_before = others_cpu_s(begun);
  Leftover left;
  double cpu_last = cpu_before;
  for (double look_s = first_look_s;; look_s = std::min(2 * look_s, longest_look_s)) {
    rest(look_s);
    const double elapsed_s = static_cast<double>(now_ns() - returned) * 1e-9;
    const std::vector<pid_t> processes = begun.empty() ? begun : processes_now();
    const int ended_threads = begun_threads - std::max(0, thread_count() - threads_);
    const int ended_processes = begun_processes - count_new(processes, processes_);
    const double cpu = others_cpu_s(begun);
    const bool busy = cpu - cpu_last > quiet_cpu_share * look_s;
    const bool ended = ended_threads > left.threads_ended || ended_processes > left.processes_ended;
    if (busy || ended) left.went_on_s = elapsed_s;
    left.cpu_s = std::max(0.0, cpu - cpu_before);
    left.threads_ended = std::max(ended_threads, left.threads_ended);
    left.processes_ended = std::max(ended_processes, left.processes_ended);
    left.threads_begun = begun_threads - left.threads_ended;
    left.processes_begun = begun_processes - left.processes_ended;
    cpu_last = cpu;
    const bool waiting_for = left.threads_ended < begun_threads || left.processes_ended < begun_processes;
    // Who gets no processor uses no time, and is at work all the same.
    const bool at_work = busy || runnable_besides_caller() > 0;
    if (!at_work && !waiting_for) return left;
    if (elapsed_s > patience_s) {
      left.still_running = at_work;
      return left;
    }
  }
}

}  // namespace antcrew::machine_layer
