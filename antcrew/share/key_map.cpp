#include "antcrew/share/key_map.hpp"

#include "antcrew/base/error.hpp"

namespace antcrew::internal {

void refuse_mixing() {
  bad_input("keys.mixed", "KeyMap", "one map was both added to and updated in place",
            "use two maps, or do the adding inside update()");
}

}  // namespace antcrew::internal
