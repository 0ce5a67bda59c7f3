// All of Ant Crew in one include, and the standard headers that studies often use. antcrew/studies.hpp has what most
// studies need, and compiles in half the time.
#pragma once

#include <algorithm>
#include <functional>
#include <map>
#include <memory>
#include <stop_token>

#include "antcrew/algorithm/count.hpp"
#include "antcrew/algorithm/extremes.hpp"
#include "antcrew/algorithm/filter.hpp"
#include "antcrew/algorithm/find.hpp"
#include "antcrew/algorithm/groups.hpp"
#include "antcrew/algorithm/merge.hpp"
#include "antcrew/algorithm/rearrange.hpp"
#include "antcrew/algorithm/scan.hpp"
#include "antcrew/algorithm/sort.hpp"
#include "antcrew/cli/study_main.hpp"
#include "antcrew/crew/common_array.hpp"
#include "antcrew/crew/own_stack.hpp"
#include "antcrew/crew/process_crew.hpp"
#include "antcrew/crew/standing_crew.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/task_graph.hpp"
#include "antcrew/crew/task_group.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/crew/watch.hpp"
#include "antcrew/crew/when.hpp"
#include "antcrew/crew/worker.hpp"
#include "antcrew/log/phase.hpp"
#include "antcrew/record/record_file.hpp"
#include "antcrew/share/bounded_queue.hpp"
#include "antcrew/share/growing_vector.hpp"
#include "antcrew/share/key_map.hpp"
#include "antcrew/share/key_set.hpp"
#include "antcrew/share/locked.hpp"
#include "antcrew/share/pipeline.hpp"
#include "antcrew/share/tally.hpp"
#include "antcrew/study/in_place_study.hpp"
#include "antcrew/study/rule.hpp"
#include "antcrew/study/run.hpp"
#include "antcrew/study/study.hpp"
