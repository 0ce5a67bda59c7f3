// Test cases that are rank 0's; the other ranks serve it.
#define DOCTEST_CONFIG_IMPLEMENT
#include <doctest/doctest.h>

#include "ranks/inside/crew.hpp"

namespace {
antcrew::RankCrew* crew_of_all = nullptr;
}

antcrew::RankCrew& test::crew() {
  return *crew_of_all;
}

int main(int argc, char** argv) {
  return antcrew::on_ranks(argc, argv, [&](antcrew::RankCrew& crew) {
    crew_of_all = &crew;
    return doctest::Context(argc, argv).run();
  });
}
