// What loops that give results agree on.
#pragma once

#include <stop_token>

#include "antcrew/base/error.hpp"

namespace antcrew::internal {

// Half a result is none. Asked to stop after the last piece is the same as before it: nobody could tell.
inline void refuse_half(const std::stop_token& stop, const char* loop) {
  if (!stop.stop_requested()) return;
  could_not_run("crew.stopped", loop, "the stop token ended it before every result was made",
                "catch this error where the stop was asked for");
}

}  // namespace antcrew::internal
