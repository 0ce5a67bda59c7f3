#include "antcrew/cli/stored.hpp"

#include <fmt/format.h>

#include <CLI/CLI.hpp>
#include <cstdio>
#include <cstdlib>
#include <filesystem>

#include "antcrew/base/error.hpp"
#include "antcrew/store/record_lookup.hpp"
#include "antcrew/store/store.hpp"

namespace antcrew::cli_layer {

std::string StoreOptions::used() const {
  if (off) return {};
  return folder.empty() ? default_store() : folder;
}

void add_store_options(CLI::App& app, StoreOptions& options, bool with_off) {
  app.add_option("--store", options.folder,
                 "folder of the history (default: ANTCREW_STORE, else antcrew in your data directory)")
      ->type_name("FOLDER");
  if (with_off) app.add_flag("--no-store", options.off, "keep no copy of the record in the history");
}

KeptRun keep_run(const std::string& path, const StoreOptions& options) noexcept {
  try {
    const std::string folder = options.used();
    if (!folder.empty()) return {Store(folder).keep(path).number, {}};
    const char* asked = std::getenv("ANTCREW_STORE");
    const bool wanted = !options.off && (asked == nullptr || *asked == '\0');
    return {0, wanted ? "no home directory; name a folder with --store" : ""};
  } catch (const std::exception& error) {
    return {0, error.what()};
  }
}

namespace {

std::string title_of(const std::string& path) {
  const std::filesystem::path file(path);
  return file.extension() == ".json" ? file.stem().string() : file.filename().string();
}

}  // namespace

std::string title_of(const StoredRun& run, const Notes& notes) {
  if (!notes.name.empty()) return notes.name;
  return notes.labels.empty() ? fmt::format("run {}", run.number) : notes.labels.front();
}

std::vector<RecordFile> record_files(const std::string& list, const StoreOptions& options) {
  std::vector<RecordFile> files;
  std::error_code unknown;
  if (is_file_name(list) && std::filesystem::exists(list, unknown))
    return {{list, list, title_of(list)}};  // whatever commas it has
  for (std::size_t from = 0; from <= list.size();) {
    const std::size_t comma = std::min(list.find(',', from), list.size());
    const std::string word = list.substr(from, comma - from);
    if (word.empty())
      bad_input("cli.record", list, "no name of a record between commas", std::string("write ") + record_help);
    if (is_file_name(word)) {
      files.push_back({word, word, title_of(word)});
    } else {
      const std::vector<std::string> paths = records_called(word, options.used());
      const Store store(options.used());
      const std::vector<StoredRun> runs = runs_called(word, store);
      for (std::size_t k = 0; k < paths.size(); ++k)
        files.push_back({runs.size() == 1 ? word : fmt::format("run {}", runs[k].number), paths[k],
                         title_of(runs[k], store.notes_of(runs[k]))});
    }
    from = comma + 1;
  }
  return files;
}

std::string record_file(const std::string& word, const StoreOptions& options) {
  const std::vector<std::string> files = is_file_name(word) ? std::vector{word} : records_called(word, options.used());
  if (files.size() > 1)
    std::fprintf(stderr, "The label '%s' is on %zu runs; taking the newest of them.\n", word.c_str(), files.size());
  return files.back();
}

}  // namespace antcrew::cli_layer
