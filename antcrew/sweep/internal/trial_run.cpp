#include "antcrew/sweep/internal/trial_run.hpp"

#include <fmt/format.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <sstream>
#include <utility>

#include "antcrew/base/error.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/record/record.hpp"

extern char** environ;

namespace antcrew::internal {
namespace {

namespace fs = std::filesystem;

constexpr std::size_t longest_text = 400;
constexpr std::uint64_t most_reported_bytes = 1 << 20;

// This process's own, and over it what the study sets.
std::vector<std::string> whole_environment(const std::map<std::string, std::string>& more) {
  std::vector<std::string> all;
  for (char** one = environ; *one != nullptr; ++one) {
    const std::string text = *one;
    const std::string name = text.substr(0, text.find('='));
    if (more.count(name) == 0 && name.rfind("ANTCREW_", 0) != 0) all.push_back(text);
  }
  for (const auto& [name, value] : more) {
    std::string text = name;
    text += '=';
    text += value;
    all.push_back(std::move(text));
  }
  return all;
}

std::string absolute(const std::string& name, const std::string& folder) {
  return name.empty() ? name : (fs::path(folder) / name).lexically_normal().string();
}

std::string last_said(const TrialFolder& place) {
  std::string said = last_line(place.errors());
  if (said.empty()) said = last_line(place.output());
  return said.empty() ? said : fmt::format("; the last that it said: \"{}\"", said);
}

}  // namespace

std::optional<Fault> fault_of(const Ended& ended, const TrialSetting& setting, const TrialFolder& place, int round) {
  const auto fault = [&](Fault::Kind kind, const std::string& text, std::map<std::string, double> evidence = {}) {
    return Fault{kind, round, printable(text + last_said(place), longest_text), std::move(evidence)};
  };
  const std::string ignored = ended.ignored ? ", and it went on for 2 s after it was asked to end (SIGTERM)" : "";
  switch (ended.why) {
    case Ended::Why::not_begun:
      return Fault{Fault::Kind::crashed, round, printable(ended.trouble, longest_text)};
    case Ended::Why::time:
      return fault(Fault::Kind::timed_out,
                   fmt::format("no end after {}; the limit is {} (--call-timeout){}", duration_text(setting.limit_s),
                               setting.limit_is, ignored),
                   {{"limit_s", setting.limit_s}});
    case Ended::Why::memory:
      return fault(Fault::Kind::out_of_memory,
                   fmt::format("its processes took {} together; the limit is {} (--memory-limit){}",
                               bytes_text(ended.tree_bytes), bytes_text(setting.memory_bytes), ignored),
                   {{"tree_bytes", static_cast<double>(ended.tree_bytes)}});
    case Ended::Why::output:
      return fault(Fault::Kind::crashed,
                   fmt::format("it wrote more than {}, and was ended (limits.output in the study's file){}",
                               bytes_text(setting.study.parts().limits.output_bytes), ignored));
    case Ended::Why::by_itself:
      break;
  }
  if (ended.stopped_us)
    return fault(Fault::Kind::crashed, "it stopped the process that began it (SIGSTOP); that was made to go on");
  if (WIFSIGNALED(ended.status)) {
    const int number = WTERMSIG(ended.status);
    return fault(Fault::Kind::crashed, fmt::format("signal {} ({})", number, ::strsignal(number)),
                 {{"signal", number}});
  }
  if (const int code = WEXITSTATUS(ended.status); code != 0)
    return fault(Fault::Kind::crashed, fmt::format("it ended with exit code {}", code), {{"exit_code", code}});
  return std::nullopt;
}

std::optional<Fault> left_behind(const Ended& ended, double reference_cpu_s, int round, bool& before) {
  constexpr double a_moment_s = 0.02;
  constexpr double much_afterwards = 0.3;  // of the baseline's CPU time
  constexpr double least_cpu_s = 0.05;     // a helper that puts itself away takes less,
  constexpr double beyond_doubt_s = 0.5;   // but up to here a busy machine may have made it more for once
  const double least_s = std::max(least_cpu_s, much_afterwards * reference_cpu_s);
  const bool went_on = ended.left_for_s > a_moment_s && ended.left_cpu_s > least_s;
  if (ended.left == 0 || (!ended.left_to_the_end && !went_on)) return std::nullopt;
  if (!ended.left_to_the_end && ended.left_cpu_s < std::max(beyond_doubt_s, least_s) && !std::exchange(before, true))
    return std::nullopt;
  return Fault{Fault::Kind::left_work,
               round,
               printable(fmt::format("it ended and left {} process{} behind ({}), which went on for {}{}", ended.left,
                                     ended.left == 1 ? "" : "es", ended.left_names, duration_text(ended.left_for_s),
                                     ended.left_to_the_end ? " until they were ended" : ""),
                         longest_text),
               {{"left", ended.left}, {"went_on_s", ended.left_for_s}, {"went_on_cpu_s", ended.left_cpu_s}}};
}

Start Trials::start_of(const TrialSetting& setting, const Runnable& of, const Command& command, int workers,
                       const TrialFolder& place, bool with_launcher) const {
  const CommandStudy& study = setting.study;
  const Place here{workers, setting.at, place.folder()};
  Start start;
  start.words = words_of(study, of, command, here, with_launcher);
  auto environment = environment_of(study, of, here);
  start.words.front() = found_program(start.words.front(), study.parts().folder, command.where, path_of(environment));
  environment["ANTCREW_PHASES"] = place.phases();
  start.environment = whole_environment(environment);
  const std::string folder = text_of(study, of, of.working_folder, here);
  start.working_folder = folder.empty() ? study.parts().folder : absolute(folder, study.parts().folder);
  start.input = absolute(text_of(study, of, of.input, here), study.parts().folder);
  start.output = place.output();
  start.errors = place.errors();
  start.watched = place.folder();
  start.scratch = fs::path(place.top()).parent_path().string();
  start.limit_s = setting.limit_s;
  start.patience_s = setting.patience_s;
  start.memory_bytes = setting.memory_bytes;
  start.output_bytes = study.parts().limits.output_bytes;
  return start;
}

std::optional<Fault> Trials::beside(const TrialSetting& setting, const Runnable& of, const Command& command,
                                    int workers, const TrialFolder& place, const char* what,
                                    const std::function<void(Start&)>& change, int* exit_code) {
  Runnable plain = of;
  plain.input.clear();
  plain.working_folder.clear();
  Start start = start_of(setting, plain, command, workers, place, false);
  const TrialFolder aside(place.top().empty() ? std::string() : place.top() + "/beside");
  std::error_code trouble;
  fs::create_directories(aside.top(), trouble);
  if (trouble)
    return Fault{
        Fault::Kind::crashed, 0,
        printable(std::string(what) + ": no place for what it prints (" + trouble.message() + ")", longest_text)};
  start.output = aside.output();
  start.errors = aside.errors();
  change(start);
  const Ended ended = counted(runner_.run(start, setting.stop));
  if (exit_code != nullptr && ended.why == Ended::Why::by_itself && WIFEXITED(ended.status)) {
    *exit_code = WEXITSTATUS(ended.status);
    if (*exit_code == 0 || *exit_code == 1) return std::nullopt;
  }
  auto fault = fault_of(ended, setting, aside, 0);
  if (fault)
    fault->text =
        printable(std::string(what) + " (" + sweep_layer::in_words(start.words) + "): " + fault->text, longest_text);
  return fault;
}

std::optional<Fault> Trials::run_beside(const TrialSetting& setting, const Runnable& of, const Command& command,
                                        int workers, const TrialFolder& place, const char* what,
                                        const std::vector<std::string>& more_words, int* exit_code) {
  return beside(
      setting, of, command, workers, place, what,
      [&](Start& start) { start.words.insert(start.words.end(), more_words.begin(), more_words.end()); }, exit_code);
}

std::optional<Fault> Trials::run_through(const TrialSetting& setting, const Runnable& of, const Command& command,
                                         int workers, const TrialFolder& place, const char* what, const Piped& piped) {
  return beside(
      setting, of, command, workers, place, what,
      [&](Start& start) {
        start.input = piped.from;
        start.output = piped.to;
      },
      nullptr);
}

namespace {

// A whole answer: with names between its files, so that nothing can go over from one to the other.
bool append(std::ofstream& to, const std::string& name, const std::string& file) {
  std::ifstream from(file, std::ios::binary);
  to << "\n== " << name << '\n';
  if (from.peek() != std::ifstream::traits_type::eof()) to << from.rdbuf();
  return static_cast<bool>(to);
}

}  // namespace

std::optional<Fault> Trials::gather(const TrialSetting& setting, const Runnable& of, int workers, int round,
                                    TrialRun& trial) {
  const AnswerRule& rule = setting.study.parts().answer;
  if (!rule.gathered() || rule.from == AnswerRule::From::none) return std::nullopt;
  const auto wrong = [&](const std::string& text) {
    return Fault{Fault::Kind::wrong_answer, round, printable(text, longest_text)};
  };
  const Place here{workers, setting.at, trial.place.folder()};
  std::vector<std::pair<std::string, std::string>> files;
  for (const std::string& name : rule.files()) {
    const std::string file = absolute(text_of(setting.study, of, name, here), trial.place.folder());
    std::error_code trouble;
    if (!fs::exists(fs::symlink_status(file, trouble))) return wrong("it left no file " + name + " in its folder");
    if (const std::string why = not_its_own(file, trial.place.folder()); !why.empty())
      return wrong("its answer " + name + " is " + why + ": let it write a file of its own into its folder");
    files.emplace_back(name, file);
  }
  if (!rule.more_files.empty()) {
    std::ofstream all(trial.place.gathered(), std::ios::binary | std::ios::trunc);
    for (const auto& [name, file] : files) {
      if (!append(all, name, file)) break;
    }
    if (!all.flush())
      could_not_run("sweep.folder", "an answer", printable(trial.place.gathered(), 80) + " cannot be written",
                    "make room there, or name another place in TMPDIR");
    trial.answer = trial.place.gathered();
  }
  if (!rule.filter.given()) return std::nullopt;
  // Nobody waits for what a command has put in its place, such as a pipe.
  std::error_code trouble;
  if (!fs::is_regular_file(fs::symlink_status(trial.answer, trouble)))
    return wrong("what it printed is no plain file any more");
  auto fault = run_through(setting, of, rule.filter, workers, trial.place, "the answer's filter",
                           {trial.answer, trial.place.filtered()});
  if (fault) return wrong(fault->text);
  trial.answer = trial.place.filtered();
  return std::nullopt;
}

std::optional<Fault> Trials::all_beside(const TrialSetting& setting, const Runnable& of,
                                        const std::vector<Command>& commands, int workers, const TrialFolder& place,
                                        const char* what) {
  for (const Command& command : commands) {
    if (auto fault = run_beside(setting, of, command, workers, place, what)) return fault;
  }
  return std::nullopt;
}

TrialRun Trials::run(const TrialSetting& setting, const Runnable& of, int workers, int round, const Looking* looking) {
  const auto& parts = setting.study.parts();
  TrialRun trial;
  trial.place = folders_.fresh();
  trial.fault = all_beside(setting, of, parts.before_each, workers, trial.place, "before_each");
  if (!trial.fault) {
    Start start = start_of(setting, of, of.command, workers, trial.place, true);
    trial.words = start.words;
    start.announce = looking != nullptr;
    runner_.begin(start);
    trial.ended = counted(looking == nullptr ? runner_.wait(setting.stop)
                                             : runner_.wait_looking(looking->began, looking->look, setting.stop));
    trial.fault = fault_of(trial.ended, setting, trial.place, round);
    trial.could_run = trial.ended.why != Ended::Why::not_begun;
    std::error_code trouble;
    if (!trial.fault && !fs::is_directory(fs::symlink_status(trial.place.folder(), trouble)))
      trial.fault = Fault{Fault::Kind::crashed, round, "it removed the folder that it was given (ANTCREW_FOLDER)"};
    if (const auto after = all_beside(setting, of, parts.after_each, workers, trial.place, "after_each");
        after && !trial.fault)
      trial.fault = after;
  } else {
    trial.could_run = false;
  }
  if (trial.fault) trial.fault->round = round;
  const AnswerRule& rule = parts.answer;
  const Place here{workers, setting.at, trial.place.folder()};
  trial.answer = rule.from == AnswerRule::From::file
                     ? absolute(text_of(setting.study, of, rule.file, here), trial.place.folder())
                     : trial.place.output();
  return trial;
}

std::optional<std::vector<double>> Trials::run_at_once(const TrialSetting& setting, const Runnable& of,
                                                       std::vector<std::unique_ptr<Runner>>& runners) {
  const auto& parts = setting.study.parts();
  std::vector<TrialFolder> places;
  std::vector<Start> starts;
  for (std::size_t k = 0; k < runners.size(); ++k) {
    places.push_back(folders_.fresh());
    if (all_beside(setting, of, parts.before_each, 1, places.back(), "before_each")) return std::nullopt;
    starts.push_back(start_of(setting, of, of.command, 1, places.back(), true));
  }
  for (std::size_t k = 0; k < runners.size(); ++k) runners[k]->begin(starts[k]);
  std::vector<double> times;
  for (std::size_t k = 0; k < runners.size(); ++k) {
    const Ended ended = counted(runners[k]->wait(setting.stop));
    if (!fault_of(ended, setting, places[k], 0)) times.push_back(ended.wall_s);
  }
  bool after = true;
  for (const TrialFolder& place : places)
    after = !all_beside(setting, of, parts.after_each, 1, place, "after_each") && after;
  return times.size() == runners.size() && after ? std::optional(times) : std::nullopt;
}

double Trials::empty_s(const TrialSetting& setting, const Runnable& of, int workers) {
  const TrialFolder place = folders_.fresh();
  Runnable nothing = of;
  nothing.input.clear();
  nothing.command = {{"true"}, {}, "an empty command"};
  try {
    const Start start = start_of(setting, nothing, nothing.command, workers, place, true);
    const Ended ended = counted(runner_.run(start, setting.stop));
    return fault_of(ended, setting, place, 0) ? 0 : ended.wall_s;
  } catch (const Error&) {
    return 0;  // a system without `true`: what starting costs is then not told
  }
}

std::regex regex_of(const std::string& pattern) {
  return std::regex(pattern, std::regex::ECMAScript | std::regex_constants::__polynomial);
}

// Line by line, and of a line its first part: the matcher of the standard library recurses as deep as a match is long.
std::optional<double> reported_s(const Reported& reported, const TrialFolder& place) {
  constexpr std::size_t longest_line = 1000;
  const std::regex pattern = regex_of(reported.pattern);
  for (const std::string& file : {place.output(), place.errors()}) {
    std::string text;
    if (!read_file(file, most_reported_bytes, text)) continue;
    std::istringstream lines(text);
    for (std::string line; std::getline(lines, line);) {
      line.resize(std::min(line.size(), longest_line));
      std::smatch found;
      try {
        if (!std::regex_search(line, found, pattern)) continue;
      } catch (const std::regex_error&) {  // too much work for this line
        continue;
      }
      char* end = nullptr;
      const std::string number = found[1].str();
      const double value = std::strtod(number.c_str(), &end);
      if (end != number.c_str() && std::isfinite(value)) return value * reported.unit_s;
    }
  }
  return std::nullopt;
}

}  // namespace antcrew::internal
