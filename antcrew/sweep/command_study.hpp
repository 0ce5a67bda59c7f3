// A study of commands: what is run for the baseline and for each variant, and how answers are compared.
//
// Usually read from a file (study_file.hpp). The words of a command may hold @(workers), @(size), @(NAME) of a
// dimension or of a value of its own, @(folder) and @(study); @@ is an at-sign. A word that is nothing but a value of
// its own becomes as many words as that value has, also none. Nothing is ever pasted into the text of a shell: there
// the same are environment variables. Described by one thread and not changed afterwards.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "antcrew/study/outline.hpp"
#include "antcrew/sweep/layer.hpp"

namespace antcrew::sweep_layer {

using Words = std::vector<std::string>;

// What is run: words, or the text of a shell.
struct Command {
  Words words = {};
  std::string shell = {};
  std::string where = {};  // "tides.toml, line 12", for messages

  bool given() const noexcept { return !words.empty() || !shell.empty(); }
};

// The time that a program itself reports.
struct Reported {
  std::string pattern;  // a regular expression with one group, the number
  double unit_s = 1;
};

struct Runnable {
  Command command;
  Words launcher = {};                       // in front of the command
  std::map<std::string, Words> values = {};  // @(NAME) of its own
  std::map<std::string, std::string> environment = {};
  std::string working_folder = {};  // may hold @(folder); empty = that of the study file
  std::string input = {};           // file for standard input; empty = nothing to read
  std::optional<Reported> reported = {};
};

struct AnswerRule {
  enum class From { output, file, none };
  enum class How { exactly, numbers, lines, command };
  From from = From::output;
  std::string file = {};                     // in the trial's folder
  std::vector<std::string> more_files = {};  // likewise: the answer is all of them, one after the other
  Command filter = {};  // what both answers go through, off the clock: from its input to what it prints
  How how = How::exactly;
  double tolerance = 0;      // of numbers with a point or an exponent, as in within()
  bool absolute = false;     // the tolerance is, also above 1
  bool free_layout = false;  // of numbers: where lines end does not matter
  Command decides = {};      // exit 0 = the same, 1 = not; gets two files, the baseline's answer first

  std::string in_words() const;
  // The trial's own answer is not one file as it was left.
  bool gathered() const noexcept { return !more_files.empty() || filter.given(); }
  // All files of it, in their order.
  std::vector<std::string> files() const;
};

struct RunLimits {
  double call_s = 0;                          // 0 = as HostLimits::of_call()
  std::uint64_t memory_bytes = 0;             // of all processes of a trial; 0 = 90 % of what is free
  std::uint64_t output_bytes = 256ull << 20;  // that a trial may print, and as much into its folder
};

enum class KeepFolders { of_faults, all, none };

// Where a trial takes place, for what is put into words.
struct Place {
  int workers = 1;
  Point at;
  std::string folder;  // of this trial alone
};

class CommandStudy : public Outline {
 public:
  struct Parts {
    std::string title;
    std::string file = {};  // of the study; empty = it was given on the command line
    std::string folder;     // that relative names are relative to, absolute
    AnswerRule answer = {};
    RunLimits limits = {};
    KeepFolders keep = KeepFolders::of_faults;
    std::vector<Command> before_all = {};
    std::vector<Command> before_each = {};
    std::vector<Command> after_each = {};
    Runnable baseline = {};
  };
  explicit CommandStudy(Parts parts);

  const Parts& parts() const noexcept { return parts_; }
  // workers: of its own; empty = those of the grid.
  VariantHandle variant(const std::string& name, const std::string& crew, Runnable runnable, std::vector<int> workers);
  VariantHandle probe(const std::string& name, const std::string& crew, Runnable runnable, VariantHandle of,
                      std::vector<int> workers);
  void without_sizes() { Outline::without_sizes(); }

  // Of the variant of that number in variants().
  const Runnable& runnable(std::size_t variant) const { return runnables_.at(variant); }

 private:
  Parts parts_;
  std::vector<Runnable> runnables_;
};

// The names that may stand in @(…) of a runnable of this study.
Words known_names(const Outline& study, const Runnable& of);
// Throws Error (sweep.name) for a name that none of these is, naming the nearest. shell_text: no @(…) may stand in it.
void check_names(const std::string& text, const Words& known, const std::string& where);

// The words to be run, the launcher's first, with everything put in. The first is as written: see found_program().
Words words_of(const CommandStudy& study, const Runnable& of, const Command& command, const Place& place,
               bool with_launcher = true);
// One text with everything put in.
std::string text_of(const CommandStudy& study, const Runnable& of, const std::string& text, const Place& place);
// The variables that a dimension and a value of the study's own are in.
std::string dimension_variable(const std::string& name);
std::string value_variable(const std::string& name);
// ANTCREW_…, and what the study sets for it: names and values.
std::map<std::string, std::string> environment_of(const CommandStudy& study, const Runnable& of, const Place& place);

// The PATH among them; else this process's own.
std::string path_of(const std::map<std::string, std::string>& environment);

// The file that a first word names: with a slash relative to the study's folder, else found in `path`, whose relative
// parts are relative to that folder, too. Throws Error (sweep.program): none there, or not to be run.
std::string found_program(const std::string& word, const std::string& folder, const std::string& where,
                          const std::string& path = path_of({}));

// A command in one line, as a reader of a shell would write it.
std::string in_words(const Words& words);

}  // namespace antcrew::sweep_layer
