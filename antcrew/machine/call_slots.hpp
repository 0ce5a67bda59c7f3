// Where the loaded program and its libraries call a function of another library: slots that hold its address. For a
// while they can hold another.
//
//   CallSlots slots({{"malloc", address_of(&counted_malloc)}});   // now calls of malloc come to counted_malloc
//                                                                  // until `slots` is gone
//
// Only calls from one loaded object to another have a slot: of a program linked statically, or that brings its own
// function of that name, nothing is seen. What was in a slot comes back into it. Nothing is written to the program's
// code, and while no CallSlots lives its calls are as the loader made them.
#pragma once

#include <cstddef>
#include <string>
#include <vector>

#include "antcrew/machine/layer.hpp"

struct dl_phdr_info;

namespace antcrew::internal {

// The function that a program's calls of this name come to, by the loader's order; null = there is none.
void* function_named(const char* name) noexcept;

struct OtherFunction {
  const char* name;
  void* instead;
};

// One at a time in a process, made and destroyed by the same thread. Others may call meanwhile: each slot is written
// in one go, and both functions must do for who comes a moment early or late.
class CallSlots {
 public:
  explicit CallSlots(const std::vector<OtherFunction>& functions);
  ~CallSlots();
  CallSlots(const CallSlots&) = delete;
  CallSlots& operator=(const CallSlots&) = delete;

  // Slots of that function.
  std::size_t found(const std::string& name) const noexcept;

 private:
  struct Slot {
    void** at;
    void* before;
    const char* name;
    bool read_only;
  };
  void look_into(const dl_phdr_info& object, const std::vector<OtherFunction>& functions);
  static int visit(dl_phdr_info* object, std::size_t size, void* self);

  std::vector<Slot> slots_;
  const std::vector<OtherFunction>* wanted_ = nullptr;
};

}  // namespace antcrew::internal
