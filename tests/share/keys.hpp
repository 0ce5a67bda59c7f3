// Keys to fill sets and maps with.
#pragma once

#include <cstddef>
#include <cstdint>

#include "antcrew/share/key_map.hpp"

namespace test {

// Spread over the whole range, 0 among them.
inline std::uint64_t key(std::size_t i, std::size_t distinct) {
  return (i * 2'654'435'761u % distinct) * 0x9E3779B97F4A7C15u;
}

// How many keys a worker of a KeyMap sums up for itself, for one test.
class FewOwnKeys {
 public:
  explicit FewOwnKeys(std::size_t keys) : before_(antcrew::internal::most_own_keys.exchange(keys)) {}
  ~FewOwnKeys() { antcrew::internal::most_own_keys.store(before_); }
  FewOwnKeys(const FewOwnKeys&) = delete;
  FewOwnKeys& operator=(const FewOwnKeys&) = delete;

 private:
  std::size_t before_;
};

}  // namespace test
