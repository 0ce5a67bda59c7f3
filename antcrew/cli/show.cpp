#include "antcrew/cli/show.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/cli/exit.hpp"
#include "antcrew/cli/scrub.hpp"
#include "antcrew/record/record_file.hpp"
#include "antcrew/report/answers.hpp"
#include "antcrew/report/details.hpp"
#include "antcrew/report/findings.hpp"
#include "antcrew/report/history_page.hpp"
#include "antcrew/report/study_json.hpp"
#include "antcrew/report/text.hpp"
#include "antcrew/report/trial_text.hpp"
#include "antcrew/report/worth_text.hpp"

namespace antcrew::cli_layer {

namespace {

// One of several is told apart by its file's name without the folders.
std::vector<NamedRecord> loaded(const ShowOptions& options) {
  std::vector<NamedRecord> records;
  for (const std::string& word : options.records) {
    for (const RecordFile& file : record_files(word, options.store))
      records.push_back({options.form.form == "page" ? file.title : file.name, load_record(file.path)});
  }
  return records;
}

std::string shown(const std::vector<NamedRecord>& records, const ShowOptions& options, const Look& look) {
  // A label, or names with commas, may stand for several.
  if (options.form.form == "page" && records.size() > 1) return history_page_of(records, options.form.scrub);
  if (!options.answers && options.details.empty() && options.trial.empty())
    return rendered(records, options.form, look);
  std::string text;
  for (const NamedRecord& named : records) {
    const Record record = options.form.scrub ? scrub(named.record) : named.record;
    text += wrapped(options.answers          ? answers_text(record)
                    : !options.trial.empty() ? trial_text(record, options.trial)
                                             : details_text(analyse(record), options.details),
                    look.width);
  }
  return text;
}

}  // namespace

std::string history_page_of(const std::vector<NamedRecord>& records, bool scrubbed) {
  std::vector<Record> kept;
  kept.reserve(records.size());
  for (const NamedRecord& named : records) kept.push_back(scrubbed ? scrub(named.record) : named.record);
  std::vector<Analysed> studies;
  studies.reserve(kept.size());
  std::vector<HistoryRun> runs;
  for (std::size_t k = 0; k < kept.size(); ++k) {
    studies.push_back(analyse(kept[k]));
    runs.push_back({&studies.back(), scrubbed ? scrub_text(records[k].name) : records[k].name});
  }
  return history_page_html(runs_by_study(std::move(runs)));
}

int show_record(const ShowOptions& options) {
  check_form(options.form, options.form.form == "page" ? 1 : options.records.size());
  const bool in_place = options.answers || !options.details.empty() || !options.trial.empty();
  if (in_place && options.form.form != "text")
    bad_input("cli.form", "--as " + options.form.form, "--details, --trial and --answers are text",
              "leave them out: the form json has all that is in the record");
  const std::vector<NamedRecord> records = loaded(options);
  put_out(shown(records, options, options.form.to.empty() ? output_look() : Look()), options.form.to);
  const bool in_short =
      options.form.form == "text" && !options.form.all && options.form.to.empty() && ::isatty(STDOUT_FILENO) != 0;
  if (in_short && options.details.empty() && options.trial.empty() && !options.answers)
    put_out("More: the same with --all; antcrew explain\n", "");
  return exit_done;
}

int explain_record(const ExplainOptions& options) {
  check_plain_form(options.form, "an explanation");
  const Record loaded_record = load_record(record_file(options.record, options.store));
  const Record record = options.scrub ? scrub(loaded_record) : loaded_record;
  const Analysed study = analyse(record);
  const StudyView view(study);
  const Look look = options.to.empty() ? output_look() : Look();
  put_out(options.form == "json" ? explanation_json(view, options.timeline)
                                 : wrapped(explanation(view, look, options.timeline), look.width),
          options.to);
  return cannot_explain(view) ? exit_cannot_tell : exit_done;
}

int tell_worth(const WorthOptions& options) {
  check_plain_form(options.form, "this answer");
  const Record record = load_record(record_file(options.record, options.store));
  const Analysed study = analyse(record);
  const bool sizes =
      std::any_of(record.points.begin(), record.points.end(), [](const Point& at) { return at.size > 0; });
  if (!sizes)
    bad_input("worth.sizes", options.record, "this study has no sizes, so none can be told from which on it pays",
              "measure it with two sizes or more");
  const auto worth = worth_of(study, options.variant);
  if (!worth) {
    std::vector<std::string> known;
    for (const CellFigures& f : study.cells) {
      const std::string name = "'" + printable(f.cell->variant) + "'";
      const bool sound = f.cell->kind == Cell::Kind::variant && f.verdict == Verdict::holds;
      if (sound && std::find(known.begin(), known.end(), name) == known.end()) known.push_back(name);
    }
    bad_input("cli.variant", options.record,
              options.variant.empty() ? "no variant is valid at the largest size"
                                      : "no variant '" + printable(options.variant) + "' holds at the largest size",
              known.empty() ? "see `antcrew show` for the verdicts" : "choose from " + joined(known));
  }
  const bool json = options.form == "json";
  put_out(json ? worth_rule(study, *worth) : wrapped(worth_text(study, *worth), output_look().width), "");
  if (!options.to.empty()) {
    put_out(worth_rule(study, *worth), options.to);
    fmt::print(json ? stderr : stdout, "Rule: {}\n", options.to);
  }
  return worth->steps.empty() ? exit_answer_is_no : exit_done;
}

}  // namespace antcrew::cli_layer
