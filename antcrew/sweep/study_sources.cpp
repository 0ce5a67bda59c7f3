// Where studies of commands come from: a file, or the command line.
#include <filesystem>

#include "antcrew/sweep/one_line.hpp"
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
  OneLine line;
  line.command = command;
  line.folder = folder;
  line.sizes = sizes;
  line.dimensions = dimensions;
  return study_of(line);
}

}  // namespace antcrew::sweep_layer
