// What a run shows of itself on a terminal while it is under way: the table as it fills in, what is being tried, and
// the time left. Nothing where standard error is no terminal. Used by the thread that runs the study, between trials.
//
// Working the table out takes under 0.5 % of the run: the next one waits for 250 times as long as the last one took.
#pragma once

#include <cstdint>
#include <string>

#include "antcrew/cli/layer.hpp"
#include "antcrew/record/forward.hpp"
#include "antcrew/record/step.hpp"
#include "antcrew/study/run.hpp"

namespace antcrew::cli_layer {

class LiveTable {
 public:
  explicit LiveTable(bool wanted);
  ~LiveTable() { clear(); }
  LiveTable(const LiveTable&) = delete;
  LiveTable& operator=(const LiveTable&) = delete;

  void begin(const Record& frame);
  void add(const RecordStep& step);
  void show(const Progress& progress);
  // Stands below the table from now on, in place of the one before: what there is no time for.
  void note(const std::string& text);
  // Takes away what stands there, so that something else can be printed.
  void clear();

 private:
  std::string table_for(const Progress& progress);

  bool on_;
  bool whole_;  // the terminal can be drawn on; else only a line
  std::size_t columns_ = 79;
  std::size_t rows_ = 24;
  Record record_;
  bool begun_ = false;
  std::string table_;
  std::string note_;
  std::int64_t shown_ns_ = 0;
  std::int64_t next_table_ns_ = 0;
  std::size_t lines_ = 0;  // that stand there above the line of progress
};

}  // namespace antcrew::cli_layer
