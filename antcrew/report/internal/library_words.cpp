// Claims and advice on what a rewrite asks too often: locks, allocations, threads, tasks, lines of caches.
#include <fmt/format.h>

#include <algorithm>
#include <iterator>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/report/internal/words.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::internal {
namespace {

std::string seen_lock_claim(const Finding& f) {
  std::string text = fmt::format("workers wait for one and the same lock{}, {:.1f} of {} of them while anybody does",
                                 figure(f, "of_library") > 0 ? " (" + printable(f.name, 60) + ")" : "",
                                 figure(f, "waiters"), count(f, "lanes"));
  if (figure(f, "locks") > 1) text += fmt::format(" ({} locks are waited for, this one most)", count(f, "locks"));
  return text;
}

std::string lock_claim(const Finding& f) {
  const std::string turns =
      figure(f, "turns_s") > 0
          ? fmt::format("; sleeping and waking for it takes {} in the kernel", seconds(f, "turns_s"))
          : std::string();
  if (figure(f, "coarse") > 0) return seen_lock_claim(f) + turns;
  if (figure(f, "of_library") > 0)
    return fmt::format("workers wait for each other at the {}: {} times per call, {} in all{}", printable(f.name, 80),
                       count(f, "waits"), seconds(f, "wait_s"), turns);
  // A Locked without a name has that of its phase.
  const bool unnamed = f.name.empty() || f.name == "waiting for a lock";
  std::string text =
      fmt::format("workers wait for each other at {}", unnamed ? "a lock" : "the lock '" + printable(f.name, 60) + "'");
  if (figure(f, "holds") > 0)
    text += fmt::format(": it is held {} times per call, {} in all", count(f, "holds"), seconds(f, "hold_s"));
  if (figure(f, "holder_ready_s") > 0)
    text += fmt::format(", and for {} of that its holder was waiting for a processor", seconds(f, "holder_ready_s"));
  if (figure(f, "holder_asleep_s") > 0)
    text += fmt::format(", and for {} of that its holder slept", seconds(f, "holder_asleep_s"));
  return text;
}

std::string lock_advice(const Finding& f) {
  if (figure(f, "holder_ready_s") > 0)
    return "give it no more workers than there are free processors: a holder that waits for one makes all wait";
  if (figure(f, "holder_asleep_s") > 0) return "do what waits (input, output, sleeps) before or after holding the lock";
  if (f.name.starts_with("condition variable") || f.name.starts_with("atomic"))
    return "let workers do other work meanwhile, or begin what they wait for earlier";
  return "shorten the critical section or avoid the lock: a Tally for sums, a KeyMap for keys, a part for each worker";
}

std::string pieces_claim(const Finding& f) {
  const std::string forks = fmt::format("{} forks per call cost {} each", count(f, "forks"), seconds(f, "fork_cost_s"));
  const std::string pieces =
      fmt::format("{} pieces per call cost {} each to hand out", count(f, "pieces"), seconds(f, "piece_cost_s"));
  const double forks_s = figure(f, "forks") * figure(f, "fork_cost_s");
  const double pieces_s = figure(f, "pieces") * figure(f, "piece_cost_s");
  return forks_s > pieces_s ? forks : pieces;
}

std::string pieces_advice(const Finding& f) {
  if (figure(f, "forks") * figure(f, "fork_cost_s") > figure(f, "pieces") * figure(f, "piece_cost_s"))
    return "end the recursion earlier: below some size call the sequential code, so that a task takes 10 µs or more";
  return "make pieces larger (Split::chunks(k), Grain{k}), until each takes 10 µs or more";
}

std::string allocations_claim(const Finding& f) {
  const double n = std::max(1.0, figure(f, "allocations"));
  std::string text =
      fmt::format("it allocates {} times a call ({} in all), the baseline {}: {} there and in giving back",
                  count(f, "allocations"), bytes_text(static_cast<std::uint64_t>(figure(f, "allocated_bytes"))),
                  count(f, "baseline_allocations"), seconds(f, "allocating_s"));
  text += fmt::format(", {} each", duration_text(figure(f, "allocating_s") / n));
  if (figure(f, "filling_s") > 0) text += fmt::format(", and up to {} for filling it", seconds(f, "filling_s"));
  return text;
}

std::string threads_claim(const Finding& f) {
  return fmt::format("a call begins {} threads, and one takes {} to begin and to end", count(f, "threads"),
                     seconds(f, "thread_cost_s"));
}

std::string sharing_claim(const Finding& f) {
  std::string text = fmt::format("a call takes {} of CPU time, and {} with all workers on one processor",
                                 seconds(f, "spread_cpu_s"), seconds(f, "one_place_cpu_s"));
  text += ": lines of the cache move between processors";
  return text;
}

const Words library_words[] = {
    {"lock-wait", lock_claim, lock_advice},
    {"small-pieces", pieces_claim, pieces_advice},
    {"allocations", allocations_claim,
     [](const Finding&) {
       return std::string(
           "allocate once for each worker and use it again (each_with makes something for each worker), or keep small "
           "things on the stack");
     }},
    {"threads-per-item", threads_claim,
     [](const Finding&) {
       return std::string("begin as many threads as there are workers and give each a share, or use a ThreadCrew");
     }},
    {"spinning",
     [](const Finding& f) {
       return fmt::format("{} of CPU time a call is spent in loops that only wait: for whoever is late",
                          seconds(f, "spinning_s"));
     },
     [](const Finding&) {
       return std::string(
           "give all of them as much to do between two meetings, meet less often, or let them sleep while they wait");
     }},
    {"slower-clocks",
     [](const Finding& f) {
       return fmt::format(
           "a processor computes {:.2f} times more slowly when {} of them compute at once: so does it here",
           figure(f, "ratio"), count(f, "lanes"));
     },
     [](const Finding&) {
       return std::string("nothing in the code: a fixed clock shows the same speed on one processor as on all");
     }},
    {"hardware-threads",
     [](const Finding& f) {
       return fmt::format(
           "more workers than the {} cores share them in pairs, and each computes {:.2f} times more slowly then",
           count(f, "cores"), figure(f, "ratio"));
     },
     [](const Finding& f) {
       return fmt::format("expect the gain of {} cores, or use so many workers", count(f, "cores"));
     }},
    {"line-sharing", sharing_claim,
     [](const Finding&) {
       return std::string(
           "give each worker variables of its own, 64 bytes or more apart, and put them together at the end (a Tally "
           "does)");
     }},
};

}  // namespace

const Words* words_on_library(const std::string& id) {
  const auto* found = std::find_if(std::begin(library_words), std::end(library_words),
                                   [&](const Words& words) { return id == words.id; });
  return found == std::end(library_words) ? nullptr : found;
}

}  // namespace antcrew::internal
