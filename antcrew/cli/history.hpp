// `antcrew list`, `mark`, `import` and `remove`: the history of records.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "antcrew/cli/layer.hpp"
#include "antcrew/cli/stored.hpp"
#include "antcrew/store/index.hpp"

namespace antcrew::cli_layer {

struct ListOptions {
  StoreOptions store;
  Search search;
  std::string since;  // a day, a time, or an age such as 3d
  std::string until;
  bool all = false;
  bool rebuild = false;
  bool changes = false;
  std::string form = "text";  // or "json"
  std::string to;
};
void add_list_options(CLI::App& app, ListOptions& options);
// Exit code 1 when nothing is found. Throws Error.
int list_runs(const ListOptions& options);

struct MarkOptions {
  StoreOptions store;
  std::string record;
  std::optional<std::string> name;
  std::optional<std::string> note;
  std::vector<std::string> labels;
  std::vector<std::string> no_labels;
  std::string form = "text";  // or "json"
};
void add_mark_options(CLI::App& app, MarkOptions& options);
// Throws Error; nothing is changed then.
int mark_run(const MarkOptions& options);

struct ImportOptions {
  StoreOptions store;
  std::vector<std::string> files;  // a folder stands for the records in it
  std::string form = "text";       // or "json"
};
void add_import_options(CLI::App& app, ImportOptions& options);
// Exit code 2 when one of the files is no record; the others are stored.
int import_records(const ImportOptions& options);

struct RemoveOptions {
  StoreOptions store;
  std::vector<std::string> records;
  std::optional<int> keep;
  bool dry_run = false;
  std::string form = "text";  // or "json"
};
void add_remove_options(CLI::App& app, RemoveOptions& options);
int remove_runs(const RemoveOptions& options);

}  // namespace antcrew::cli_layer
