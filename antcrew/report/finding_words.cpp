// Claims and advice, finding by finding.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <iterator>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/ledger.hpp"
#include "antcrew/report/findings.hpp"
#include "antcrew/report/internal/words.hpp"

namespace antcrew::report_layer {
namespace {

using internal::count;
using internal::figure;
using internal::seconds;
using internal::Words;
using internal::worker_of;

int workers_of(const Finding& f) {
  return f.of == nullptr ? 1 : f.of->cell->workers;
}
std::string named(const Finding& f, const char* otherwise) {
  return f.name.empty() ? otherwise : printable(f.name, 60);
}

// The evidence of a verdict, where there is some.
std::string told_by(const Finding& f, const char* otherwise) {
  return f.name.empty() ? otherwise : printable(f.name, 200);
}

std::string idle_claim(const Finding& f) {
  if (figure(f, "most_there") > 0)
    return fmt::format("it is given {} workers, and never more than {} thread{} or process{} there at once",
                       count(f, "lanes"), count(f, "most_there"), figure(f, "most_there") > 1 ? "s" : "",
                       figure(f, "most_there") > 1 ? "es are" : " is");
  if (f.figures.has("never_called"))
    return "its body never calls the crew: all that it does runs on the calling thread, or on threads of its own";
  return told_by(f, "only one worker ever worked");
}

std::string idle_advice(const Finding& f) {
  return figure(f, "most_there") > 0 ? "let it begin as many as it is given workers, and share the work out among them"
                                     : "call the crew's loops with more than one piece";
}

std::string serial_claim(const Finding& f) {
  if (figure(f, "looks") > 0)
    return fmt::format("for {} of a call only {} works, the others {}", seconds(f, "serial_s"),
                       f.of != nullptr && !f.of->cell->command.empty() ? "its first process" : "the calling thread",
                       figure(f, "standing") > 0.5 ? "stand by" : "are not there");
  const int others = workers_of(f) - 1;
  return fmt::format("{} of a call runs on one worker while the other{} wait{}: {}", seconds(f, "serial_s"),
                     others == 1 ? "" : fmt::format(" {}", others), others == 1 ? "s" : "",
                     named(f, "outside the crew's calls"));
}

std::string uneven_claim(const Finding& f) {
  if (figure(f, "coarse") > 0) return "workers are done, or wait for the others, while some still work";
  if (std::string of_ranks = internal::uneven_ranks_claim(f); !of_ranks.empty()) return of_ranks;
  std::string text = fmt::format(
      "the pieces{} are uneven: the longest takes {} (at index {}, {}), the mean of {} is {}",
      f.name.empty() ? "" : " at " + printable(f.name, 60), seconds(f, "longest_piece_s"), count(f, "longest_piece_at"),
      worker_of(f, "longest_piece_worker"), count(f, "pieces"), seconds(f, "mean_piece_s"));
  const double places = figure(f, "places");
  const double joint = figure(f, "joint_speedup");
  if (joint > 0) {
    text += fmt::format("; mended together with the {} that {} told beside: speedup {:.3g} at most",
                        places > 2 ? fmt::format("{:.0f} other places", places - 1) : "other place",
                        places > 2 ? "are" : "is", joint);
  } else if (places > 1) {
    text += fmt::format("; so at {:.0f} more place{}: {} of the {} are lost here", places - 1, places > 2 ? "s" : "",
                        seconds(f, "of_place_s"), duration_text(f.loss_s));
  }
  if (figure(f, "other_places_s") > 0)
    text += fmt::format("; {} at places with little each", seconds(f, "other_places_s"));
  return text;
}

std::string uneven_advice(const Finding& f) {
  if (figure(f, "coarse") > 0)
    return "give all of them as much to do: smaller pieces, each taken by whoever is free (a crew tells which piece)";
  if (!internal::uneven_ranks_claim(f).empty()) return "give that rank less: blocks of equal cost, not of equal length";
  const double now = figure(f, "region_s");
  const double finer = figure(f, "finer_s");
  const double heaviest = figure(f, "heaviest_first_s");
  if (finer > 0 && finer < noticeably_shorter * now)
    return fmt::format(
        "hand out finer pieces (Split::chunks, Split::tapering or a TaskCrew's Grain): replayed from the logged "
        "pieces, the loop takes {} instead of {}, {} with the heaviest first",
        duration_text(finer), duration_text(now), duration_text(heaviest));
  if (heaviest > 0 && heaviest < noticeably_shorter * now)
    return fmt::format("begin with the heaviest pieces: replayed, the loop takes {} instead of {}",
                       duration_text(heaviest), duration_text(now));
  return "split the longest piece itself: no other order of these pieces is shorter";
}

std::string moving_claim(const Finding& f) {
  const double bytes = figure(f, "bytes");
  if (!(bytes > 0)) return "workers and their parent move data to and fro";
  return fmt::format("{} move between processes in a call, at {} a second of those who move them",
                     bytes_text(static_cast<std::uint64_t>(bytes)),
                     bytes_text(static_cast<std::uint64_t>(figure(f, "bytes_per_s"))));
}

const std::string share_it_out = "share the work out: each worker takes a part of its own, not the whole";

std::string as_if_all_did_all(const Finding& f) {
  return figure(f, "as_if_all_did_all") > 0
             ? fmt::format(": as if each of its {} workers did all of the work", count(f, "as_if_all_did_all"))
             : std::string();
}

const char* if_not_counted(const Finding& f) {
  return figure(f, "not_counted") > 0 ? "; its allocations were not counted (none of the C library's are seen here)"
                                      : "";
}

std::string inflation_own_claim(const Finding& f) {
  std::string text = fmt::format("the same work takes {} of CPU time instead of {}", seconds(f, "cpu_s"),
                                 seconds(f, "expected_cpu_s"));
  if (figure(f, "one_place_cpu_s") > 0)
    text += fmt::format(", and no less with all workers on one processor ({} instead of {})",
                        seconds(f, "one_place_cpu_s"), seconds(f, "spread_cpu_s"));
  if (figure(f, "crowd") > 0)
    text += fmt::format(", though {} copies of the baseline slow each other only {:.2f} times", workers_of(f),
                        figure(f, "crowd"));
  return text + as_if_all_did_all(f) + if_not_counted(f);
}

std::string superlinear_claim(const Finding& f) {
  const std::string text = fmt::format("speedup {:.3g} with {} workers is more than workers alone can bring",
                                       figure(f, "speedup"), count(f, "workers"));
  return f.name == "weak-baseline" ? text + ": the variant is faster than the baseline with one worker, too" : text;
}

// What blocked workers were seen in, the most first.
std::string seen_waits(const Finding& f) {
  std::string text;
  const auto add = [&](FigureName name, const char* words) {
    if (figure(f, name) > 0.05 * figure(f, "blocked_s"))
      text += fmt::format("{} {} {}", text.empty() ? ":" : ",", seconds(f, name), words);
  };
  add("sleep_s", "asleep until a time");
  add("input_s", "waiting for a file, a pipe or a socket");
  add("page_s", "waiting for a page of memory");
  add("not told_s", "unknown wait");
  return text;
}

// What can be read from memory here, and what is, where that is counted.
std::string memory_words(const Finding& f) {
  if (!(figure(f, "memory_bytes_per_s") > 0)) return {};
  const auto rate = [&](FigureName name) { return bytes_text(static_cast<std::uint64_t>(figure(f, name))); };
  if (figure(f, "bytes_per_s") > 0)
    return fmt::format("; it moves {} of the {} a second that they can read from memory together", rate("bytes_per_s"),
                       rate("memory_bytes_per_s"));
  return fmt::format("; together they can read {} a second from memory (count yours: Quantity bytes(\"bytes\"))",
                     rate("memory_bytes_per_s"));
}

const Words all_words[] = {
    {"sequential-stretch", serial_claim,
     [](const Finding&) {
       return std::string("make this stretch a loop of the crew, overlap it with other work, or shorten it");
     }},
    {"small-calls",
     [](const Finding& f) {
       std::string text = fmt::format("{} calls of the crew in one call of the variant, and an empty one takes {}",
                                      count(f, "calls"), seconds(f, "call_cost_s"));
       if (figure(f, "in_place_s") > figure(f, "call_cost_s"))
         text += fmt::format(", {} here beside its work", seconds(f, "in_place_s"));
       return text;
     },
     [](const Finding&) {
       return std::string("do more work in each call of the crew: join loops, or move the outer loop inside");
     }},
    {"not-divisible",
     [](const Finding& f) {
       return fmt::format("{} pieces do not divide by {} workers: the last ones work while others have nothing left",
                          count(f, "units"), count(f, "lanes"));
     },
     [](const Finding& f) {
       return fmt::format("make the pieces smaller, their number a multiple of {}, or the workers a divisor of {}",
                          count(f, "lanes"), count(f, "units"));
     }},
    {"uneven-pieces", uneven_claim, uneven_advice},
    {"late-start",
     [](const Finding&) { return std::string("workers begin late: they had to be woken, or were not running"); },
     [](const Finding&) {
       return std::string(
           "do more work in each call of the crew, or keep calls close together so that workers stay awake");
     }},
    {"shared-processor",
     [](const Finding&) {
       return std::string(
           "workers that were ready had to wait for a processor that another program, or another of "
           "them, was on");
     },
     [](const Finding&) {
       return std::string("pin the workers apart (Pin::apart), or measure while the machine is idle");
     }},
    {"oversubscribed",
     [](const Finding& f) {
       if (figure(f, "threads") > 0)
         return fmt::format("{:.1f} threads are busy at a time on {} processor{}, though {} workers are asked for",
                            figure(f, "threads"), count(f, "processors"), figure(f, "processors") == 1 ? "" : "s",
                            count(f, "lanes"));
       return fmt::format("{} workers take turns on {} processor{}{}", count(f, "lanes"), count(f, "processors"),
                          figure(f, "processors") == 1 ? "" : "s", f.name.empty() ? "" : " of " + f.name);
     },
     [](const Finding& f) {
       if (!f.name.empty()) return std::string("launch no more ranks on a host than it has processors");
       if (figure(f, "threads") > 0)
         return std::string(
             "begin no threads beyond the workers: call the crew that is given from inside its bodies, too");
       return fmt::format("use {} workers: more pay only for work that waits", count(f, "processors"));
     }},
    {"quota", [](const Finding&) { return std::string("a CPU quota stops the workers for part of each period"); },
     [](const Finding&) { return std::string("raise the quota of the control group, or use fewer workers"); }},
    {"no-ready-work",
     [](const Finding&) { return std::string("workers find nothing that is ready: too few tasks are open at a time"); },
     [](const Finding&) {
       return std::string("fork further down, or begin more children before waiting: some ten tasks a worker");
     }},
    {"work-not-found", [](const Finding&) { return std::string("there was work, and workers had not found it yet"); },
     [](const Finding&) { return std::string("offer work in larger pieces, and earlier"); }},
    {"slow-stage",
     [](const Finding& f) {
       return fmt::format("the stage '{}' takes one item at a time and is busy {} of {}", named(f, "source"),
                          seconds(f, "busy_s"), seconds(f, "wall_s"));
     },
     [](const Finding&) {
       return std::string("make this stage shorter, or let it take several items at once (many)");
     }},
    {"small-buffer",
     [](const Finding&) { return std::string("items wait for room: too few may be under way at once"); },
     [](const Finding&) { return std::string("let more items be under way (PipelineOptions::items)"); }},
    {"moving-data", moving_claim,
     [](const Finding&) {
       return std::string(
           "move less: results zero-copy (Way::zero_copy) or in a CommonArray, or threads in place of processes");
     }},
    {"work-inflation-machine",
     [](const Finding& f) {
       return fmt::format(
           "the machine itself slows down: as many copies of the baseline at once are {:.2f} times slower "
           "each{}",
           figure(f, "crowd"), memory_words(f));
     },
     [](const Finding&) {
       return std::string("touch less memory (smaller types, tiles that stay in the cache), or stop at fewer workers");
     }},
    {"work-inflation-own", inflation_own_claim,
     [](const Finding& f) {
       if (figure(f, "as_if_all_did_all") > 0) return share_it_out;
       if (f.sure == Finding::Sure::open && f.or_else == "work-inflation-one-worker")
         return std::string(
             "measure it with 1 worker, too: then it shows whether workers, or the way it is written, cost it");
       if (f.sure == Finding::Sure::open)
         return std::string(
             "measure how copies of the baseline slow each other (leave --no-crowd out) to tell it from the machine");
       return std::string(
           "look for what workers share and write: neighbouring elements, counters, a common best value");
     }},
    {"work-inflation-one-worker",
     [](const Finding& f) {
       return fmt::format("with one worker it takes {} already, the baseline {}{}", seconds(f, "one_worker_s"),
                          seconds(f, "baseline_s"), if_not_counted(f));
     },
     [](const Finding&) {
       return std::string(
           "compare the parallel form with the baseline's code: it does something that the other does not");
     }},
    {"extra-work",
     [](const Finding& f) {
       return fmt::format("it does {:.2f} times the baseline's work, counted in {}", figure(f, "ratio"),
                          named(f, "items"));
     },
     [](const Finding&) {
       return std::string("share what lets work be left out (a common best value), or leave out earlier");
     }},
    {"skipped-work",
     [](const Finding& f) {
       if (!f.figures.has("ratio"))
         return fmt::format(
             "bodies wait only {} of a call for something outside the crew, {} in the baseline: some of "
             "that is left out, or done elsewhere",
             seconds(f, "blocked_s"), seconds(f, "baseline_blocked_s"));
       return fmt::format("it does only {:.2f} times the baseline's work, counted in {}: part of its gain is that",
                          figure(f, "ratio"), named(f, "items"));
     },
     [](const Finding&) { return std::string("let the baseline leave it out, too, before comparing"); }},
    {"blocked",
     [](const Finding& f) {
       const bool command = f.of != nullptr && !f.of->cell->command.empty();
       return fmt::format("{} wait {} of a call for something outside{}, {} in the baseline{}{}",
                          command ? "workers" : "bodies", seconds(f, "blocked_s"), command ? "" : " the crew",
                          seconds(f, "baseline_blocked_s"), seen_waits(f), as_if_all_did_all(f));
     },
     [](const Finding& f) {
       return figure(f, "as_if_all_did_all") > 0
                  ? share_it_out
                  : std::string("look for locks that are no Locked, input and output, and sleeps in the bodies");
     }},
    {"start-up-each-call", [](const Finding&) { return std::string("every call starts its workers anew"); },
     [](const Finding&) {
       return std::string("start the crew once and call it often: a ThreadCrew or StandingCrew kept outside");
     }},
    {"weak-baseline",
     [](const Finding& f) {
       return fmt::format(
           "with one worker it is {:.2f} times as fast as the baseline already: that part of the gain is "
           "not parallelism",
           figure(f, "one_worker_speedup"));
     },
     [](const Finding&) { return std::string("write the baseline the same way, and compare again"); }},
    {"superlinear", superlinear_claim,
     [](const Finding& f) {
       return std::string(
           f.name == "weak-baseline"
               ? "improve the baseline first"
               : "see whether parts now fit into caches (another size tells), or work is left out (count it)");
     }},
    {"cpu-as-wall",
     [](const Finding& f) {
       if (figure(f, "reported_s") > 0)
         return fmt::format("the time that it reports itself, {}, is its CPU time; by the clock it takes {}",
                            seconds(f, "reported_s"), seconds(f, "wall_s"));
       return fmt::format("by CPU time it would look {:.2f} times as fast as the baseline; by the clock it is {:.2f}",
                          figure(f, "speedup_by_cpu"), figure(f, "speedup"));
     },
     [](const Finding&) { return std::string("compare wall time: what a caller waits for"); }},
    {"deferred-work",
     [](const Finding& f) {
       return figure(f, "read_speedup") > 0
                  ? fmt::format(
                        "part of the work is done when the answer is read: speedup {:.2f} until then, {:.2f} until "
                        "the call returns",
                        figure(f, "read_speedup"), figure(f, "speedup"))
                  : told_by(f, "work of the call went on after it had returned");
     },
     [](const Finding&) { return std::string("wait for all of it inside the call"); }},
    {"remembered", [](const Finding& f) { return told_by(f, "it remembers its answer from an earlier call"); },
     [](const Finding&) { return std::string("compute it in every call, or say what it keeps: .keeps(…)"); }},
    {"crashed", [](const Finding& f) { return told_by(f, "it crashed"); },
     [](const Finding&) { return std::string("run it alone under a debugger or a sanitizer: --only, --workers"); }},
    {"out-of-memory", [](const Finding& f) { return told_by(f, "it ran out of memory"); },
     [](const Finding&) { return std::string("try a smaller size or fewer workers, or share what all only read"); }},
    {"timed-out", [](const Finding& f) { return told_by(f, "it did not end in time"); },
     [](const Finding&) { return std::string("look for workers that wait for each other, or allow a longer call"); }},
    {"threw", [](const Finding& f) { return told_by(f, "it threw"); },
     [](const Finding&) { return std::string("fix this first: its time means nothing"); }},
    {"wrong-answer", [](const Finding& f) { return told_by(f, "its answer is another one than the baseline's"); },
     [](const Finding&) {
       return std::string("look for items that are left out or done twice, and for what workers write unprotected");
     }},
    {"changed-input", [](const Finding& f) { return told_by(f, "it changed the input that all share"); },
     [](const Finding&) { return std::string("work on a copy, or make it an InPlaceStudy"); }},
    {"idle-workers", idle_claim, idle_advice},
    {"no-more-gain",
     [](const Finding& f) {
       return fmt::format("{} workers bring nothing over {}, within 5 % of the fastest count", count(f, "workers"),
                          count(f, "enough"));
     },
     [](const Finding& f) {
       return fmt::format("use {} worker{}", count(f, "enough"), figure(f, "enough") == 1 ? "" : "s");
     }},
};

const Words* words_of_finding(const std::string& id) {
  const auto* found =
      std::find_if(std::begin(all_words), std::end(all_words), [&](const Words& words) { return id == words.id; });
  if (found != std::end(all_words)) return found;
  const Words* of_commands = internal::command_words_for(id);
  if (of_commands != nullptr) return of_commands;
  for (const auto words_on : {internal::words_on_ranks, internal::words_on_library}) {
    if (const Words* words = words_on(id)) return words;
  }
  return internal::words_on_machine(id);
}

}  // namespace

std::string claim_of(const Finding& finding) {
  const Words* words = words_of_finding(finding.id);
  return words == nullptr ? finding.id : words->claim(finding);
}

std::string advice_for(const Finding& finding) {
  const Words* words = words_of_finding(finding.id);
  if (const char* of_command = internal::command_advice_for(finding)) return of_command;
  return words == nullptr ? std::string() : words->advice(finding);
}

}  // namespace antcrew::report_layer
