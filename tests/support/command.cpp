#include "support/command.hpp"

#include <fcntl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <sstream>
#include <stdexcept>

namespace test {

Outcome run_command(const std::vector<std::string>& words, const std::string& folder) {
  const TemporaryFolder outputs;
  const std::string out = outputs / "out";
  const std::string err = outputs / "err";
  std::vector<char*> raw;
  for (const std::string& word : words) raw.push_back(const_cast<char*>(word.c_str()));
  raw.push_back(nullptr);
  const pid_t child = fork();
  if (child < 0) throw std::runtime_error("fork failed");
  if (child == 0) {
    const int out_file = open(out.c_str(), O_WRONLY | O_CREAT, 0600);
    const int err_file = open(err.c_str(), O_WRONLY | O_CREAT, 0600);
    dup2(open("/dev/null", O_RDONLY), 0);
    dup2(out_file, 1);
    dup2(err_file, 2);
    if (chdir(folder.c_str()) != 0) _exit(126);
    execvp(raw[0], raw.data());
    _exit(127);
  }
  int status = 0;
  waitpid(child, &status, 0);
  return {WIFEXITED(status) ? WEXITSTATUS(status) : -WTERMSIG(status), read_file(out), read_file(err)};
}

TemporaryFolder::TemporaryFolder() {
  char name[] = "/tmp/antcrew-test-XXXXXX";
  if (mkdtemp(name) == nullptr) throw std::runtime_error("no temporary folder");
  path_ = name;
}

TemporaryFolder::~TemporaryFolder() {
  std::error_code ignored;
  std::filesystem::remove_all(path_, ignored);
}

void write_file(const std::string& path, const std::string& text) {
  std::filesystem::create_directories(std::filesystem::path(path).parent_path());
  std::ofstream(path, std::ios::binary) << text;
}

std::string read_file(const std::string& path) {
  std::ifstream file(path, std::ios::binary);
  std::ostringstream text;
  text << file.rdbuf();
  return text.str();
}

std::size_t lines_in(const std::string& text) {
  return static_cast<std::size_t>(std::count(text.begin(), text.end(), '\n'));
}

bool contains(const std::string& text, const std::string& part) {
  return text.find(part) != std::string::npos || on_one_line(text).find(part) != std::string::npos;
}

std::string on_one_line(const std::string& text) {
  std::string line;
  for (const char c : text) {
    const bool blank = c == ' ' || c == '\n';
    if (!blank || (!line.empty() && line.back() != ' ')) line += blank ? ' ' : c;
  }
  return line;
}

std::string first_paragraph(const std::string& text) {
  std::string joined;
  for (std::size_t at = 0; at < text.size() && text[at] != '\n';) {
    const std::size_t end = std::min(text.find('\n', at), text.size());
    const std::size_t begin = std::min(text.find_first_not_of(' ', at), end);
    joined += (joined.empty() ? "" : " ") + text.substr(begin, end - begin);
    at = end + 1;
  }
  return joined;
}

}  // namespace test
