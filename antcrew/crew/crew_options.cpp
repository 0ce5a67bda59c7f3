#include "antcrew/crew/crew_options.hpp"

#include "antcrew/base/error.hpp"

namespace antcrew {

const char* name_of(Pin pin) noexcept {
  switch (pin) {
    case Pin::spread:
      return "spread";
    case Pin::close:
      return "close";
    case Pin::off:
      break;
  }
  return "off";
}

int checked_workers(long long count, const std::string& where) {
  if (count < 1 || count > max_workers) {
    bad_input("crew.workers", where, std::to_string(count) + " workers",
              "a crew has 1 to " + std::to_string(max_workers) + " workers");
  }
  return static_cast<int>(count);
}

}  // namespace antcrew
