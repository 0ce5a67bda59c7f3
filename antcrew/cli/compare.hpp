// `antcrew compare` and `antcrew guard`: before and after, and what is required.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "antcrew/cli/layer.hpp"
#include "antcrew/cli/stored.hpp"

namespace CLI {
class App;
}

namespace antcrew::cli_layer {

struct CompareOptions {
  StoreOptions store;
  std::string before;  // files of records, with commas between them
  std::string after;
  std::string form = "text";  // "json", "figure", "figure:history"
  std::string variant;        // that a history follows
  std::string to;
  std::string image;
};
void add_compare_options(CLI::App& app, CompareOptions& options);
// Exit code 1 when a cell is worse, 4 when nothing can be told of any. Throws Error.
int compare_records(const CompareOptions& options);

struct GuardOptions {
  std::string record;
  StoreOptions store;
  std::string requirements;  // a TOML file; what options say comes on top
  std::string variant;
  std::optional<double> speedup;
  std::optional<double> efficiency;
  std::string memory;
  bool all_hold = false;
  std::vector<std::string> no_finding;
  std::string form = "text";   // or "json"
  std::string not_worse_than;  // files of records, with commas between them
  std::optional<double> by_percent;
  std::vector<std::string> allow_missing;
  std::string junit;
};
void add_guard_options(CLI::App& app, GuardOptions& options);
// Exit code 1 when a requirement failed, 4 when one cannot be told. Throws Error.
int guard_record(const GuardOptions& options);

}  // namespace antcrew::cli_layer
