#include "antcrew/cli/exit.hpp"

#include <sys/ioctl.h>
#include <unistd.h>

#include <CLI/CLI.hpp>
#include <algorithm>
#include <cstdio>
#include <new>

#include "antcrew/base/error.hpp"

namespace antcrew::cli_layer {
namespace {

int complain(const std::string& program, const std::string& what, int code) {
  std::fflush(stdout);
  std::fprintf(stderr, "%s: %s\n", program.c_str(), what.c_str());
  return code;
}

std::string first_line(const std::string& text) {
  return text.substr(0, text.find('\n'));
}

}  // namespace

int exit_of_several(int one, int other) {
  for (const int code : {exit_could_not_run, exit_bad_input, exit_answer_is_no, exit_cannot_tell}) {
    if (one == code || other == code) return code;
  }
  return std::max(one, other);
}

int guarded(const std::string& program, const std::function<int()>& work) {
  try {
    return work();
  } catch (const Error& error) {
    return complain(program, error.what(),
                    error.kind() == Error::Kind::bad_input ? exit_bad_input : exit_could_not_run);
  } catch (const CLI::CallForHelp&) {
    return exit_done;  // printed by whoever parsed
  } catch (const CLI::ParseError& error) {
    return complain(program, first_line(error.what()) + "; see " + program + " --help", exit_bad_input);
  } catch (const std::bad_alloc&) {
    return complain(program, "out of memory; try smaller sizes", exit_could_not_run);
  } catch (const std::exception& error) {
    return complain(program, error.what(), exit_could_not_run);
  }
}

std::string program_name(const char* argv0) {
  const std::string path = argv0 == nullptr ? "antcrew" : argv0;
  return path.substr(path.rfind('/') + 1);
}

std::size_t output_width() {
  if (::isatty(STDOUT_FILENO) == 0) return 0;
  winsize size{};
  return ::ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) == 0 && size.ws_col > 0 ? size.ws_col : 100;
}

}  // namespace antcrew::cli_layer
