#include "antcrew/cli/draw.hpp"

#include <fcntl.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <sstream>

#include "antcrew/base/error.hpp"
#include "antcrew/report/figure_script.hpp"

extern char** environ;  // NOLINT: as POSIX names it

namespace antcrew::cli_layer {
namespace {

// A folder of its own that goes when it is done.
class DrawingFolder {
 public:
  DrawingFolder() {
    std::string name = (std::filesystem::temp_directory_path() / "antcrew-figure-XXXXXX").string();
    if (::mkdtemp(name.data()) == nullptr)
      could_not_run("cli.figure", name, std::string("no folder to draw in (") + std::strerror(errno) + ")",
                    "set TMPDIR to one that can be written");
    path_ = name;
  }
  ~DrawingFolder() {
    std::error_code ignored;
    std::filesystem::remove_all(path_, ignored);
  }
  DrawingFolder(const DrawingFolder&) = delete;
  DrawingFolder& operator=(const DrawingFolder&) = delete;
  std::string operator/(const char* file) const { return path_ + "/" + file; }

 private:
  std::string path_;
};

void write_file(const std::string& path, const std::string& text) {
  std::ofstream file(path, std::ios::binary);
  file << text << std::flush;
  if (!file)
    could_not_run("cli.figure", path, std::string("cannot be written (") + std::strerror(errno) + ")",
                  "make room, or set TMPDIR to another folder");
}

std::string read_file(const std::string& path) {
  std::ifstream file(path, std::ios::binary);
  std::ostringstream text;
  text << file.rdbuf();
  return text.str();
}

std::string plotter() {
  const char* folders = std::getenv("PATH");
  std::istringstream all(folders == nullptr ? "/usr/bin:/bin" : folders);
  for (std::string folder; std::getline(all, folder, ':');) {
    const std::string path = folder + "/gnuplot";
    if (::access(path.c_str(), X_OK) == 0) return path;
  }
  return {};
}

// Its exit status; what it says goes to a file.
int run_plotter(const std::string& program, const std::string& script, const std::string& says) {
  posix_spawn_file_actions_t files;
  posix_spawn_file_actions_init(&files);
  posix_spawn_file_actions_addopen(&files, STDIN_FILENO, "/dev/null", O_RDONLY, 0);
  posix_spawn_file_actions_addopen(&files, STDOUT_FILENO, "/dev/null", O_WRONLY, 0);
  posix_spawn_file_actions_addopen(&files, STDERR_FILENO, says.c_str(), O_WRONLY | O_CREAT, 0600);
  // -d: nobody's start-up files change what is drawn.
  std::string words[] = {program, "-d", script};
  char* arguments[] = {words[0].data(), words[1].data(), words[2].data(), nullptr};
  pid_t child = -1;
  const int error = ::posix_spawn(&child, program.c_str(), &files, nullptr, arguments, environ);
  posix_spawn_file_actions_destroy(&files);
  if (error != 0)
    could_not_run("cli.plotter", program, std::string("cannot be run (") + std::strerror(error) + ")",
                  "take --as page, which needs no other program");
  int status = 0;
  while (::waitpid(child, &status, 0) < 0 && errno == EINTR) {
  }
  return status;
}

}  // namespace

void check_plotter() {
  if (plotter().empty())
    could_not_run("cli.plotter", "gnuplot", "figure files are drawn by it, and it is not installed",
                  "install the package gnuplot-nox, or take --as page, which has all figures");
}

std::string draw(const Figure& figure, const std::string& format) {
  check_plotter();
  const DrawingFolder folder;
  const std::string image = folder / "image";
  const std::string script = folder / "script";
  const FigureScript made = figure_script(figure, format, folder / "data", image);
  write_file(folder / "data", made.data);
  write_file(script, made.commands);
  const int status = run_plotter(plotter(), script, folder / "says");
  const std::string drawn = read_file(image);
  if (status != 0 || drawn.empty()) {
    std::string said = read_file(folder / "says");
    for (char& c : said) c = c == '\n' ? ' ' : c;
    could_not_run("cli.figure", "figure:" + figure.kind, "gnuplot could not draw it: " + said.substr(0, 300),
                  "take --as page");
  }
  return finished_image(drawn, format, figure);
}

}  // namespace antcrew::cli_layer
