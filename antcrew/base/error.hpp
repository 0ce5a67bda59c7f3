// The one kind of error a user of Ant Crew catches.
//
// Each error has a stable id ("record.truncated"), says what was being read or run, where, and what to do next, in
// one line. Bad use of a function by a programmer is an assertion instead.
//
//   try { Record r = load_record("tides.json"); }
//   catch (const antcrew::Error& error) { std::fputs(error.what(), stderr); }
#pragma once

#include <stdexcept>
#include <string>

#include "antcrew/base/layer.hpp"

namespace antcrew {

class Error : public std::runtime_error {
 public:
  // bad_input: the caller gave something that cannot be used. could_not_run: the machine or the work refused.
  enum class Kind { bad_input, could_not_run };

  // what: the fault; where: file, option or function it is about; advice: what to do. The last may be empty.
  Error(Kind kind, std::string id, const std::string& what, const std::string& where, const std::string& advice);

  Kind kind() const noexcept { return kind_; }
  const std::string& id() const noexcept { return id_; }

 private:
  Kind kind_;
  std::string id_;
};

namespace base_layer {

[[noreturn]] void bad_input(std::string id, const std::string& where, const std::string& what,
                            const std::string& advice);
[[noreturn]] void could_not_run(std::string id, const std::string& where, const std::string& what,
                                const std::string& advice);

}  // namespace base_layer

}  // namespace antcrew
