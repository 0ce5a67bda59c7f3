#include "antcrew/report/trial_text.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <fstream>

#include "antcrew/base/error.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {
namespace {

namespace fs = std::filesystem;

constexpr std::size_t most_lines = 20;
constexpr std::size_t most_columns = 160;
constexpr int most_files = 40;

std::string lines_of(const fs::path& path, const char* name) {
  std::ifstream file(path, std::ios::binary);
  if (!file) return {};
  std::string text;
  std::size_t count = 0;
  for (std::string line; count < most_lines && std::getline(file, line); ++count)
    text += "      " + printable(line, most_columns) + "\n";
  if (text.empty()) return fmt::format("    {}: nothing\n", name);
  if (file.peek() != std::ifstream::traits_type::eof()) text += "      …\n";
  return fmt::format("    {}:\n{}", name, text);
}

std::string files_in(const fs::path& folder) {
  std::error_code trouble;
  std::string text;
  int count = 0;
  for (fs::recursive_directory_iterator it(folder, fs::directory_options::skip_permission_denied, trouble), end;
       !trouble && it != end; it.increment(trouble)) {
    if (!it->is_regular_file(trouble)) continue;
    if (++count > most_files) break;
    text += fmt::format("      {}, {}\n", printable(fs::relative(it->path(), folder, trouble).string(), 100),
                        bytes_text(it->file_size(trouble)));
  }
  if (count > most_files) text += "      …\n";
  return text.empty() ? "    its folder is empty\n" : "    files in its folder:\n" + text;
}

std::string of_cell(const Record& record, const Cell& cell) {
  std::string text = fmt::format("{} at {}\n", cell_in_words(cell), point_in_words(record.points[cell.point]));
  if (!cell.faults.empty())
    text += fmt::format("    {}: {}\n", name_of(cell.faults.back().kind), printable(cell.faults.back().text));
  if (!cell.command.empty()) text += "    command: " + printable(joined(cell.command, " "), 1000) + "\n";
  text += "    kept in " + printable(cell.folder) + "\n";
  std::error_code trouble;
  if (!fs::is_directory(cell.folder, trouble)) return text + "    which is not there any more\n";
  const fs::path top(cell.folder);
  return text + lines_of(top / "output", "printed") + lines_of(top / "errors", "printed to standard error") +
         lines_of(top / "phases", "phases and counters") + files_in(top / "folder");
}

}  // namespace

std::string trial_text(const Record& record, const std::string& variant) {
  std::string text;
  std::vector<std::string> known;
  bool there = false;
  for (const Cell& cell : record.cells) {
    const std::string quoted = "'" + printable(cell.variant) + "'";
    if (!cell.folder.empty() && std::find(known.begin(), known.end(), quoted) == known.end()) known.push_back(quoted);
    if (cell.variant != variant && cell.key() != variant) continue;
    there = true;
    if (!cell.folder.empty()) text += (text.empty() ? "" : "\n") + of_cell(record, cell);
  }
  if (!text.empty()) return text;
  bad_input("cli.variant", "--trial",
            there ? "no trial of '" + printable(variant) + "' was kept"
                  : "the record has no variant '" + printable(variant) + "'",
            known.empty() ? "a study of commands keeps the folders of faulty trials, or of all: keep_folders = \"all\""
                          : "choose from " + joined(known));
}

}  // namespace antcrew::report_layer
