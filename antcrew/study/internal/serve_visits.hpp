// The side of a cell process: visits as they are ordered, over a channel.
#pragma once

#include <functional>

#include "antcrew/study/channel.hpp"
#include "antcrew/study/layer.hpp"
#include "antcrew/study/local_host.hpp"
#include "antcrew/study/study_base.hpp"
#include "antcrew/study/visit.hpp"

namespace antcrew::internal {

// What was printed is told with the visit in which it was.
void flush_prints();

// Until the channel closes. What was made for the visits stays: the process is to end by _exit(). finish: has each
// visit before it is told.
void serve_visits(Channel& run, const StudyBase& study, const CellSpec& cell, const Point& at, ProcessBoard* board,
                  const MadeBlock& made, const std::function<void(Visit&)>& finish = {});

}  // namespace antcrew::internal
