// What the command line has to do with the history: where it is, which records a word names, and keeping a run.
#pragma once

#include <string>
#include <vector>

#include "antcrew/cli/layer.hpp"
#include "antcrew/store/store.hpp"

namespace CLI {
class App;
}

namespace antcrew::cli_layer {

struct StoreOptions {
  std::string folder;  // empty = default_store()
  bool off = false;

  std::string used() const;  // empty = none
};

// --store; with_off: --no-store, too.
void add_store_options(CLI::App& app, StoreOptions& options, bool with_off);

struct KeptRun {
  int number = 0;       // 0 = it was not stored
  std::string trouble;  // why, where it was to be
};

// Copies the record of a run into the store. Never throws: the run has its record all the same.
KeptRun keep_run(const std::string& path, const StoreOptions& options) noexcept;

struct RecordFile {
  std::string name;  // as it was asked for; of several with a label each by its number: "run 12"
  std::string path;
  std::string title = {};  // what people call it: the name or label it was given, or the file's without ".json"
};

// What people call a stored run: its name, its first label, or "run 12".
std::string title_of(const StoredRun& run, const Notes& notes);

// Records by their names, each a file, a number, "last" or a label, with commas between them; a label may stand for
// several. Throws Error.
std::vector<RecordFile> record_files(const std::string& list, const StoreOptions& options);
// Where one is needed: of several with a label the newest, which is told on standard error.
std::string record_file(const std::string& word, const StoreOptions& options);

inline constexpr const char* record_help = "a file, the number of a stored run, last, last-1, or a label";

}  // namespace antcrew::cli_layer
