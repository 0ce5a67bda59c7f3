// The JSON form of a record; docs/record.schema.json describes it.
//
// Unknown fields are ignored, so that an older Ant Crew reads what a newer one of the same version added.
#pragma once

#include <string>
#include <vector>

#include "antcrew/record/record.hpp"

namespace antcrew {

std::string to_json(const Record& record);
// The same record again and again while it grows: trials that were written before are not formatted anew.
class GrowingRecordText {
 public:
  // The record's JSON, compact. Records of one run only: trials are added at the end of cells, or dropped from it.
  std::string text(const Record& record);

 private:
  struct Cached {
    std::size_t trials = 0;
    std::string text;
    std::vector<std::size_t> ends;  // of each trial in the text
  };
  void keep_up(Cached& cached, const Cell& cell);
  std::vector<Cached> cells_;
};

std::string to_json(const Machine& machine);
std::string to_json(const Cell& cell);

// Throws Error: record.syntax (not JSON, or cut short), record.format (other JSON), record.version (from a newer Ant
// Crew), record.field (a field is missing or of the wrong type). `where` names the source, usually a file.
Record record_from_json(const std::string& text, const std::string& where);
Cell cell_from_json(const std::string& text, const std::string& where);

}  // namespace antcrew
