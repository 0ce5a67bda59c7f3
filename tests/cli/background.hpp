// Studies that run in the background while a test looks at them, interrupts them or kills them.
#pragma once

#include <fcntl.h>
#include <unistd.h>

#include <chrono>
#include <filesystem>
#include <string>
#include <thread>
#include <vector>

#include "support/command.hpp"

namespace test {

inline const std::string tides = std::string(ANTCREW_EXAMPLES) + "/tides";

// Starts the study in the background with its output in a file.
inline pid_t start(const std::vector<std::string>& words, const std::string& out) {
  std::vector<char*> raw;
  for (const std::string& word : words) raw.push_back(const_cast<char*>(word.c_str()));
  raw.push_back(nullptr);
  const pid_t child = fork();
  if (child == 0) {
    const int file = open(out.c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0600);
    dup2(file, 1);
    dup2(file, 2);
    execv(raw[0], raw.data());
    _exit(127);
  }
  return child;
}

// Processes whose command line is this study's, whoever started them.
inline int processes_of(const std::string& record) {
  int count = 0;
  for (const auto& entry : std::filesystem::directory_iterator("/proc")) {
    const std::string line = read_file(entry.path() / "cmdline");
    const std::string state = read_file(entry.path() / "stat");
    if (contains(line, record) && !contains(state, ") Z ")) ++count;
  }
  return count;
}

inline bool gone_within(const std::string& record, std::chrono::milliseconds limit) {
  for (auto waited = std::chrono::milliseconds(0); waited < limit; waited += std::chrono::milliseconds(20)) {
    if (processes_of(record) == 0) return true;
    std::this_thread::sleep_for(std::chrono::milliseconds(20));
  }
  return false;
}

inline std::vector<std::string> study(const std::string& record, const std::string& rounds) {
  return {tides, "--sizes", "40k", "--rounds", rounds, "--workers", "1,2", "--save", record, "--quiet"};
}

inline std::vector<std::string> small_run(const std::string& record) {
  return {tides, "--sizes", "1k,3k", "--rounds", "6", "--workers", "1,2", "--save", record};
}

}  // namespace test
