#include "antcrew/base/hash.hpp"

#include <cstdint>
#include <cstdio>
#include <fstream>

namespace antcrew::base_layer {
namespace {

class Hash {
 public:
  void add(const char* bytes, std::size_t count) noexcept {
    for (std::size_t i = 0; i < count; ++i) value_ = (value_ ^ static_cast<unsigned char>(bytes[i])) * 1099511628211u;
  }
  std::string text() const {
    char digits[17];
    std::snprintf(digits, sizeof digits, "%016llx", static_cast<unsigned long long>(value_));
    return digits;
  }

 private:
  std::uint64_t value_ = 14695981039346656037u;
};

}  // namespace

std::string file_hash(const std::string& path) {
  std::ifstream file(path, std::ios::binary);
  if (!file) return {};
  Hash hash;
  char buffer[1 << 16];
  while (file.read(buffer, sizeof buffer), file.gcount() > 0) hash.add(buffer, static_cast<std::size_t>(file.gcount()));
  return hash.text();
}

std::string text_hash(std::string_view text) {
  Hash hash;
  hash.add(text.data(), text.size());
  return hash.text();
}

}  // namespace antcrew::base_layer
