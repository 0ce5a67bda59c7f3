#include "antcrew/machine/call_slots.hpp"

#include <dlfcn.h>
#include <elf.h>
#include <link.h>
#include <sys/mman.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cstdint>
#include <cstring>

namespace antcrew::internal {
namespace {

#if defined(__x86_64__)
constexpr std::uint32_t of_calls[] = {R_X86_64_JUMP_SLOT, R_X86_64_GLOB_DAT};
#elif defined(__aarch64__)
constexpr std::uint32_t of_calls[] = {R_AARCH64_JUMP_SLOT, R_AARCH64_GLOB_DAT};
#else
constexpr std::uint32_t of_calls[] = {~0u, ~0u};  // none: nothing is seen
#endif

struct Tables {
  const char* names = nullptr;
  const ElfW(Sym) * symbols = nullptr;
  const ElfW(Rela) * relocations[2] = {nullptr, nullptr};
  std::size_t counts[2] = {0, 0};
};

Tables tables_of(const dl_phdr_info& object) {
  Tables found;
  const ElfW(Dyn)* entry = nullptr;
  for (int k = 0; k < object.dlpi_phnum; ++k) {
    if (object.dlpi_phdr[k].p_type == PT_DYNAMIC)
      entry = reinterpret_cast<const ElfW(Dyn)*>(object.dlpi_addr + object.dlpi_phdr[k].p_vaddr);
  }
  if (entry == nullptr) return found;
  for (; entry->d_tag != DT_NULL; ++entry) {
    const auto address = entry->d_un.d_ptr;
    switch (entry->d_tag) {
      case DT_STRTAB:
        found.names = reinterpret_cast<const char*>(address);
        break;
      case DT_SYMTAB:
        found.symbols = reinterpret_cast<const ElfW(Sym)*>(address);
        break;
      case DT_JMPREL:
        found.relocations[0] = reinterpret_cast<const ElfW(Rela)*>(address);
        break;
      case DT_PLTRELSZ:
        found.counts[0] = entry->d_un.d_val / sizeof(ElfW(Rela));
        break;
      case DT_RELA:
        found.relocations[1] = reinterpret_cast<const ElfW(Rela)*>(address);
        break;
      case DT_RELASZ:
        found.counts[1] = entry->d_un.d_val / sizeof(ElfW(Rela));
        break;
      default:
        break;
    }
  }
  // The loader makes addresses of these; what it leaves alone (the kernel's own object) has offsets.
  if (reinterpret_cast<std::uintptr_t>(found.symbols) < object.dlpi_addr) found.symbols = nullptr;
  return found;
}

bool read_only_after_loading(const dl_phdr_info& object, std::uintptr_t address) {
  for (int k = 0; k < object.dlpi_phnum; ++k) {
    const auto& part = object.dlpi_phdr[k];
    if (part.p_type != PT_GNU_RELRO) continue;
    const std::uintptr_t begin = object.dlpi_addr + part.p_vaddr;
    if (address >= begin && address < begin + part.p_memsz) return true;
  }
  return false;
}

bool allow(void** slot, int rights) noexcept {
  const auto page = static_cast<std::uintptr_t>(sysconf(_SC_PAGESIZE));
  const std::uintptr_t at = reinterpret_cast<std::uintptr_t>(slot) & ~(page - 1);
  return mprotect(reinterpret_cast<void*>(at), page, rights) == 0;
}

// Relaxed: who calls through it finds one of two functions, and both do.
bool write(void** slot, void* value, bool read_only) noexcept {
  if (read_only && !allow(slot, PROT_READ | PROT_WRITE)) return false;
  std::atomic_ref<void*>(*slot).store(value, std::memory_order_relaxed);
  if (read_only) allow(slot, PROT_READ);
  return true;
}

struct Range {
  std::uintptr_t begin;
  std::uintptr_t end;
};

int add_ranges(dl_phdr_info* object, std::size_t, void* to) {
  for (int k = 0; k < object->dlpi_phnum; ++k) {
    const auto& part = object->dlpi_phdr[k];
    const std::uintptr_t begin = object->dlpi_addr + part.p_vaddr;
    try {
      if (part.p_type == PT_LOAD) static_cast<std::vector<Range>*>(to)->push_back({begin, begin + part.p_memsz});
    } catch (...) {
      return 1;  // without memory the rest keep what they have, which does as well
    }
  }
  return 0;
}

std::vector<Range> loaded_now() {
  std::vector<Range> ranges;
  dl_iterate_phdr(&add_ranges, &ranges);
  return ranges;
}

}  // namespace

void* function_named(const char* name) noexcept {
  return dlsym(RTLD_DEFAULT, name);
}

CallSlots::CallSlots(const std::vector<OtherFunction>& functions) {
  wanted_ = &functions;
  dl_iterate_phdr(&CallSlots::visit, this);
  wanted_ = nullptr;
  std::erase_if(slots_, [&](const Slot& slot) {
    for (const OtherFunction& function : functions) {
      if (function.name == slot.name) return !write(slot.at, function.instead, slot.read_only);
    }
    return true;
  });
}

// What was unloaded meanwhile has no slots any more.
CallSlots::~CallSlots() {
  const std::vector<Range> loaded = loaded_now();
  for (const Slot& slot : slots_) {
    const auto at = reinterpret_cast<std::uintptr_t>(slot.at);
    const bool there = std::any_of(loaded.begin(), loaded.end(),
                                   [&](const Range& range) { return at >= range.begin && at < range.end; });
    if (there) write(slot.at, slot.before, slot.read_only);
  }
}

std::size_t CallSlots::found(const std::string& name) const noexcept {
  std::size_t count = 0;
  for (const Slot& slot : slots_) count += name == slot.name ? 1 : 0;
  return count;
}

int CallSlots::visit(dl_phdr_info* object, std::size_t, void* self) {
  auto* slots = static_cast<CallSlots*>(self);
  slots->look_into(*object, *slots->wanted_);
  return 0;
}

void CallSlots::look_into(const dl_phdr_info& object, const std::vector<OtherFunction>& functions) {
  // The loader's own memory is not the program's.
  if (object.dlpi_name != nullptr && std::strstr(object.dlpi_name, "/ld-linux") != nullptr) return;
  const Tables tables = tables_of(object);
  if (tables.names == nullptr || tables.symbols == nullptr) return;
  for (int table = 0; table < 2; ++table) {
    for (std::size_t k = 0; tables.relocations[table] != nullptr && k < tables.counts[table]; ++k) {
      const ElfW(Rela)& relocation = tables.relocations[table][k];
      const auto kind = static_cast<std::uint32_t>(ELF64_R_TYPE(relocation.r_info));
      if (kind != of_calls[0] && kind != of_calls[1]) continue;
      const char* name = tables.names + tables.symbols[ELF64_R_SYM(relocation.r_info)].st_name;
      for (const OtherFunction& function : functions) {
        if (std::strcmp(function.name, name) != 0) continue;
        auto* at = reinterpret_cast<void**>(object.dlpi_addr + relocation.r_offset);
        const bool read_only = read_only_after_loading(object, reinterpret_cast<std::uintptr_t>(at));
        slots_.push_back({at, std::atomic_ref<void*>(*at).load(std::memory_order_relaxed), function.name, read_only});
      }
    }
  }
}

}  // namespace antcrew::internal
