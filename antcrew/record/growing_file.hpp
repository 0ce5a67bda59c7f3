// The file of a record while it grows: FILE holds the frame, FILE.rounds one line for each step after it.
//
//   GrowingFile file("tides.json", GrowingFile::Existing::refused);   // the name is taken before anything is measured
//   file.begin(record);
//   file.add(step);            // after each visit; never throws, and never loses what it could not write at once
//   file.finish(record);       // one file
//
// Killed at any moment, load_record(FILE) gives everything up to the last whole line. Not thread-safe.
#pragma once

#include <string>

#include "antcrew/record/forward.hpp"
#include "antcrew/record/layer.hpp"
#include "antcrew/record/step.hpp"

namespace antcrew::record_layer {

class GrowingFile {
 public:
  enum class Existing { refused, replaced };

  // Takes the name: throws Error (record.exists, record.write). Nothing of an existing file is touched before begin();
  // an empty one, of a run that was killed before it began, is nobody's.
  GrowingFile(std::string path, Existing existing);
  ~GrowingFile();
  GrowingFile(const GrowingFile&) = delete;
  GrowingFile& operator=(const GrowingFile&) = delete;

  // Throws Error (record.write).
  void begin(const Record& frame);
  void add(const RecordStep& step);
  // Throws Error (record.write); what was written before is still there then.
  void finish(const Record& record);

  // Why the last step could not be written, empty when all are. They are kept, and tried again with the next.
  const std::string& trouble() const noexcept { return trouble_; }
  const std::string& path() const noexcept { return path_; }

 private:
  void write_pending();
  void no_longer_reserved() noexcept;

  std::string path_;
  int rounds_ = -1;
  int reserved_ = -1;    // an empty file of ours that holds the name, locked while it does
  std::string pending_;  // lines that are not in the file yet
  long long whole_ = 0;  // bytes of whole lines in the file
  std::string trouble_;
};

// Where the lines of a growing record stand.
std::string rounds_path(const std::string& path);

}  // namespace antcrew::record_layer
