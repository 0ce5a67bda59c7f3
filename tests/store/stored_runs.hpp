// Runs to be stored, made by hand.
#pragma once

#include <doctest/doctest.h>
#include <fmt/format.h>
#include <sys/wait.h>
#include <unistd.h>

#include <functional>
#include <string>
#include <vector>

#include "antcrew/base/error.hpp"
#include "antcrew/record/record_file.hpp"
#include "antcrew/store/index.hpp"
#include "support/command.hpp"
#include "support/records.hpp"

namespace test {

using namespace antcrew;
using namespace antcrew::layers;

inline Record run_of(const std::string& title, double variant_s = 1, int rounds = 11) {
  const auto times = [rounds](double seconds) {
    return std::vector<double>(static_cast<std::size_t>(rounds), seconds);
  };
  Record record =
      test::record_of({test::cell_with("baseline", 1, times(2)), test::cell_with("halved", 2, times(variant_s))});
  static int number = 0;
  record.title = title;
  record.created = "2026-11-27T04:00:00Z";
  record.run = fmt::format("{:08x}{:08x}", static_cast<unsigned>(::getpid()), ++number);
  return record;
}

inline std::string saved(const TemporaryFolder& folder, const std::string& name, const Record& record) {
  save_record(record, folder / name);
  return folder / name;
}

inline std::string error_id(const std::function<void()>& work) {
  try {
    work();
  } catch (const Error& error) {
    CAPTURE(error.what());
    CHECK(std::string(error.what()).find('\n') == std::string::npos);
    return error.id();
  }
  return "no error";
}

inline std::vector<int> numbers(const std::vector<StoredRun>& runs) {
  std::vector<int> all;
  for (const StoredRun& run : runs) all.push_back(run.number);
  return all;
}

inline std::vector<int> numbers(const FoundRuns& found) {
  std::vector<int> all;
  for (const ListedRun& run : found.runs) all.push_back(run.stored.number);
  return all;
}

// `count` processes that call work(k) at the same time; true when all ended with 0.
inline bool processes(int count, const std::function<void(int)>& work) {
  std::vector<pid_t> children;
  for (int k = 0; k < count; ++k) {
    const pid_t child = ::fork();
    if (child == 0) {
      ::alarm(60);
      try {
        work(k);
      } catch (const std::exception& error) {
        std::fprintf(stderr, "process %d: %s\n", k, error.what());
        ::_exit(1);
      }
      ::_exit(0);
    }
    children.push_back(child);
  }
  bool well = true;
  for (const pid_t child : children) {
    int status = 0;
    ::waitpid(child, &status, 0);
    well = well && WIFEXITED(status) && WEXITSTATUS(status) == 0;
  }
  return well;
}

}  // namespace test
