// What a person may call a record: a file, the number of a stored run, "last", "last-1" (the one before), or a label.
//
//   for (const std::string& path : records_called("before-rewrite", store)) load_record(path);
#pragma once

#include <string>
#include <vector>

#include "antcrew/store/layer.hpp"
#include "antcrew/store/store.hpp"

namespace antcrew::store_layer {

// It ends in ".json" or has a slash.
bool is_file_name(const std::string& word) noexcept;

// Stored runs of that number or label, lowest number first; lost ones with the others. "last" is the one that was
// stored last. Throws Error: store.none (there is no such run, no store, or none is used), and as Store::runs.
std::vector<StoredRun> runs_called(const std::string& word, const Store& store);

// The files of it: a label may be on several runs, all else names one. Throws Error as above, store.lost (its file is
// gone), but nothing for a file that is not there.
std::vector<std::string> records_called(const std::string& word, const std::string& store);

}  // namespace antcrew::store_layer
