// What is said of commands: findings that only they have, and other advice where C++ code has a call for it.
#include <fmt/format.h>

#include <algorithm>
#include <iterator>
#include <string_view>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/report/internal/words.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::internal {
namespace {

const Words command_words[] = {
    {"one-at-a-time",
     [](const Finding& f) {
       return fmt::format(
           "its {} workers take turns: together they kept {:.2f} processors busy, with up to {} threads "
           "alive",
           count(f, "workers"), figure(f, "busy_processors"), count(f, "threads"));
     },
     [](const Finding&) {
       return std::string("look for a lock that all need, such as an interpreter's: processes have one each");
     }},
    {"empty-command",
     [](const Finding& f) {
       return fmt::format("a command that does nothing takes {} {}, {:.0f} % of a call", seconds(f, "empty_s"),
                          figure(f, "launched") > 0 ? "behind the same launcher" : "when it is begun in the same way",
                          100 * figure(f, "empty_s") / std::max(1e-9, figure(f, "time_s")));
     },
     [](const Finding&) { return std::string("give one command more work; nothing is taken off the times for it"); }},
    {"changed-program",
     [](const Finding& f) { return std::string("what it runs was changed while it was measured: ") + f.name; },
     [](const Finding&) {
       return std::string("build into another place while a study runs, or try it again with --resume and --only");
     }},
};

struct OtherAdvice {
  std::string_view id;
  const char* text;
};
constexpr OtherAdvice of_commands[] = {
    {"idle-workers", "let it begin as many threads or processes as @(workers) or ANTCREW_WORKERS says"},
    {"start-up-each-call", "begin fewer processes, and let each do more of the work"},
    {"remembered",
     "remove what it keeps before each trial (before_each), or say so: keeps = \"…\" in the study's file"},
    {"changed-input", "let every trial work on a copy in its own folder, @(folder), made by before_each"},
    {"cold-first-call", "its files are read from the disk then; later trials find them in memory"},
    {"deferred-work", "wait for all that it begins before it ends"},
    {"blocked", "look at what it reads and writes, at its sleeps, and at what it waits for in other programs"},
    {"no-ready-work", "look for a lock or a queue that workers wait at, and for work that comes too late"},
    {"sequential-stretch", "share out this stretch, overlap it with other work, or shorten it"},
    {"uneven-pieces", "give all of them as much to do: smaller pieces, each taken by whoever is free"},
    {"shared-processor", "measure while the machine is idle, or keep its workers on processors of their own (taskset)"},
    {"timed-out", "look for workers that wait for each other, or allow a longer call: --call-timeout"},
    {"crashed", "run it by itself: --dry-run shows the command, `show --trial` what it left"},
};

}  // namespace

const Words* command_words_for(const std::string& id) {
  const auto* found = std::find_if(std::begin(command_words), std::end(command_words),
                                   [&](const Words& words) { return id == words.id; });
  return found == std::end(command_words) ? nullptr : found;
}

const char* command_advice_for(const Finding& finding) {
  if (finding.of == nullptr || finding.of->cell->command.empty()) return nullptr;
  const auto* found = std::find_if(std::begin(of_commands), std::end(of_commands),
                                   [&](const OtherAdvice& other) { return finding.id == other.id; });
  return found == std::end(of_commands) ? nullptr : found->text;
}

}  // namespace antcrew::internal
