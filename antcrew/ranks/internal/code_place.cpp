#include "antcrew/ranks/internal/code_place.hpp"

#include <link.h>

#include <functional>
#include <string_view>

#include "antcrew/base/error.hpp"
#include "antcrew/base/hash.hpp"

namespace antcrew::internal {
namespace {

std::uint64_t number_of(const char* path) {
  if (path == nullptr || *path == '\0') return 0;
  std::string_view name(path);
  name.remove_prefix(name.rfind('/') + 1);
  std::uint64_t hash = 0xcbf29ce484222325u;
  for (const char c : name) hash = (hash ^ static_cast<unsigned char>(c)) * 0x100000001b3u;
  return hash | 1;
}

// Calls fn(module) until it says true.
bool any_module(const std::function<bool(const dl_phdr_info&)>& fn) {
  const auto one = [](dl_phdr_info* module, std::size_t, void* asked) {
    return (*static_cast<const std::function<bool(const dl_phdr_info&)>*>(asked))(*module) ? 1 : 0;
  };
  return ::dl_iterate_phdr(one, const_cast<void*>(static_cast<const void*>(&fn))) != 0;
}

bool holds(const dl_phdr_info& module, std::uint64_t address) {
  for (int k = 0; k < module.dlpi_phnum; ++k) {
    const auto& part = module.dlpi_phdr[k];
    const std::uint64_t first = module.dlpi_addr + part.p_vaddr;
    if (part.p_type == PT_LOAD && address >= first && address < first + part.p_memsz) return true;
  }
  return false;
}

}  // namespace

CodePlace place_of_code(const void* code) {
  const auto address = reinterpret_cast<std::uintptr_t>(code);
  CodePlace place;
  const bool found = any_module([&](const dl_phdr_info& module) {
    if (!holds(module, address)) return false;
    place = {number_of(module.dlpi_name), address - module.dlpi_addr};
    return true;
  });
  if (!found) {
    base_layer::could_not_run("ranks.code", "RankCrew", "the body lies in no file that the program has loaded",
                              "let it be compiled into the program");
  }
  return place;
}

const void* code_at(CodePlace place) {
  const void* code = nullptr;
  const bool found = any_module([&](const dl_phdr_info& module) {
    if (number_of(module.dlpi_name) != place.module || !holds(module, module.dlpi_addr + place.offset)) return false;
    code = reinterpret_cast<const void*>(module.dlpi_addr + place.offset);
    return true;
  });
  if (!found) {
    base_layer::could_not_run("ranks.code", "RankCrew", "the body is in a library that this rank has not loaded",
                              "load it in all ranks");
  }
  return code;
}

std::string program_mark() {
  static const std::string mark = base_layer::file_hash("/proc/self/exe");
  return mark;
}

}  // namespace antcrew::internal
