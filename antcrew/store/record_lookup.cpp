#include "antcrew/store/record_lookup.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <optional>

#include "antcrew/base/error.hpp"
#include "antcrew/base/nearest.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/base/units.hpp"

namespace antcrew::store_layer {
namespace {

std::optional<std::size_t> number_in(const std::string& text) {
  const bool number = !text.empty() && text.size() < 10 && text.find_first_not_of("0123456789") == std::string::npos;
  if (!number) return std::nullopt;
  return std::stoul(text);
}

// How many before the last one; none where the word is not of this kind.
std::optional<std::size_t> before_last(const std::string& word) {
  if (word == "last") return 0;
  if (word.rfind("last-", 0) != 0) return std::nullopt;
  return number_in(word.substr(5));
}

std::string advice_for(const std::string& word, const std::vector<std::string>& labels) {
  std::error_code unknown;
  if (std::filesystem::exists(word, unknown)) return "for the file of that name write ./" + word;
  const std::string likely = nearest_word(labels, word);
  return (likely.empty() ? "see" : "did you mean '" + likely + "'? See") +
         std::string(" `antcrew list`, or name a file that ends in .json");
}

std::vector<StoredRun> labelled(const std::string& word, const Store& store, const std::vector<StoredRun>& runs) {
  std::vector<StoredRun> found;
  std::vector<std::string> labels;
  for (const StoredRun& run : runs) {
    const Notes notes = store.notes_of(run);
    if (std::find(notes.labels.begin(), notes.labels.end(), word) != notes.labels.end()) found.push_back(run);
    labels.insert(labels.end(), notes.labels.begin(), notes.labels.end());
  }
  if (found.empty())
    bad_input("store.none", printable(word, 60), "no stored run has this label", advice_for(word, labels));
  return found;
}

}  // namespace

bool is_file_name(const std::string& word) noexcept {
  constexpr std::string_view ending = ".json";
  const bool ends =
      word.size() >= ending.size() && word.compare(word.size() - ending.size(), ending.size(), ending) == 0;
  return ends || word.find('/') != std::string::npos;
}

std::vector<StoredRun> runs_called(const std::string& word, const Store& store) {
  if (store.folder().empty())
    bad_input("store.none", printable(word, 60), "no store is used, so it cannot name a stored run",
              "name a file, or a folder with --store");
  const std::vector<StoredRun> runs = store.runs();
  if (const auto back = before_last(word)) {
    std::vector<const StoredRun*> there;
    for (const StoredRun& run : runs) {
      if (!run.lost) there.push_back(&run);
    }
    if (*back >= there.size())
      bad_input("store.none", word,
                there.empty()
                    ? "nothing is stored in " + store.folder()
                    : fmt::format("only {} stored",
                                  there.size() == 1 ? "one run is" : fmt::format("{} runs are", there.size())),
                there.empty() ? "measure something first, or name a file" : "see `antcrew list`");
    return {*there[there.size() - 1 - *back]};
  }
  const auto number = number_in(word);
  if (!number) return labelled(word, store, runs);
  const auto found = std::find_if(
      runs.begin(), runs.end(), [&](const StoredRun& run) { return static_cast<std::size_t>(run.number) == *number; });
  if (found == runs.end()) bad_input("store.none", word, "no stored run has this number", "see `antcrew list`");
  return {*found};
}

std::vector<std::string> records_called(const std::string& word, const std::string& store) {
  if (is_file_name(word)) return {word};
  std::vector<std::string> paths;
  for (const StoredRun& run : runs_called(word, Store(store))) {
    if (run.lost)
      bad_input("store.lost", run.path, fmt::format("the record of stored run {} is gone", run.number),
                fmt::format("put the file back with `antcrew import FILE`, or `antcrew remove {}`", run.number));
    paths.push_back(run.path);
  }
  return paths;
}

}  // namespace antcrew::store_layer
