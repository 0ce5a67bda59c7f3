// Where studies of commands come from: a file, or the command line.
#include <algorithm>
#include <filesystem>

#include "antcrew/base/error.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/sweep/internal/shell_text.hpp"
#include "antcrew/sweep/study_file.hpp"
#include "antcrew/sweep/toml_table.hpp"

namespace antcrew::sweep_layer {
std::unique_ptr<CommandStudy> read_study(const std::string& path) {
  const std::string text =
      internal::toml_text(path, "sweep", "give a study file, not data; `antcrew sweep --example` writes one");
  const std::filesystem::path folder = std::filesystem::absolute(path).parent_path().lexically_normal();
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
