// The files that commands are made of: programs, scripts, and the description of the study. Whether they are still what
// they were.
#pragma once

#include <map>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "antcrew/record/record.hpp"
#include "antcrew/sweep/command_study.hpp"
#include "antcrew/sweep/layer.hpp"

namespace antcrew::internal {

class ProgramFiles {
 public:
  // Reads all of them: the program of each command, and each plain word that names a program or script. Data is left
  // out.
  explicit ProgramFiles(const CommandStudy& study);

  const std::vector<FileFacts>& facts() const noexcept { return facts_; }
  // One for all of them, for a study that is gone on with.
  std::string hash() const;
  // The file of this variant, by its number, or of the baseline (-1) that is not what it was, and how; none where all
  // are. Only reads again what has another time or length.
  std::optional<std::string> changed(int variant) const;

 private:
  struct Seen {
    std::int64_t changed_ns = 0;
    std::int64_t inode = 0;
    std::int64_t bytes = 0;
    friend bool operator==(const Seen&, const Seen&) = default;
  };
  static constexpr int of_all = -2;
  static constexpr int of_none = -3;  // read once: the description of the study
  void add(const std::string& path, const std::string& shown, int whose);
  static std::optional<Seen> seen(const std::string& path);

  std::vector<FileFacts> facts_;
  std::vector<std::string> paths_;    // as facts_
  std::vector<std::set<int>> whose_;  // the same
  mutable std::vector<Seen> seen_;    // the same
};

// Files that all trials of a block read: a trial that changes one of them spoils it for the others.
class SharedInputs {
 public:
  SharedInputs() = default;
  // Those that are no regular file are left out.
  explicit SharedInputs(const std::vector<std::string>& paths);

  // The first that has another content than when this was made, with what became of it; none where all have the same.
  std::optional<std::string> changed();

 private:
  struct Seen {
    std::string path;
    std::int64_t changed_ns = 0;
    std::int64_t inode = 0;
    std::int64_t bytes = 0;
    std::string hash;
  };
  static std::optional<Seen> look_at(const std::string& path);
  std::vector<Seen> seen_;
};

}  // namespace antcrew::internal
