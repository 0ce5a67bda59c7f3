#include "antcrew/crew/internal/results.hpp"

#include <string>

#include "antcrew/base/error.hpp"

namespace antcrew::internal {

void refuse_half(const AnyStopToken& stop, const char* loop) {
  if (!stop.stop_requested()) return;
  could_not_run("crew.stopped", loop, "the stop token ended it before every result was made",
                "catch this error where the stop was asked for");
}

void refuse_half(std::size_t done, std::size_t n, const char* loop) {
  if (done == n) return;
  could_not_run("crew.stopped", loop,
                "the stop token ended it when " + std::to_string(done) + " of " + std::to_string(n) + " were done",
                "catch this error where the stop was asked for");
}

}  // namespace antcrew::internal
