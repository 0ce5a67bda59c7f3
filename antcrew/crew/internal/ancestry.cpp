#include "antcrew/crew/internal/ancestry.hpp"

#include <string>

#include "antcrew/base/error.hpp"

namespace antcrew::internal {

void refuse_inherited(const char* crew) {
  could_not_run("crew.forked", crew,
                "it was made before this process was forked, and a fork takes no other threads or workers along",
                "make a crew of its own in this process");
}

}  // namespace antcrew::internal
