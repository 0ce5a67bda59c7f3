// The name of before: include antcrew/study/find_races.hpp.
#pragma once

#include "antcrew/study/find_races.hpp"
