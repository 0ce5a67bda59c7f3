#include "antcrew/cli/exit.hpp"

#include <fcntl.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <new>

#include "antcrew/base/error.hpp"
#include "antcrew/base/printable.hpp"

namespace antcrew::cli_layer {
namespace {

// Where one of the three is closed, the next file that is opened would take its number, and get what is printed.
void open_standard_files() {
  for (const int number : {STDIN_FILENO, STDOUT_FILENO, STDERR_FILENO}) {
    if (::fcntl(number, F_GETFD) >= 0 || errno != EBADF) continue;
    const int opened = ::open("/dev/null", number == STDIN_FILENO ? O_RDONLY : O_WRONLY);
    if (opened >= 0 && opened != number) {
      ::dup2(opened, number);
      ::close(opened);
    }
  }
}

// COLUMNS, where it is a number that a text fits into; else 0.
std::size_t columns_asked() {
  const char* text = std::getenv("COLUMNS");
  char* end = nullptr;
  const unsigned long columns = text == nullptr ? 0 : std::strtoul(text, &end, 10);
  return columns >= 20 && columns <= 1000 && *end == '\0' ? columns : 0;
}

int complain(const std::string& program, const std::string& what, int code) {
  std::fflush(stdout);
  std::fprintf(stderr, "%s: %s\n", program.c_str(), printable(what).c_str());
  return code;
}

}  // namespace

int exit_of_several(int one, int other) {
  for (const int code : {exit_could_not_run, exit_bad_input, exit_answer_is_no, exit_cannot_tell}) {
    if (one == code || other == code) return code;
  }
  return std::max(one, other);
}

int guarded(const std::string& program, const std::function<int()>& work) {
  open_standard_files();
  try {
    const int code = work();
    errno = 0;
    if (std::fflush(stdout) != 0 || std::ferror(stdout) != 0)
      return complain(program,
                      std::string("what was to be printed could not be written") +
                          (errno != 0 ? std::string(" (") + std::strerror(errno) + ")" : "") +
                          "; make room where standard output goes",
                      exit_could_not_run);
    return code;
  } catch (const Error& error) {
    return complain(program, error.what(),
                    error.kind() == Error::Kind::bad_input ? exit_bad_input : exit_could_not_run);
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

report_layer::Look output_look() {
  if (::isatty(STDOUT_FILENO) == 0) return {columns_asked()};
  winsize size{};
  const bool known = ::ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) == 0 && size.ws_col > 0;
  const char* no_colour = std::getenv("NO_COLOR");
  const char* terminal = std::getenv("TERM");
  const bool plain =
      (no_colour != nullptr && *no_colour != '\0') || terminal == nullptr || std::string(terminal) == "dumb";
  return {known ? size.ws_col : 100u, !plain};
}

bool takes_utf8() {
  for (const char* name : {"LC_ALL", "LC_CTYPE", "LANG"}) {
    const char* value = std::getenv(name);
    if (value == nullptr || *value == '\0') continue;
    std::string lower;
    for (const char* c = value; *c != '\0'; ++c) lower += static_cast<char>(*c >= 'A' && *c <= 'Z' ? *c + 32 : *c);
    return lower.find("utf-8") != std::string::npos || lower.find("utf8") != std::string::npos;
  }
  return false;
}

}  // namespace antcrew::cli_layer
