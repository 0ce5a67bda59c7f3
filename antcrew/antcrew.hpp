// Everything a study program needs, in one include.
#pragma once

#include "antcrew/cli/study_main.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/log/phase.hpp"
#include "antcrew/record/record_file.hpp"
#include "antcrew/study/in_place_study.hpp"
#include "antcrew/study/run.hpp"
#include "antcrew/study/study.hpp"
