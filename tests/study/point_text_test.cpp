#include "antcrew/study/internal/point_text.hpp"

#include <doctest/doctest.h>

#include "antcrew/record/point.hpp"

using namespace antcrew;
using namespace antcrew::layers;

TEST_CASE("points in messages: a study without sizes has no size 0") {
  CHECK(internal::point_text({2000, {}}) == "size 2000");
  CHECK(internal::point_text({0, {}}) == "the only point");
  CHECK(internal::point_text({0, {{"tide", "spring"}}}) == "tide spring");
  CHECK(internal::point_text({50, {{"layers", std::size_t{3}}, {"tide", "neap"}}, Pin::near}) ==
        "size 50, layers 3, tide neap, pinned near");
}
