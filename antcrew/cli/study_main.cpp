#include "antcrew/cli/study_main.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <CLI/CLI.hpp>
#include <algorithm>
#include <cstdio>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/cli/exit.hpp"
#include "antcrew/cli/forms.hpp"
#include "antcrew/cli/study_options.hpp"
#include "antcrew/record/record_file.hpp"
#include "antcrew/study/run.hpp"

namespace antcrew {
namespace {

// One line on standard error, rewritten in place; nothing when that is not a terminal.
class ProgressLine {
 public:
  explicit ProgressLine(bool wanted) : on_(wanted && ::isatty(STDERR_FILENO) != 0) {}
  ~ProgressLine() { clear(); }
  void show(const Progress& p) {
    if (!on_) return;
    const std::string text = fmt::format("{:3.0f} %  {:.0f} s  size {}, {}, {} workers", p.share * 100, p.elapsed_s,
                                         p.size, p.variant, p.workers);
    std::fprintf(stderr, "\r\033[K%s", text.substr(0, 79).c_str());
    shown_ = true;
  }
  void clear() {
    if (shown_) std::fputs("\r\033[K", stderr);
    shown_ = false;
  }

 private:
  bool on_;
  bool shown_ = false;
};

void print_list(const std::vector<const StudyBase*>& studies) {
  for (std::size_t i = 0; i < studies.size(); ++i) {
    fmt::print("{}. {}\n", i + 1, studies[i]->title());
    for (const VariantDefinition& variant : studies[i]->variants()) fmt::print("   {}\n", variant.key());
  }
}

bool any_holds(const Record& record) {
  const Analysed study = analyse(record);
  return std::any_of(study.best.begin(), study.best.end(), [](const Best& best) { return best.cell != nullptr; });
}

int run_one(const StudyBase& study, const StudyOptions& options, std::size_t studies, const BuildFacts& build) {
  const std::string path = record_path(options, study, studies);
  ProgressLine line(!options.quiet);
  RunHooks hooks;
  hooks.on_visit = [&](const Progress& progress) { line.show(progress); };
  const Record record = run(study, plan_of(options), hooks, build);
  line.clear();
  save_record(record, path);
  fmt::print("{}", rendered(record, options.form, output_width()));
  const std::string where = fmt::format("Record: {}\n", path);
  std::fflush(stdout);
  std::fputs((options.form == "table" ? "\n" + where : where).c_str(), options.form == "table" ? stdout : stderr);
  return any_holds(record) ? exit_done : exit_answer_is_no;
}

int parse_and_run(int argc, char** argv, const std::vector<const StudyBase*>& studies, const BuildFacts& build) {
  CLI::App app("Times rewrites of sequential code against their baseline: " + studies.front()->title() +
               (studies.size() > 1 ? " …" : ""));
  app.name(program_name(argv[0]));
  StudyOptions options;
  add_options(app, options);
  try {
    app.parse(argc, argv);
  } catch (const CLI::CallForHelp&) {
    fmt::print("{}", app.help());
    return exit_done;
  }
  check_form(options.form);
  if (options.list) return print_list(studies), exit_done;
  const auto chosen = chosen_studies(studies, options.studies);
  const Plan plan = plan_of(options);
  for (const StudyBase* study : chosen) {
    decide(*study, plan, usable_processors_now());  // bad input is found before the first second is spent
    record_path(options, *study, chosen.size());
  }
  int worst = exit_done;
  for (const StudyBase* study : chosen) worst = std::max(worst, run_one(*study, options, chosen.size(), build));
  return worst;
}

}  // namespace

int study_main(int argc, char** argv, const std::vector<const StudyBase*>& studies, const BuildFacts& build) {
  return guarded(program_name(argv[0]), [&] { return parse_and_run(argc, argv, studies, build); });
}

}  // namespace antcrew
