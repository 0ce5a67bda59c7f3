#pragma once

#include <antcrew/ranks/rank_crew.hpp>

namespace test {

// Of all ranks that the launcher began.
antcrew::RankCrew& crew();

}  // namespace test
