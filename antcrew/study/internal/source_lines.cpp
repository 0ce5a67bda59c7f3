#include "antcrew/study/internal/source_lines.hpp"

#include <cerrno>
#include <cstring>
#include <filesystem>
#include <fstream>

#include "antcrew/base/printable.hpp"

namespace antcrew::internal {
namespace {

// Keeps track of comments that go on over lines.
class CodeLines {
 public:
  bool is_code(const std::string& line) {
    const std::size_t first = line.find_first_not_of(" \t\r");
    if (first == std::string::npos) return false;
    const bool began_inside = inside_;
    std::size_t at = first;
    if (!inside_ && line.compare(at, 2, "/*") == 0) inside_ = true;
    if (!inside_) return line.compare(at, 2, "//") != 0 && line[at] != '#';
    const std::size_t end = line.find("*/", began_inside ? at : at + 2);
    if (end == std::string::npos) return false;
    inside_ = false;
    return line.find_first_not_of(" \t\r", end + 2) != std::string::npos;
  }

 private:
  bool inside_ = false;
};

}  // namespace

SourceFacts lines_of(const std::string& of, const std::string& file, const std::string& part) {
  SourceFacts facts{of, printable(std::filesystem::path(file).filename().string()), printable(part)};
  std::ifstream text(file);
  const int fault = errno;
  // An installed program has its sources beside it, not where it was compiled.
  std::error_code unknown;
  if (!text) text.open(std::filesystem::read_symlink("/proc/self/exe", unknown).replace_filename(facts.file));
  if (!text) {
    facts.trouble = std::string("the file cannot be read (") + std::strerror(fault) + ")";
    return facts;
  }
  CodeLines code;
  bool begun = part.empty();
  bool ended = part.empty();
  int lines = 0;
  for (std::string line; std::getline(text, line);) {
    const bool is_code = code.is_code(line);
    if (!part.empty() && line.find("[end of " + part + "]") != std::string::npos) {
      ended = begun;
      if (ended) break;
    }
    if (begun && is_code) ++lines;
    if (!part.empty() && line.find("[" + part + "]") != std::string::npos) begun = true;
  }
  if (!begun || !ended) {
    facts.trouble = begun ? "no line with [end of " + facts.part + "]" : "no line with [" + facts.part + "]";
    return facts;
  }
  facts.lines = lines;
  if (lines == 0) facts.trouble = "no line of code in it";
  return facts;
}

}  // namespace antcrew::internal
