#include "antcrew/cli/study_main.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <csignal>
#include <cstdio>
#include <filesystem>
#include <optional>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/cli/exit.hpp"
#include "antcrew/cli/forms.hpp"
#include "antcrew/cli/live_table.hpp"
#include "antcrew/cli/study_options.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/record/growing_file.hpp"
#include "antcrew/record/record_file.hpp"
#include "antcrew/report/answers.hpp"
#include "antcrew/report/jostle_text.hpp"
#include "antcrew/report/text.hpp"
#include "antcrew/study/jostle.hpp"
#include "antcrew/study/run.hpp"

namespace antcrew::cli_layer {
namespace {

// The first Ctrl-C ends the run cleanly; a second one is left to do what it always does.
volatile std::sig_atomic_t asked_to_stop = 0;
void on_interrupt(int number) {
  asked_to_stop = 1;
  std::signal(number, SIG_DFL);
}

void print_list(const std::vector<const StudyBase*>& studies) {
  for (std::size_t i = 0; i < studies.size(); ++i) {
    fmt::print("{}. {}\n", i + 1, studies[i]->title());
    for (const VariantDefinition& variant : studies[i]->variants()) fmt::print("   {}\n", variant.key());
  }
}

int exit_for(Conclusion::Kind answer) {
  switch (answer) {
    case Conclusion::Kind::best:
    case Conclusion::Kind::faster:
    case Conclusion::Kind::not_faster:
      return exit_done;
    case Conclusion::Kind::cannot_tell:
    case Conclusion::Kind::not_confirmed:
      return exit_cannot_tell;
    default:
      return exit_answer_is_no;
  }
}

// The study was written so that nothing could be told from it.
bool refused_agreement(const Record& record) {
  return std::any_of(record.cells.begin(), record.cells.end(), [](const Cell& cell) {
    return std::any_of(cell.faults.begin(), cell.faults.end(),
                       [](const Fault& fault) { return fault.kind == Fault::Kind::cannot_disagree; });
  });
}

// What is said while a run is under way, above the line of progress.
class Talk {
 public:
  Talk(LiveTable& line, bool quiet) : line_(line), quiet_(quiet) {}
  void say(const std::string& text) const {
    if (quiet_) return;
    line_.clear();
    std::fprintf(stderr, "%s\n", text.c_str());
  }

 private:
  LiveTable& line_;
  bool quiet_;
};

// A disk that is full for a moment costs nothing: what could not be written is written later. It is told once.
void keep_step(GrowingFile& file, const RecordStep& step, const Talk& talk, bool& told) {
  file.add(step);
  if (!file.trouble().empty() && !told)
    talk.say("the record could not be written for now (" + file.trouble() + "); the run goes on and tries again");
  told = !file.trouble().empty();
}

RunHooks hooks_for(GrowingFile& file, LiveTable& line, const Talk& talk) {
  RunHooks hooks;
  hooks.on_visit = [&line](const Progress& progress) { line.show(progress); };
  hooks.on_begin = [&file, &line](const Record& frame) {
    file.begin(frame);
    line.begin(frame);
  };
  hooks.on_step = [&file, &line, &talk, told = false](const RecordStep& step) mutable {
    keep_step(file, step, talk, told);
    line.add(step);
  };
  hooks.on_note = [&talk](const std::string& note) { talk.say(note); };
  hooks.stop = [] { return asked_to_stop != 0; };
  return hooks;
}

// On a terminal what was found out comes first: saving it may fail, and then the steps are still in their file. Other
// forms may fail themselves, and then the record is there to make them from.
void show_result(const Record& record, const std::string& path, const FormChoice& form, const StudyOptions& options,
                 GrowingFile& file) {
  const bool table = form.form == "table" && form.to.empty();
  if (!table) file.finish(record);
  put_out(rendered({{path, record}}, form, form.to.empty() ? output_look() : Look()), form.to);
  if (options.answers) fmt::print(table ? stdout : stderr, "\n{}", answers_text(record));
  std::fflush(stdout);
  if (table) file.finish(record);
  std::fprintf(table ? stdout : stderr, "%sRecord: %s\n", table ? "\n" : "", path.c_str());
  if (!options.page) return;
  const std::string page = std::filesystem::path(path).replace_extension(".html").string();
  FormChoice as_page;
  as_page.form = "page";
  as_page.scrub = form.scrub;
  put_out(rendered({{path, record}}, as_page, Look()), page);
  std::fprintf(table ? stdout : stderr, "Page: %s\n", page.c_str());
}

int run_one(const StudyBase& study, const StudyOptions& options, std::size_t studies, const BuildFacts& build) {
  const Plan plan = plan_of(options);
  LiveTable line(!options.quiet);
  if (options.jostle) {
    const JostleReport report = jostle(study, plan, [] { return asked_to_stop != 0; });
    fmt::print("{}", jostle_text(report, output_look().width));
    return report.faults.empty() ? exit_done : exit_answer_is_no;
  }
  const std::string path = record_path(options, study, studies);
  const bool replaced = options.overwrite || !options.resume.empty();
  const auto begun = options.resume.empty() ? std::optional<Record>() : load_record(options.resume);
  GrowingFile file(path, replaced ? GrowingFile::Existing::replaced : GrowingFile::Existing::refused);
  const Talk talk(line, options.quiet);
  const RunHooks hooks = hooks_for(file, line, talk);
  const Record record = begun ? run_on(study, *begun, plan, hooks, build) : run(study, plan, hooks, build);
  line.clear();
  show_result(record, path, form_of(options, study, studies), options, file);
  if (!record.complete) {
    std::fflush(stdout);
    std::fprintf(stderr, "Ended early; go on with: --resume %s\n", path.c_str());
    return exit_could_not_run;
  }
  return refused_agreement(record) ? exit_bad_input : exit_for(analyse(record).conclusion.answer);
}

int parse_and_run(int argc, char** argv, const std::vector<const StudyBase*>& studies, const BuildFacts& build) {
  const auto parsed =
      parse_study_options(argc, argv,
                          "Times rewrites of sequential code against their baseline: " + studies.front()->title() +
                              (studies.size() > 1 ? " …" : ""));
  if (!parsed) return exit_done;
  const StudyOptions& options = *parsed;
  check_form(options.form);
  for (const StudyBase* study : studies) study->check_description();
  if (options.list) return print_list(studies), exit_done;
  const auto chosen = chosen_studies(studies, options.studies);
  const Plan plan = plan_of(options);
  if (!options.resume.empty() && chosen.size() > 1) {
    bad_input("cli.option", "--resume", "this program has several studies", "choose the record's own with --study");
  }
  for (const StudyBase* study : chosen) {
    decide(*study, plan, usable_processors_now());  // bad input is found before the first second is spent
    record_path(options, *study, chosen.size());
  }
  std::signal(SIGINT, on_interrupt);
  std::signal(SIGTERM, on_interrupt);
  int worst = exit_done;
  for (const StudyBase* study : chosen) {
    if (asked_to_stop != 0) break;
    worst = exit_of_several(worst, run_one(*study, options, chosen.size(), build));
  }
  return worst;
}

}  // namespace

}  // namespace antcrew::cli_layer

namespace antcrew {

int study_main(int argc, char** argv, const std::vector<const StudyBase*>& studies,
               const record_layer::BuildFacts& build) {
  using namespace cli_layer;
  return guarded(program_name(argv[0]), [&] { return parse_and_run(argc, argv, studies, build); });
}

}  // namespace antcrew
