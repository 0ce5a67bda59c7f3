#include "antcrew/crew/internal/processes/memory_file.hpp"

#include <fcntl.h>
#include <sys/mman.h>
#include <unistd.h>

#include <cerrno>
#include <cstdint>
#include <cstdlib>
#include <cstring>
#include <new>
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

// Addresses for a mapping, at the border of a large page: only there a file's large pages are mapped as such.
char* reserve(std::size_t bytes) {
  constexpr std::size_t large_page = 2u << 20;
  const std::size_t room = bytes < large_page ? bytes : bytes + large_page;
  void* reserved = ::mmap(nullptr, room, PROT_NONE, MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE, -1, 0);
  if (reserved == MAP_FAILED) refuse("a mapping", bytes);
  char* first = static_cast<char*>(reserved);
  if (room == bytes) return first;
  const std::size_t before = (large_page - reinterpret_cast<std::uintptr_t>(reserved) % large_page) % large_page;
  if (before > 0) ::munmap(first, before);
  ::munmap(first + before + bytes, room - before - bytes);
  return first + before;
}

}  // namespace

void Descriptor::close() noexcept {
  if (number_ >= 0) ::close(number_);
  number_ = -1;
}

namespace {

// A file without a name, in memory where the system has a folder for that.
Descriptor nameless_file() {
  const char* chosen = std::getenv("TMPDIR");
  for (const char* folder : {"/dev/shm", chosen != nullptr ? chosen : "/tmp", "/tmp"}) {
    Descriptor file(::open(folder, O_TMPFILE | O_RDWR | O_CLOEXEC, 0600));
    if (file.is_open()) return file;
    std::string name = std::string(folder) + "/antcrew-XXXXXX";
    file = Descriptor(::mkostemp(name.data(), O_CLOEXEC));
    if (!file.is_open()) continue;
    ::unlink(name.c_str());
    return file;
  }
  return {};
}

}  // namespace

bool files_can_be_sealed() noexcept {
  const Descriptor file(::memfd_create("antcrew", MFD_CLOEXEC | MFD_ALLOW_SEALING));
  return file.is_open() && seal(file);
}

Descriptor new_memory_file(std::size_t bytes) {
  Descriptor file(::memfd_create("antcrew", MFD_CLOEXEC | MFD_ALLOW_SEALING));
  if (!file.is_open() && errno != EMFILE && errno != ENFILE && errno != ENOMEM) file = nameless_file();
  if (!file.is_open() || ::ftruncate(file.get(), static_cast<off_t>(bytes)) != 0) refuse("a memory file", bytes);
  return file;
}

void write_at(const Descriptor& file, std::size_t offset, const void* from, std::size_t bytes) {
  for (const char* at = static_cast<const char*>(from); bytes > 0;) {
    const ssize_t wrote = ::pwrite(file.get(), at, bytes, static_cast<off_t>(offset));
    if (wrote < 0 && errno == EINTR) continue;
    if (wrote <= 0) throw std::bad_alloc();
    at += wrote;
    offset += static_cast<std::size_t>(wrote);
    bytes -= static_cast<std::size_t>(wrote);
  }
}

bool seal(const Descriptor& file) noexcept {
  return ::fcntl(file.get(), F_ADD_SEALS, F_SEAL_SHRINK | F_SEAL_GROW | F_SEAL_WRITE | F_SEAL_SEAL) == 0;
}

Mapping::Mapping(const Descriptor& file, std::size_t bytes, Pages pages, Access access) : bytes_(bytes) {
  if (bytes == 0) return;
  const int may = access == Access::write ? PROT_READ | PROT_WRITE : PROT_READ;
  bytes_ = bytes = whole_pages(bytes);
  char* place = reserve(bytes);
  const int kind = access == Access::write ? MAP_SHARED : MAP_PRIVATE;
  void* mapped = ::mmap(place, bytes, may, kind | MAP_FIXED, file.get(), 0);
  if (mapped == MAP_FAILED) {
    const int fault = errno;
    ::munmap(place, bytes);
    errno = fault;
    refuse("a mapping", bytes);
  }
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

Assembly::Assembly(std::size_t bytes) : address_(reserve(bytes)), bytes_(bytes) {}

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
