#include "antcrew/cli/run_study.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <csignal>
#include <cstdio>
#include <filesystem>
#include <memory>
#include <optional>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/cli/exit.hpp"
#include "antcrew/cli/forms.hpp"
#include "antcrew/cli/live_table.hpp"
#include "antcrew/cli/stored.hpp"
#include "antcrew/record/growing_file.hpp"
#include "antcrew/record/record_file.hpp"
#include "antcrew/report/answers.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::cli_layer {
namespace {

// The first Ctrl-C ends the run cleanly; a second one is left to do what it always does.
volatile std::sig_atomic_t asked_to_stop = 0;
void on_interrupt(int number) {
  asked_to_stop = 1;
  std::signal(number, SIG_DFL);
}

int exit_for(Conclusion::Kind answer) {
  switch (answer) {
    case Conclusion::Kind::best:
    case Conclusion::Kind::faster:
    case Conclusion::Kind::no_difference:
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
  hooks.on_left_out = [&line](const std::string& note) { line.note(note); };
  hooks.stop = [] { return asked_to_stop != 0; };
  return hooks;
}

std::string stored_as(int number, bool in_short) {
  return fmt::format("Stored as {}{}.", number,
                     in_short ? fmt::format("; more: antcrew show {0} --all, antcrew explain {0}", number) : "");
}

// On a terminal what was found out comes first: saving it may fail, and then the steps are still in their file. Other
// forms may fail themselves, and then the record is there to make them from.
void show_result(const Record& record, const std::string& path, const FormChoice& form, const StudyOptions& options,
                 GrowingFile& file) {
  const bool table = form.form == "text" && form.to.empty();
  if (!table) file.finish(record);
  put_out(rendered({{path, record}}, form, form.to.empty() ? output_look() : Look()), form.to);
  if (options.answers) fmt::print(table ? stdout : stderr, "\n{}", answers_text(record));
  std::fflush(stdout);
  if (table) file.finish(record);
  const KeptRun kept = keep_run(path, options.store);
  std::FILE* const to = table ? stdout : stderr;
  std::fprintf(to, "Record: %s\n", path.c_str());
  if (kept.number > 0) std::fprintf(to, "%s\n", stored_as(kept.number, table && !form.all).c_str());
  if (!kept.trouble.empty()) {
    std::fflush(stdout);
    std::fprintf(stderr, "not stored: %s\n", printable(kept.trouble).c_str());
  }
  if (!options.page) return;
  const std::string page = std::filesystem::path(path).replace_extension(".html").string();
  FormChoice as_page;
  as_page.form = "page";
  as_page.scrub = form.scrub;
  put_out(rendered({{path, record}}, as_page, Look()), page);
  std::fprintf(to, "Page: %s\n", page.c_str());
}

}  // namespace

bool asked_to_end() noexcept {
  return asked_to_stop != 0;
}

void end_on_signals() {
  std::signal(SIGINT, on_interrupt);
  std::signal(SIGTERM, on_interrupt);
}

namespace {

// A name that was free may be taken by a run that begins in the same moment: then the next one.
std::unique_ptr<GrowingFile> record_file_of(const RunnableStudy& study, const StudyOptions& options,
                                            std::size_t studies, std::string& path) {
  const bool replaced = options.overwrite || !options.resume.empty();
  const bool chosen_here = options.save.empty() && options.resume.empty();
  for (int attempts = 100;; --attempts) {
    path = record_path(options, *study.outline, studies);
    try {
      return std::make_unique<GrowingFile>(path,
                                           replaced ? GrowingFile::Existing::replaced : GrowingFile::Existing::refused);
    } catch (const Error& error) {
      if (!chosen_here || attempts == 0 || error.id() != "record.exists") throw;
    }
  }
}

}  // namespace

int run_study(const RunnableStudy& study, const StudyOptions& options, std::size_t studies) {
  const Plan plan = plan_of(options);
  LiveTable line(!options.quiet);
  const auto begun = options.resume.empty() ? std::optional<Record>() : load_record(options.resume);
  std::string path;
  const std::unique_ptr<GrowingFile> its_file = record_file_of(study, options, studies, path);
  GrowingFile& file = *its_file;
  const Talk talk(line, options.quiet);
  const RunHooks hooks = hooks_for(file, line, talk);
  const Record record = study.run(plan, hooks, begun ? &*begun : nullptr, path);
  line.clear();
  show_result(record, path, form_of(options, *study.outline, studies), options, file);
  if (!record.complete) {
    std::fflush(stdout);
    std::fprintf(stderr, "Ended early; resume with: --resume %s\n", path.c_str());
    return exit_could_not_run;
  }
  return refused_agreement(record) ? exit_bad_input : exit_for(analyse(record).conclusion.answer);
}

}  // namespace antcrew::cli_layer
