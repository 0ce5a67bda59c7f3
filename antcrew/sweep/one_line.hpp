// A study of commands that is told in one line: a command, and what to do with it.
//
//   OneLine line;
//   line.command = {"sort", "--parallel=@(workers)", "-o", "@(folder)/sorted", "lines.txt"};
//   line.answer = "sorted";
//   const auto study = study_of(line);
#pragma once

#include <cstddef>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "antcrew/sweep/command_study.hpp"
#include "antcrew/sweep/layer.hpp"

namespace antcrew::sweep_layer {

struct OneLine {
  Words command = {};                    // the first variant, and with one worker the baseline; empty = tries has all
  std::string folder = {};               // where it runs, absolute
  std::string title = {};                // empty = the command
  std::string baseline = {};             // another command, as split_words() reads it
  std::vector<std::string> tries;        // NAME=COMMAND: further variants
  std::string launcher = {};             // in front of every variant
  std::string input = {};                // file for standard input
  std::vector<std::string> answer = {};  // output, none, or files in the trial's own folder; empty = output
  std::string filter = {};               // a command that both answers go through
  std::string compare = {};              // exactly, lines, numbers; empty = exactly
  std::optional<double> tolerance;       // of numbers
  std::vector<std::size_t> sizes = {};
  std::map<std::string, std::vector<PointValue>> dimensions = {};
};

// Throws Error: cli.option (two options that do not fit), sweep.name (an unknown @(name), or a worker count that goes
// nowhere: there is neither @(workers) in a command nor ANTCREW_WORKERS in it or a file that it names), sweep.program.
std::unique_ptr<CommandStudy> study_of(const OneLine& line);

// The words of a command in one text: spaces part them; what stands between '…' or "…" is kept together, and a
// backslash, but between '…', keeps the next character. Nothing else has a meaning: no variable, no pattern, no pipe.
// Throws Error (cli.option) for a quote that is not closed.
Words split_words(const std::string& text, const std::string& where);

}  // namespace antcrew::sweep_layer
