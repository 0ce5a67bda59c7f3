#include "antcrew/cli/exit.hpp"

#include <sys/ioctl.h>
#include <unistd.h>

#include <CLI/CLI.hpp>
#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <new>

#include "antcrew/base/error.hpp"
#include "antcrew/base/printable.hpp"

namespace antcrew::cli_layer {
namespace {

int complain(const std::string& program, const std::string& what, int code) {
  std::fflush(stdout);
  std::fprintf(stderr, "%s: %s\n", program.c_str(), printable(what).c_str());
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

report_layer::Look output_look() {
  if (::isatty(STDOUT_FILENO) == 0) return {};
  winsize size{};
  const bool known = ::ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) == 0 && size.ws_col > 0;
  const char* no_colour = std::getenv("NO_COLOR");
  const char* terminal = std::getenv("TERM");
  const bool plain =
      (no_colour != nullptr && *no_colour != '\0') || terminal == nullptr || std::string(terminal) == "dumb";
  return {known ? size.ws_col : 100u, !plain};
}

namespace {

// Letters to insert, leave out, exchange or swap with their neighbour (Damerau 1964).
std::size_t distance(const std::string& a, const std::string& b) {
  std::vector<std::vector<std::size_t>> d(a.size() + 1, std::vector<std::size_t>(b.size() + 1));
  for (std::size_t i = 0; i <= a.size(); ++i) {
    for (std::size_t j = 0; j <= b.size(); ++j) {
      if (i == 0 || j == 0) {
        d[i][j] = i + j;
        continue;
      }
      d[i][j] = std::min({d[i - 1][j] + 1, d[i][j - 1] + 1, d[i - 1][j - 1] + (a[i - 1] == b[j - 1] ? 0 : 1)});
      if (i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1])
        d[i][j] = std::min(d[i][j], d[i - 2][j - 2] + 1);
    }
  }
  return d[a.size()][b.size()];
}

std::vector<std::string> known_words(const CLI::App& app) {
  std::vector<std::string> words;
  for (const CLI::Option* option : app.get_options()) {
    for (const std::string& name : option->get_lnames()) words.push_back("--" + name);
  }
  for (const CLI::App* command : app.get_subcommands([](const CLI::App*) { return true; }))
    words.push_back(command->get_name());
  return words;
}

std::string nearest(const CLI::App& app, const std::string& wrong) {
  std::string best;
  std::size_t least = std::max<std::size_t>(2, wrong.size() / 3) + 1;
  for (const std::string& word : known_words(app)) {
    const bool begun = wrong.size() > 3 && word.rfind(wrong, 0) == 0;
    const std::size_t far = begun ? 1 : distance(wrong, word);
    if (far < least) {
      least = far;
      best = word;
    }
  }
  return best;
}

}  // namespace

void parse(CLI::App& app, int argc, char** argv) {
  try {
    app.parse(argc, argv);
  } catch (const CLI::ExtrasError&) {
    const CLI::App* used = &app;
    for (const CLI::App* command : app.get_subcommands()) used = command;
    std::vector<std::string> extras = app.remaining(true);
    const std::string wrong = extras.empty() ? "" : extras.front().substr(0, extras.front().find('='));
    const bool option = wrong.rfind("-", 0) == 0;
    const std::string likely = nearest(*used, wrong);
    bad_input("cli.option", "", std::string(option ? "no option '" : "no command or value '") + wrong + "' here",
              (likely.empty() ? std::string() : "did you mean '" + likely + "'? ") + "See " + app.get_name() +
                  (used == &app ? "" : " " + used->get_name()) + " --help");
  }
}

}  // namespace antcrew::cli_layer
