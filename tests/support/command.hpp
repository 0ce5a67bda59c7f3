// Runs a program the way a user's shell would, and keeps what it said.
#pragma once

#include <string>
#include <vector>

namespace test {

struct Outcome {
  int exit = -1;  // -signal when a signal ended it
  std::string out;
  std::string err;
};

// words[0] is the program; `folder` is where it runs.
Outcome run_command(const std::vector<std::string>& words, const std::string& folder = ".");

// A fresh folder, removed with everything in it at the end.
class TemporaryFolder {
 public:
  TemporaryFolder();
  ~TemporaryFolder();
  TemporaryFolder(const TemporaryFolder&) = delete;
  TemporaryFolder& operator=(const TemporaryFolder&) = delete;
  const std::string& path() const noexcept { return path_; }
  std::string operator/(const std::string& name) const { return path_ + "/" + name; }

 private:
  std::string path_;
};

void write_file(const std::string& path, const std::string& text);
std::string read_file(const std::string& path);
std::size_t lines_in(const std::string& text);
// Where a line ends depends on what stands before it: `part` is also found where it goes on in the next line.
bool contains(const std::string& text, const std::string& part);
// A text that was broken into lines, as one: what stands above its first empty line.
std::string first_paragraph(const std::string& text);
// Lines that were wrapped, as one.
std::string on_one_line(const std::string& text);

}  // namespace test
