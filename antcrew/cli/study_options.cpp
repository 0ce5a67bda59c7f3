#include "antcrew/cli/study_options.hpp"

#include <fmt/chrono.h>
#include <fmt/format.h>

#include <CLI/CLI.hpp>
#include <algorithm>
#include <cctype>
#include <cstdio>
#include <ctime>
#include <filesystem>
#include <iterator>
#include <utility>

#include "antcrew/base/error.hpp"
#include "antcrew/base/nearest.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/cli/exit.hpp"
#include "antcrew/cli/forms.hpp"
#include "antcrew/report/figure.hpp"

namespace antcrew::cli_layer {
namespace {

constexpr double quick_budget_s = 10;
constexpr Pin all_pins[] = {Pin::off, Pin::apart, Pin::near};

std::string slug(const std::string& title) {
  std::string text;
  for (const char c : title) {
    const auto letter = static_cast<unsigned char>(c);
    if (std::isalnum(letter) != 0) {
      text += static_cast<char>(std::tolower(letter));
    } else if (!text.empty() && text.back() != '-') {
      text += '-';
    }
  }
  while (!text.empty() && text.back() == '-') text.pop_back();
  return text.empty() ? "study" : text.substr(0, 60);
}

std::string fresh_path(const std::string& stem) {
  for (int attempt = 1;; ++attempt) {
    const std::string path = attempt == 1 ? stem + ".json" : fmt::format("{}-{}.json", stem, attempt);
    if (!std::filesystem::exists(path)) return path;
  }
}

Metering parse_metering(const std::string& which) {
  if (which == "few") return Metering::few;
  if (which == "all") return Metering::all;
  if (which == "none") return Metering::none;
  bad_input("cli.option", "--instrument", "no choice '" + which + "'", "choose from few, all, none");
}

// Numbers where all are, else words.
std::vector<PointValue> values_of(const std::string& list, const std::string& where) {
  try {
    const std::vector<std::size_t> numbers = parse_counts(list, where);
    return {numbers.begin(), numbers.end()};
  } catch (const Error&) {
    std::vector<PointValue> words;
    for (std::size_t from = 0; from <= list.size();) {
      // A value in quotes may have commas in it, as a list of hosts has.
      const char first = from < list.size() ? list[from] : ',';
      const bool quoted = first == '\'' || first == '"';
      const std::size_t closed = quoted ? list.find(first, from + 1) : from;
      if (closed == std::string::npos) bad_input("cli.option", where, "a quote that is not closed", "close it");
      const std::size_t comma = std::min(list.find(',', closed), list.size());
      if (quoted && comma > closed + 1)
        bad_input("cli.option", where, "something behind a closed quote", "put a comma between two values");
      const std::string word = quoted ? list.substr(from + 1, closed - from - 1) : list.substr(from, comma - from);
      const bool number = word.find_first_not_of("0123456789.eEkMGTi'_-+") == std::string::npos;
      if (word.empty() || (number && !quoted)) throw;  // a list of numbers with a mistake in it, or an empty item
      words.emplace_back(word);
      from = comma + 1;
    }
    return words;
  }
}

std::vector<Pin> parse_pins(const std::string& list) {
  std::vector<Pin> pins;
  for (std::size_t from = 0; from <= list.size();) {
    const std::size_t comma = std::min(list.find(',', from), list.size());
    const std::string name = list.substr(from, comma - from);
    const auto* known =
        std::find_if(std::begin(all_pins), std::end(all_pins), [&](Pin pin) { return name == name_of(pin); });
    if (known == std::end(all_pins))
      bad_input("cli.option", "--pin", "no pinning '" + name + "'", "choose from off, apart, near");
    pins.push_back(*known);
    from = comma + 1;
  }
  return pins;
}

}  // namespace

void add_study_options(CLI::App& app, StudyOptions& o, bool of_commands) {
  app.add_option("--workers", o.workers, "worker counts, such as 1,2,4 (default: 1,2,4 … up to the usable processors)")
      ->type_name("LIST");
  app.add_option("--sizes", o.sizes, "input sizes, such as 10k,1M,64Ki (default: the study's own)")->type_name("LIST");
  app.add_option("--variant", o.variants, "try only this variant and the baseline; may be given again")
      ->type_name("NAME")
      ->allow_extra_args(false);
  if (!of_commands) {
    app.add_option("--study", o.studies, "run only this study, by title or number; may be given again")
        ->type_name("STUDY")
        ->allow_extra_args(false);
  }
  app.add_option("--dimension", o.dimensions,
                 "values of a further dimension, such as distinct=1k,1M; may be given again")
      ->type_name("NAME=LIST")
      ->allow_extra_args(false);
  if (!of_commands) {
    app.add_option("--pin", o.pins, "pinnings to try: off, apart, near, or a list of them")->type_name("LIST");
  }
  if (!of_commands) {
    app.add_option(
           "--launcher", o.launcher,
           "what begins the workers of a RankCrew (default: mpirun -n @(ranks)); @(workers), @(size) and dimensions "
           "are put in, too")
        ->type_name("WORDS");
  }
  app.add_option(
         "--rounds", o.rounds,
         "of every cell, and as many to confirm the best (default: 11 to 60, until intervals are narrow enough)")
      ->type_name("N");
  app.add_option("--precision", o.width_percent,
                 "how narrow: half-width of the 95 % intervals, in percent of the median")
      ->type_name("PERCENT")
      ->capture_default_str();
  app.add_option(
         "--budget", o.budget_s,
         "wall time of a study in seconds, kept within 15 % or one visit of each cell; 0 = no limit (default: 60)")
      ->type_name("S");
  app.add_option("--matters", o.matters_percent,
                 "a difference that matters: claims are made beyond it, such as \"faster\" and \"best\"")
      ->type_name("PERCENT")
      ->capture_default_str();
  app.add_option("--launches", o.launches,
                 of_commands ? "fewest blocks that the rounds which confirm the best lie in"
                             : "fewest blocks that the rounds which confirm the best lie in, for each of which the "
                               "program is started anew; 0 = it is not")
      ->type_name("K")
      ->capture_default_str();
  app.add_option("--wait-idle", o.wait_idle_s,
                 "wait up to so many seconds, beyond the budget, for other programs to leave the machine: before and "
                 "between rounds")
      ->type_name("S");
  app.add_flag("--no-confirm", o.no_confirm, "do not try the best again in fresh rounds");
  app.add_flag("--no-crowd", o.no_crowd, "do not time copies of the baseline side by side: memory is no cause then");
  app.add_flag("--quick", o.quick, "an answer in about ten seconds, with the intervals it has by then");
  if (!of_commands) {
    app.add_flag("--find-races", o.find_races,
                 "instead of timing: look for races, with random delays and worker counts");
  }
  app.add_option("--resume", o.resume,
                 std::string("go on with this record, ") + record_help + "; the study must not have changed")
      ->type_name("RECORD");
  app.add_option("--only", o.only, "with --resume: this variant was edited; try it and the baseline again")
      ->type_name("VARIANT");
  app.add_option("--call-timeout", o.call_limit_s,
                 "longest call in seconds (default: 30 times the baseline's, no more than a 20th of the budget; but 3 "
                 "times, and 3 s)")
      ->type_name("S");
  app.add_option("--memory-limit", o.memory_limit,
                 "bytes a cell may take on top of its input (default: 90 % of what is free)")
      ->type_name("BYTES");
  if (!of_commands) {
    app.add_flag("--without-cell-processes", o.without_cell_processes,
                 "try all cells in this very process, for debuggers");
  }
  app.add_option("--seed", o.seed, "of the order in which cells are tried (default: a fresh one, kept in the record)")
      ->type_name("N");
  app.add_option("--save", o.save, "file for the record (default: a new one in antcrew-records/)")->type_name("FILE");
  app.add_flag("--overwrite", o.overwrite, "let --save replace a file");
  add_store_options(app, o.store, true);
  add_form_options(app, o.form);
  app.add_flag("--page", o.page, "write a page with all figures beside the record, too");
  app.add_flag("--answers", o.answers, "show in short what the baseline and each variant answered, too");
  if (!of_commands) {
    app.add_flag("--pass-output", o.let_print, "what variants print goes to standard error; else it is kept aside");
  }
  app.add_option("--instrument", o.meter,
                 "cells that are called with a log of what every worker does, too: few (each variant at its largest "
                 "worker count, and the fastest cell), all, none (default: few)")
      ->type_name("WHICH");
  app.add_flag("--quiet", o.quiet, "no progress on standard error");
  add_dry_run(app, o.dry_run,
              of_commands ? "show every command word by word, and run nothing"
                          : "show the studies and variants of this program, and run nothing");
}

void add_dry_run(CLI::App& app, bool& dry_run, const std::string& what) {
  app.add_flag("--dry-run", dry_run, what);
  app.add_flag_callback("--list",
                        [&dry_run] {
                          std::fprintf(stderr,
                                       "--list is now --dry-run; the next version does not take the old name\n");
                          dry_run = true;
                        })
      ->group("");
}

namespace {

std::string first_line(const std::string& text) {
  return text.substr(0, text.find('\n'));
}

std::vector<std::string> known_words(const CLI::App& app) {
  std::vector<std::string> words;
  for (const CLI::Option* option : app.get_options()) {
    for (const std::string& name : option->get_lnames()) words.push_back("--" + name);
  }
  for (const CLI::App* command : app.get_subcommands([](const CLI::App*) { return true; }))
    words.push_back(command->get_name());
  return words;
}

}  // namespace

namespace {

// What options were called in 0.1 before they had plain names; taken for one version more.
constexpr std::pair<const char*, const char*> earlier_names[] = {
    {"--jostle", "--find-races"},     {"--width", "--precision"},
    {"--let-print", "--pass-output"}, {"--no-stands", "--without-cell-processes"},
    {"--scrub", "--anonymize"},       {"--call-limit", "--call-timeout"},
    {"--meter", "--instrument"}};

// The words in reverse order, as CLI11 takes them, under today's names. Those behind "--" stay as they are.
std::vector<std::string> with_names_of_today(int argc, char** argv) {
  std::vector<std::string> words(argv + std::min(argc, 1), argv + argc);
  const auto end = std::find(words.begin(), words.end(), "--");
  for (auto word = words.begin(); word != end; ++word) {
    const std::string name = word->substr(0, word->find('='));
    for (const auto& [before, now] : earlier_names) {
      if (name != before) continue;
      std::fprintf(stderr, "%s is now %s; the next version does not take the old name\n", before, now);
      *word = now + word->substr(name.size());
    }
  }
  std::reverse(words.begin(), words.end());
  return words;
}

}  // namespace

void parse(CLI::App& app, int argc, char** argv) {
  try {
    app.parse(with_names_of_today(argc, argv));
  } catch (const CLI::CallForHelp&) {
    throw;
  } catch (const CLI::CallForVersion&) {
    throw;
  } catch (const CLI::ExtrasError&) {
    const CLI::App* used = &app;
    for (const CLI::App* command : app.get_subcommands()) used = command;
    std::vector<std::string> extras = app.remaining(true);
    const std::string wrong = extras.empty() ? "" : extras.front().substr(0, extras.front().find('='));
    const bool option = wrong.rfind("-", 0) == 0;
    const std::string likely = nearest_word(known_words(*used), wrong);
    bad_input("cli.option", "", std::string(option ? "no option '" : "no command or value '") + wrong + "' here",
              (likely.empty() ? std::string() : "did you mean '" + likely + "'? ") + "See " + app.get_name() +
                  (used == &app ? "" : " " + used->get_name()) + " --help");
  } catch (const CLI::ParseError& error) {
    bad_input("cli.option", "", first_line(error.what()), "see " + app.get_name() + " --help");
  }
}

std::optional<StudyOptions> parse_study_options(int argc, char** argv, const std::string& about) {
  CLI::App app(about);
  app.name(program_name(argv[0]));
  StudyOptions options;
  add_study_options(app, options, false);
  try {
    parse(app, argc, argv);
  } catch (const CLI::CallForHelp&) {
    fmt::print("{}", app.help());
    return std::nullopt;
  }
  if (!options.resume.empty()) options.resume = record_file(options.resume, options.store);
  return options;
}

Plan plan_of(const StudyOptions& o) {
  Plan plan;
  if (o.workers) {
    for (const std::size_t count : parse_counts(*o.workers, "--workers")) {
      plan.workers.push_back(
          internal::checked_workers(count > 1'000'000 ? 1'000'000 : static_cast<long long>(count), "--workers"));
    }
    check_workers(plan.workers, "--workers");
  }
  if (o.sizes) {
    plan.sizes = parse_counts(*o.sizes, "--sizes");
    check_sizes(plan.sizes, "--sizes");
  }
  for (const std::string& dimension : o.dimensions) {
    const std::size_t equals = dimension.find('=');
    if (equals == std::string::npos) {
      bad_input("cli.option", "--dimension", "'" + dimension + "' has no '='",
                "write NAME=LIST, such as distinct=1k,1M");
    }
    plan.dimensions[dimension.substr(0, equals)] = values_of(dimension.substr(equals + 1), "--dimension " + dimension);
  }
  if (o.pins) plan.pins = parse_pins(*o.pins);
  if (o.rounds && *o.rounds < 1)
    bad_input("study.plan", "--rounds", std::to_string(*o.rounds) + " rounds", "give 1 to 100000");
  plan.variants = o.variants;
  plan.rounds = o.rounds.value_or(0);
  plan.width = o.width_percent / 100;
  plan.matters = o.matters_percent / 100;
  plan.launches = o.launches;
  plan.wait_idle_s = o.wait_idle_s;
  plan.budget_s = o.budget_s.value_or(o.quick ? quick_budget_s : plan.budget_s);
  plan.confirm = !o.no_confirm;
  plan.crowd = !o.no_crowd;
  plan.seed = o.seed;
  plan.stands = !o.without_cell_processes;
  plan.call_limit_s = o.call_limit_s;
  if (!o.memory_limit.empty()) plan.memory_limit_bytes = parse_count(o.memory_limit, "--memory-limit");
  plan.again = o.only;
  plan.let_print = o.let_print;
  plan.launcher = o.launcher;
  if (o.meter) plan.meter = parse_metering(*o.meter);
  if (!o.only.empty() && o.resume.empty()) {
    bad_input("cli.option", "--only", "no record to add to", "name it with --resume RECORD");
  }
  return plan;
}

std::vector<const StudyBase*> chosen_studies(const std::vector<const StudyBase*>& studies,
                                             const std::vector<std::string>& wanted) {
  if (wanted.empty()) return studies;
  std::vector<const StudyBase*> chosen;
  for (const std::string& name : wanted) {
    const std::size_t before = chosen.size();
    for (std::size_t i = 0; i < studies.size(); ++i) {
      if (studies[i]->title() == name || std::to_string(i + 1) == name) chosen.push_back(studies[i]);
    }
    if (chosen.size() == before) {
      bad_input("cli.study", "--study", "no study '" + name + "' in this program", "see --list");
    }
  }
  return chosen;
}

FormChoice form_of(const StudyOptions& o, const Outline& study, std::size_t studies) {
  FormChoice form = o.form;
  if (studies < 2 || form.to.empty()) return form;
  std::filesystem::path path(form.to);
  path.replace_filename(path.stem().string() + "-" + slug(study.title()) + path.extension().string());
  form.to = path.string();
  return form;
}

std::string record_path(const StudyOptions& o, const Outline& study, std::size_t studies) {
  if (!o.resume.empty() && !o.save.empty()) {
    bad_input("cli.option", "--save", "--resume already names the record", "leave one of the two out");
  }
  if (!o.resume.empty()) return o.resume;
  if (o.save.empty()) {
    return fresh_path(
        fmt::format("antcrew-records/{}-{:%Y%m%d-%H%M%S}", slug(study.title()), fmt::localtime(std::time(nullptr))));
  }
  std::filesystem::path path(o.save);
  if (studies > 1) {
    path.replace_filename(path.stem().string() + "-" + slug(study.title()) + path.extension().string());
  }
  if (std::filesystem::is_directory(path)) {
    bad_input("record.exists", "--save " + path.string(), "this is a directory", "name a file in it");
  }
  std::error_code unreadable;
  if (std::filesystem::exists(path) && std::filesystem::file_size(path, unreadable) > 0 && !o.overwrite) {
    bad_input("record.exists", "--save " + path.string(), "this file exists",
              "choose another name, or add --overwrite");
  }
  return path.string();
}

}  // namespace antcrew::cli_layer
