#include "support/at_once.hpp"

#include <cstdio>
#include <cstdlib>

namespace test {

Deadline::Deadline(const char* what, std::chrono::seconds limit)
    : watch_([this, what, limit] {
        const std::int64_t end = antcrew::now_ns() + std::chrono::nanoseconds(limit).count();
        while (!over_) {
          if (antcrew::now_ns() > end) {
            std::fprintf(stderr, "does not end: %s\n", what);
            std::_Exit(1);
          }
          std::this_thread::sleep_for(std::chrono::milliseconds(5));
        }
      }) {}

Deadline::~Deadline() {
  over_ = true;
  watch_.join();
}

}  // namespace test
