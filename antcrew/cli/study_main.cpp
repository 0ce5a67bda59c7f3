#include "antcrew/cli/study_main.hpp"

#include <fmt/format.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include <algorithm>
#include <csignal>
#include <cstdio>
#include <optional>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/cli/exit.hpp"
#include "antcrew/cli/forms.hpp"
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

// One line on standard error, rewritten in place; nothing when that is not a terminal.
class ProgressLine {
 public:
  explicit ProgressLine(bool wanted) : on_(wanted && ::isatty(STDERR_FILENO) != 0) {}
  ~ProgressLine() { clear(); }
  void show(const Progress& p) {
    const std::int64_t now = now_ns();
    if (!on_ || now - shown_ns_ < 100'000'000) return;
    const std::string text =
        fmt::format("{:3.0f} %  {:.0f} s left  size {}  {}, {} worker{}", p.share * 100, p.left_s, count_text(p.size),
                    printable(p.variant, 40), p.workers, p.workers == 1 ? "" : "s");
    std::fprintf(stderr, "\r\033[K%s", printable(text, width()).c_str());
    shown_ns_ = now;
  }
  void clear() {
    if (shown_ns_ != 0) std::fputs("\r\033[K", stderr);
    shown_ns_ = 0;
  }

 private:
  static std::size_t width() {
    winsize size{};
    return ::ioctl(STDERR_FILENO, TIOCGWINSZ, &size) == 0 && size.ws_col > 1 ? size.ws_col - 1u : 79;
  }
  bool on_;
  std::int64_t shown_ns_ = 0;
};

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
  Talk(ProgressLine& line, bool quiet) : line_(line), quiet_(quiet) {}
  void say(const std::string& text) const {
    if (quiet_) return;
    line_.clear();
    std::fprintf(stderr, "%s\n", text.c_str());
  }

 private:
  ProgressLine& line_;
  bool quiet_;
};

// A disk that is full for a moment costs nothing: what could not be written is written later. It is told once.
void keep_step(GrowingFile& file, const RecordStep& step, const Talk& talk, bool& told) {
  file.add(step);
  if (!file.trouble().empty() && !told)
    talk.say("the record could not be written for now (" + file.trouble() + "); the run goes on and tries again");
  told = !file.trouble().empty();
}

RunHooks hooks_for(GrowingFile& file, ProgressLine& line, const Talk& talk) {
  RunHooks hooks;
  hooks.on_visit = [&line](const Progress& progress) { line.show(progress); };
  hooks.on_begin = [&file](const Record& frame) { file.begin(frame); };
  hooks.on_step = [&file, &talk, told = false](const RecordStep& step) mutable { keep_step(file, step, talk, told); };
  hooks.on_note = [&talk](const std::string& note) { talk.say(note); };
  hooks.stop = [] { return asked_to_stop != 0; };
  return hooks;
}

int run_one(const StudyBase& study, const StudyOptions& options, std::size_t studies, const BuildFacts& build) {
  const Plan plan = plan_of(options);
  ProgressLine line(!options.quiet);
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
  // What was found out comes first: saving it may fail, and then the steps are still in their file.
  fmt::print("{}", rendered(record, options.form, output_look()));
  if (options.answers) fmt::print(options.form == "table" ? stdout : stderr, "\n{}", answers_text(record));
  std::fflush(stdout);
  file.finish(record);
  const bool table = options.form == "table";
  std::fprintf(table ? stdout : stderr, "%sRecord: %s\n", table ? "\n" : "", path.c_str());
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
