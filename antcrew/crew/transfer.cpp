#include "antcrew/crew/transfer.hpp"

#include <cstring>

#include "antcrew/base/error.hpp"

namespace antcrew {

using namespace base_layer;

void internal::refuse_short_value() {
  could_not_run("crew.transfer", "a value from another process", "it ends too early",
                "make its pack and unpack functions put and get the same things in the same order");
}

void Packer::block(const void* data, std::size_t bytes) {
  if (bytes < large_from) {
    const char* from = static_cast<const char*>(data);
    small_.insert(small_.end(), from, from + bytes);
    return;
  }
  apart(data, bytes);
}

void Packer::apart(const void* data, std::size_t bytes) {
  large_.push_back({data, bytes});
  large_bytes_ += bytes;
}

void Packer::put_common(const std::shared_ptr<internal::CommonMemory>& memory) {
  put(memory ? memory->serial : std::uint64_t{0});
  put(memory ? memory->mapping.bytes() : std::size_t{0});
  if (memory) commons_.push_back(memory);
}

void Packer::clear() noexcept {
  small_.clear();
  large_.clear();
  large_bytes_ = 0;
  commons_.clear();
}

void Unpacker::block(void* to, std::size_t bytes) {
  if (bytes >= Packer::large_from) return large_.read(to, bytes);
  if (bytes > left_) internal::refuse_short_value();
  if (bytes > 0) std::memcpy(to, at_, bytes);
  at_ += bytes;
  left_ -= bytes;
}

std::shared_ptr<internal::CommonMemory> Unpacker::get_common() {
  std::uint64_t serial = 0;
  std::size_t bytes = 0;
  get(serial);
  get(bytes);
  return serial == 0 ? nullptr : large_.common(serial, bytes);
}

}  // namespace antcrew
