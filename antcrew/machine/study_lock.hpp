// Whether another study is measured on this machine at the same time: an advisory lock that all of them share.
//
// A place to tell each other, not to keep anybody out: where its file cannot be opened, nobody else is seen. Not
// thread-safe; a forked process must not use its parent's.
#pragma once

#include <string>

#include "antcrew/machine/layer.hpp"

namespace antcrew::machine_layer {

class StudyLock {
 public:
  explicit StudyLock(const std::string& path = usual_path());
  ~StudyLock();
  StudyLock(const StudyLock&) = delete;
  StudyLock& operator=(const StudyLock&) = delete;

  // As of now.
  bool alone() noexcept;

  static std::string usual_path();

 private:
  int file_ = -1;
};

}  // namespace antcrew::machine_layer
