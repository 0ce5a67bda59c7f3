#include "antcrew/study/internal/source_place.hpp"

#include <dwarf.h>
#include <elfutils/libdw.h>
#include <elfutils/libdwfl.h>
#include <unistd.h>

#include <cstdlib>
#include <cstring>
#include <memory>

#include <fmt/format.h>

#include "antcrew/base/type_name.hpp"

namespace antcrew::internal {
namespace {

struct Line {
  std::string file;
  int line = 0;
};

class OwnProgram {
 public:
  OwnProgram() {
    static char* no_path = nullptr;
    static const Dwfl_Callbacks callbacks = {dwfl_linux_proc_find_elf, dwfl_standard_find_debuginfo, nullptr, &no_path};
    program_.reset(dwfl_begin(&callbacks));
    if (!program_) return;
    if (dwfl_linux_proc_report(program_.get(), getpid()) != 0) program_.reset();
    if (program_) dwfl_report_end(program_.get(), nullptr, nullptr);
  }

  // The instruction's own line first, then where each inlined function around it was called.
  std::vector<Line> lines_at(Dwarf_Addr address) const {
    std::vector<Line> lines;
    Dwfl_Module* module = program_ ? dwfl_addrmodule(program_.get(), address) : nullptr;
    if (module == nullptr) return lines;
    Dwarf_Addr bias = 0;
    Dwarf_Die* unit = dwfl_module_addrdie(module, address, &bias);
    if (unit == nullptr) return lines;
    if (Dwfl_Line* at = dwfl_module_getsrc(module, address)) {
      int line = 0;
      const char* file = dwfl_lineinfo(at, nullptr, &line, nullptr, nullptr, nullptr);
      if (file != nullptr) lines.push_back({file, line});
    }
    // The innermost first; then, from there, what it lies in: functions as they were inlined one into the other.
    Dwarf_Die* innermost = nullptr;
    const int found = dwarf_getscopes(unit, address - bias, &innermost);
    const std::unique_ptr<Dwarf_Die, decltype(&std::free)> owned_innermost(innermost, &std::free);
    if (found <= 0) return lines;
    Dwarf_Die* scopes = nullptr;
    const int n = dwarf_getscopes_die(innermost, &scopes);
    const std::unique_ptr<Dwarf_Die, decltype(&std::free)> owned(scopes, &std::free);
    Dwarf_Files* files = nullptr;
    if (n <= 0 || dwarf_getsrcfiles(unit, &files, nullptr) != 0) return lines;
    for (int k = 0; k < n; ++k) {
      if (dwarf_tag(&scopes[k]) != DW_TAG_inlined_subroutine) continue;
      Dwarf_Attribute attribute;
      Dwarf_Word file = 0;
      Dwarf_Word line = 0;
      if (dwarf_formudata(dwarf_attr(&scopes[k], DW_AT_call_file, &attribute), &file) != 0) continue;
      if (dwarf_formudata(dwarf_attr(&scopes[k], DW_AT_call_line, &attribute), &line) != 0) continue;
      const char* name = dwarf_filesrc(files, file, nullptr, nullptr);
      if (name != nullptr) lines.push_back({name, static_cast<int>(line)});
    }
    return lines;
  }

  std::string function_at(Dwarf_Addr address) const {
    Dwfl_Module* module = program_ ? dwfl_addrmodule(program_.get(), address) : nullptr;
    const char* name = module == nullptr ? nullptr : dwfl_module_addrname(module, address);
    return name == nullptr ? std::string() : readable_name(name);
  }

 private:
  struct End {
    void operator()(Dwfl* program) const { dwfl_end(program); }
  };
  std::unique_ptr<Dwfl, End> program_;
};

bool is_own(const std::string& file) {
  for (const char* not_own : {"/include/c++/", "/usr/include/", "/lib/gcc/", "../sysdeps/", "/nptl/"}) {
    if (file.find(not_own) != std::string::npos) return false;
  }
  for (const char* room : {"algorithm", "base", "crew", "log", "machine", "ranks", "share", "study"}) {
    if (file.find(fmt::format("/antcrew/{}/", room)) != std::string::npos) return false;
  }
  return true;
}

}  // namespace

std::string source_place(const std::vector<const void*>& return_addresses) {
  // Libraries that are loaded later are not looked at: they are no place of a study.
  static const OwnProgram program;
  std::string function;
  for (const void* returns_to : return_addresses) {
    // The call lies before what it returns to.
    const auto address = static_cast<Dwarf_Addr>(reinterpret_cast<std::uintptr_t>(returns_to)) - 1;
    for (const Line& at : program.lines_at(address)) {
      if (is_own(at.file)) return fmt::format("{}:{}", at.file.substr(at.file.rfind('/') + 1), at.line);
    }
    if (function.empty()) function = program.function_at(address);
  }
  return function;
}

}  // namespace antcrew::internal
