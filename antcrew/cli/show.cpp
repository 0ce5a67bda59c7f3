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
#include "antcrew/report/text.hpp"

namespace antcrew::cli_layer {

namespace {

std::string shown(const Record& record, const ShowOptions& options, const Look& look) {
  if (options.answers) return wrapped(answers_text(record), look.width);
  if (!options.details.empty()) return wrapped(details_text(analyse(record), options.details), look.width);
  return rendered(record, options.form, look);
}

}  // namespace

int show_record(const ShowOptions& options) {
  check_form(options.form);
  const Record record = load_record(options.record);
  const std::string text = shown(record, options, options.to.empty() ? output_look() : Look());
  if (options.to.empty()) {
    fmt::print("{}", text);
    return exit_done;
  }
  std::ofstream file(options.to);
  file << text << std::flush;
  if (!file) {
    could_not_run("cli.write", options.to, std::string("cannot be written (") + std::strerror(errno) + ")",
                  "name another file");
  }
  return exit_done;
}

}  // namespace antcrew::cli_layer
