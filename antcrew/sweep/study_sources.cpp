// Where studies of commands come from: a file, or the command line.
#include <algorithm>
#include <filesystem>
#include <fstream>

#include "antcrew/base/error.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/sweep/internal/shell_text.hpp"
#include "antcrew/sweep/study_file.hpp"

namespace antcrew::sweep_layer {
namespace {

constexpr std::uint64_t longest_file = 1 << 20;

}  // namespace

std::unique_ptr<CommandStudy> read_study(const std::string& path) {
  namespace fs = std::filesystem;
  std::error_code trouble;
  if (fs::is_directory(path, trouble))
    bad_input("sweep.file", printable(path, 100), "this is a directory", "give a study file, such as tides.toml");
  std::ifstream file(path, std::ios::binary);
  if (!file)
    bad_input("sweep.file", printable(path, 100),
              fs::exists(path, trouble) ? "this file cannot be read" : "there is no such file",
              "give a study file; `antcrew sweep --example` writes one");
  std::string text(longest_file + 1, '\0');
  file.read(text.data(), static_cast<std::streamsize>(text.size()));
  text.resize(static_cast<std::size_t>(file.gcount()));
  if (text.size() > longest_file)
    bad_input("sweep.file", printable(path, 100), "more than 1 MiB", "give a study file, not data");
  const fs::path folder = fs::absolute(path).parent_path().lexically_normal();
  return study_from_text(text, path, folder.string());
}

std::unique_ptr<CommandStudy> study_of(const Words& command, const std::string& folder,
                                       const std::vector<std::size_t>& sizes,
                                       const std::map<std::string, std::vector<PointValue>>& dimensions) {
  const bool by_workers = std::any_of(command.begin(), command.end(), [](const std::string& word) {
    return word.find("@(workers)") != std::string::npos;
  });
  if (!by_workers)
    bad_input("sweep.name", "the command", "no @(workers) in it: every worker count would be the same",
              "put it where the program takes its number of workers: antcrew sweep --workers 1,2,4 -- sort "
              "--parallel=@(workers) tides.txt");
  internal::check_shell_words(command, "the command");
  CommandStudy::Parts parts;
  parts.title = printable(in_words(command), 80);
  parts.folder = folder;
  Runnable variant;
  variant.command = {command, {}, "the command"};
  parts.baseline = variant;
  for (std::string& word : parts.baseline.command.words) {
    for (std::size_t at = word.find("@(workers)"); at != std::string::npos; at = word.find("@(workers)", at))
      word.replace(at, 10, "1");
  }
  auto study = std::make_unique<CommandStudy>(std::move(parts));
  if (sizes.empty()) {
    study->without_sizes();
  } else {
    study->sizes(sizes);
  }
  for (const auto& [name, values] : dimensions) study->dimension(name, values);
  study->variant(std::filesystem::path(command.front()).filename().string(), "command", variant, {});
  for (const std::string& word : command) check_names(word, known_names(*study, variant), "the command");
  found_program(command.front(), folder, "the command");
  return study;
}

}  // namespace antcrew::sweep_layer
