#include "antcrew/cli/show.hpp"

#include <fmt/format.h>

#include <cerrno>
#include <cstring>
#include <fstream>

#include "antcrew/base/error.hpp"
#include "antcrew/cli/exit.hpp"
#include "antcrew/cli/forms.hpp"
#include "antcrew/record/record_file.hpp"

namespace antcrew::cli_layer {

int show_record(const ShowOptions& options) {
  check_form(options.form);
  const Record record = load_record(options.record);
  const std::string text = rendered(record, options.form, options.to.empty() ? output_width() : 0);
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
