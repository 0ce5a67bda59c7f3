// A fresh folder for each trial, so that workers and rounds never meet in a file name; removed afterwards, or kept.
//
//   TrialFolders folders(kept_under);
//   TrialFolder trial = folders.fresh();
//   … run with trial.folder() …
//   if (faulty) where = folders.keep(trial, "round 3, 4 workers");
//
// A link in a folder is removed, and what it points to left alone. Not thread-safe.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "antcrew/sweep/layer.hpp"

namespace antcrew::internal {

class TrialFolder {
 public:
  TrialFolder() = default;
  explicit TrialFolder(std::string top) : top_(std::move(top)) {}
  TrialFolder(TrialFolder&& other) noexcept;
  TrialFolder& operator=(TrialFolder&& other) noexcept;
  ~TrialFolder();

  const std::string& top() const noexcept { return top_; }
  std::string folder() const { return top_ + "/folder"; }  // the trial's own, empty when it begins
  std::string output() const { return top_ + "/output"; }
  std::string errors() const { return top_ + "/errors"; }
  std::string phases() const { return top_ + "/phases"; }
  std::string answer_copy() const { return top_ + "/answer"; }
  std::string gathered() const { return top_ + "/gathered"; }
  std::string filtered() const { return top_ + "/filtered"; }

 private:
  friend class TrialFolders;
  std::string top_;
};

class TrialFolders {
 public:
  // kept_under: where folders go that are kept, made when it is needed. Throws Error (sweep.folder) where there is no
  // place for temporary files.
  explicit TrialFolders(std::string kept_under);
  ~TrialFolders();
  TrialFolders(const TrialFolders&) = delete;
  TrialFolders& operator=(const TrialFolders&) = delete;

  // Throws Error (sweep.folder).
  TrialFolder fresh();
  // What was printed is cut to its first and last part. Where it is now; empty with a reason in `trouble`.
  std::string keep(TrialFolder& trial, const std::string& name);
  const std::string& trouble() const noexcept { return trouble_; }

 private:
  std::string base_;
  std::string kept_under_;
  std::string trouble_;
  int next_ = 1;
};

// All of a file; none where it cannot be read, is longer than so many bytes, or is no regular file: nobody waits for
// what a command has put in its place, such as a pipe.
bool read_file(const std::string& path, std::uint64_t most_bytes, std::string& text);
// The same, of a longer one its beginning or its end.
bool read_beginning(const std::string& path, std::uint64_t most_bytes, std::string& text);
bool read_ending(const std::string& path, std::uint64_t most_bytes, std::string& text);

// Why a file that was to be in a trial's folder is not the trial's own: a link to another place, one of several names
// of a file, or no regular file. Empty = it is; also where there is none.
std::string not_its_own(const std::string& path, const std::string& folder);
// The first lines, made printable: at most 10 of 100 columns.
std::vector<std::string> first_lines(const std::string& path);
// The last line that is not empty, made printable; empty = there is none.
std::string last_line(const std::string& path);

}  // namespace antcrew::internal
