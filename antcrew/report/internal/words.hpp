// What one id of finding says and advises; the tables stand with their families.
#pragma once

#include <string>

#include "antcrew/analysis/figures.hpp"
#include "antcrew/analysis/forward.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::internal {

using namespace antcrew::layers;

struct Words {
  const char* id;
  std::string (*claim)(const Finding&);
  std::string (*advice)(const Finding&);
};

// A figure of that name, 0 where there is none; as a duration; as a count.
double figure(const Finding& f, FigureName name);
std::string seconds(const Finding& f, FigureName name);
std::string count(const Finding& f, FigureName name);
// The worker of that number: "worker 3", "rank 3 on hostb".
std::string worker_of(const Finding& f, FigureName which);
// Of ranks that wait for the messages of one with more work; empty where that is not what is uneven.
std::string uneven_ranks_claim(const Finding& f);

// Null where another family has that id.
const Words* words_on_machine(const std::string& id);
const Words* command_words_for(const std::string& id);
const Words* words_on_ranks(const std::string& id);
// On locks, allocations, threads and tasks.
const Words* words_on_library(const std::string& id);

// What a command's author can do, where that is another thing than in C++ code; null = the same.
const char* command_advice_for(const Finding& finding);

}  // namespace antcrew::internal
