// Where what user code prints goes: memory that takes all, never makes a writer wait, and is emptied as it fills.
//
// The coordinator makes it; cell processes write to it, one on trial at a time. Not thread-safe.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "antcrew/study/layer.hpp"

namespace antcrew::internal {

class KeptOutput {
 public:
  // Where the system has no such memory, descriptor() is where everything is dropped.
  KeptOutput();
  ~KeptOutput();
  KeptOutput(const KeptOutput&) = delete;
  KeptOutput& operator=(const KeptOutput&) = delete;

  int descriptor() const noexcept { return file_; }

  // What is printed from here on is told by the others.
  void begin();
  // To be called now and then while something is on trial: gives back all memory but the first and the last of it.
  void look();
  std::uint64_t bytes() const;
  // At most 10 lines and 1,000 characters; made printable.
  std::vector<std::string> first_lines() const;
  std::string last_line() const;

 private:
  std::string part(std::uint64_t from, std::uint64_t length) const;
  std::uint64_t end() const noexcept;
  void give_back(std::uint64_t from, std::uint64_t to) noexcept;

  int file_ = -1;
  std::uint64_t began_at_ = 0;
  std::uint64_t given_back_to_ = 0;
};

}  // namespace antcrew::internal
