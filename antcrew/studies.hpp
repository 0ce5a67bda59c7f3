// What most study programs need, in one light include: studies, threads and tasks, phases, tallies, the command line.
//
// Whatever else a program uses it includes by name: antcrew/algorithm/sort.hpp, antcrew/crew/process_crew.hpp, …;
// antcrew/antcrew.hpp has everything, and takes longer to compile.
#pragma once

#include "antcrew/cli/study_main.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/log/phase.hpp"
#include "antcrew/share/tally.hpp"
#include "antcrew/study/in_place_study.hpp"
#include "antcrew/study/study.hpp"
