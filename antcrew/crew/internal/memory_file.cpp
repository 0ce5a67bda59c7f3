#include "antcrew/crew/internal/memory_file.hpp"

#include <fcntl.h>
#include <sys/mman.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <string>

#include "antcrew/base/error.hpp"

namespace antcrew::internal {
namespace {

[[noreturn]] void refuse(const char* what, std::size_t bytes) {
  could_not_run(
      "crew.memory", "memory for processes",
      std::string(what) + " of " + std::to_string(bytes) + " bytes was refused (" + std::strerror(errno) + ")",
      "free some memory, try smaller sizes, or raise the limit of open files (ulimit -n)");
}

}  // namespace

void Descriptor::close() noexcept {
  if (number_ >= 0) ::close(number_);
  number_ = -1;
}

Descriptor new_memory_file(std::size_t bytes) {
  Descriptor file(::memfd_create("antcrew", MFD_CLOEXEC | MFD_ALLOW_SEALING));
  if (!file.is_open() || ::ftruncate(file.get(), static_cast<off_t>(bytes)) != 0) refuse("a memory file", bytes);
  return file;
}

bool seal(const Descriptor& file) noexcept {
  return ::fcntl(file.get(), F_ADD_SEALS, F_SEAL_SHRINK | F_SEAL_GROW | F_SEAL_WRITE | F_SEAL_SEAL) == 0;
}

Mapping::Mapping(const Descriptor& file, std::size_t bytes, Pages pages, Access access) : bytes_(bytes) {
  if (bytes == 0) return;
  const int may = access == Access::write ? PROT_READ | PROT_WRITE : PROT_READ;
  void* mapped = ::mmap(nullptr, bytes, may, access == Access::write ? MAP_SHARED : MAP_PRIVATE, file.get(), 0);
  if (mapped == MAP_FAILED) refuse("a mapping", bytes);
  address_ = mapped;
  if (pages == Pages::large) ::madvise(mapped, bytes, MADV_HUGEPAGE);
}

Mapping::Mapping(std::size_t bytes) : bytes_(bytes) {
  void* mapped = ::mmap(nullptr, bytes, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
  if (mapped == MAP_FAILED) refuse("a shared mapping", bytes);
  address_ = mapped;
}

Mapping::~Mapping() {
  unmap(address_, bytes_);
}

Assembly::Assembly(std::size_t bytes) : address_(nullptr), bytes_(bytes) {
  void* reserved = ::mmap(nullptr, bytes, PROT_NONE, MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE, -1, 0);
  if (reserved == MAP_FAILED) refuse("a mapping", bytes);
  address_ = reserved;
}

Assembly::~Assembly() {
  unmap(address_, bytes_);
}

void Assembly::put(const Descriptor& file, std::size_t first, std::size_t last) {
  void* mapped = ::mmap(static_cast<char*>(address_) + first, last - first, PROT_READ | PROT_WRITE,
                        MAP_PRIVATE | MAP_FIXED | MAP_NORESERVE, file.get(), static_cast<off_t>(first));
  if (mapped == MAP_FAILED) refuse("a part of a mapping", last - first);
}

void unmap(void* address, std::size_t bytes) noexcept {
  if (address != nullptr) ::munmap(address, bytes);
}

}  // namespace antcrew::internal
