// What a call of a crew of processes ends with when a worker did not do its part.
#pragma once

#include <string>

#include "antcrew/base/error.hpp"
#include "antcrew/base/range.hpp"

namespace antcrew {

// A worker's process ended, or was ended because the call overran its deadline.
class ProcessDied : public Error {
 public:
  // unknown: the program itself had taken notice of its end before, in a handler of SIGCHLD perhaps.
  enum class Reason { signal, exit, deadline, unknown };
  struct Facts {
    std::string crew;
    int worker = 0;
    Range range = {};  // that it held; empty = none
    Reason reason = Reason::signal;
    int number = 0;  // of the signal, or the exit code
    double deadline_s = 0;
    int tries = 1;  // that the lost range was given
  };
  explicit ProcessDied(const Facts& facts);

  int worker() const noexcept { return facts_.worker; }
  Range range() const noexcept { return facts_.range; }
  Reason reason() const noexcept { return facts_.reason; }
  int signal() const noexcept {
    return facts_.reason == Reason::signal || facts_.reason == Reason::deadline ? facts_.number : 0;
  }
  int exit_code() const noexcept { return facts_.reason == Reason::exit ? facts_.number : 0; }

 private:
  Facts facts_;
};

// A worker's body threw; the exception itself cannot leave its process, so its type and text come across.
class WorkerThrew : public Error {
 public:
  WorkerThrew(const std::string& crew, int worker, Range range, std::string type, std::string text);

  int worker() const noexcept { return worker_; }
  Range range() const noexcept { return range_; }
  const std::string& type() const noexcept { return type_; }  // "std::out_of_range"
  const std::string& text() const noexcept { return text_; }  // its what(); empty when it had none
  bool out_of_memory() const noexcept { return type_ == "std::bad_alloc"; }

 private:
  int worker_;
  Range range_;
  std::string type_;
  std::string text_;
};

}  // namespace antcrew
