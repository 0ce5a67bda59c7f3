#include "antcrew/cli/show.hpp"

#include <fmt/format.h>

#include <cerrno>
#include <cstring>
#include <fstream>

#include "antcrew/base/error.hpp"
#include "antcrew/cli/exit.hpp"
#include "antcrew/cli/forms.hpp"
#include "antcrew/record/record_file.hpp"
#include "antcrew/report/answers.hpp"
#include "antcrew/report/details.hpp"
#include "antcrew/report/findings.hpp"
#include "antcrew/report/findings_json.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::cli_layer {

namespace {

std::string shown(const Record& record, const ShowOptions& options, const Look& look) {
  if (options.answers) return wrapped(answers_text(record), look.width);
  if (!options.details.empty()) return wrapped(details_text(analyse(record), options.details), look.width);
  return rendered(record, options.form, look);
}

void put_out(const std::string& text, const std::string& to) {
  if (to.empty()) return fmt::print("{}", text);
  std::ofstream file(to);
  file << text << std::flush;
  if (file) return;
  could_not_run("cli.write", to, std::string("cannot be written (") + std::strerror(errno) + ")", "name another file");
}

}  // namespace

int show_record(const ShowOptions& options) {
  check_form(options.form);
  const Record record = load_record(options.record);
  put_out(shown(record, options, options.to.empty() ? output_look() : Look()), options.to);
  return exit_done;
}

int explain_record(const ExplainOptions& options) {
  if (options.form != "text" && options.form != "json")
    bad_input("cli.form", "--as", "no form '" + options.form + "' of an explanation", "choose from text, json");
  const Record record = load_record(options.record);
  const Analysed study = analyse(record);
  const Look look = options.to.empty() ? output_look() : Look();
  put_out(options.form == "json" ? explanation_json(study, options.timeline)
                                 : wrapped(explanation(study, look, options.timeline), look.width),
          options.to);
  return cannot_explain(study) ? exit_cannot_tell : exit_done;
}

}  // namespace antcrew::cli_layer
