// Where code lies, in words that mean the same to every process of one program: the machine may have put it elsewhere
// in each.
#pragma once

#include <cstdint>
#include <string>

namespace antcrew::internal {

struct CodePlace {
  std::uint64_t module = 0;  // a hash of its file's name; 0 = the program itself
  std::uint64_t offset = 0;
};

// Throws Error (ranks.code) when it is in nothing that was loaded from a file.
CodePlace place_of_code(const void* code);
// Throws Error (ranks.code) when this process has not loaded that module.
const void* code_at(CodePlace place);

// The same in every process of one program, another one after it was built anew.
std::string program_mark();

}  // namespace antcrew::internal
