#include <doctest/doctest.h>

#include <cstddef>
#include <initializer_list>
#include <vector>

#include "ranks/inside/crew.hpp"

using namespace antcrew;

namespace {

struct Shape {
  std::size_t rows = 0;
  std::size_t columns = 0;
};

double settled(double above, double left, double here, double right, double below) {
  return here + 0.1 * (above + below - 2 * here) + 0.15 * (left + right - 2 * here);
}

// One step over rows [first, last) of the inner ones; now and next are indexed by the whole grid.
template <class Now, class Next>
void step(const Now& now, Next& next, const Shape& shape, std::size_t first, std::size_t last) {
  for (std::size_t row = first; row < last; ++row) {
    for (std::size_t column = 0; column < shape.columns; ++column) {
      const std::size_t i = row * shape.columns + column;
      const bool edge = row == 0 || row + 1 == shape.rows || column == 0 || column + 1 == shape.columns;
      next[i] = edge ? now[i] : settled(now[i - shape.columns], now[i - 1], now[i], now[i + 1], now[i + shape.columns]);
    }
  }
}

std::vector<double> grid_of(const Shape& shape) {
  std::vector<double> depth(shape.rows * shape.columns);
  for (std::size_t i = 0; i < depth.size(); ++i) depth[i] = static_cast<double>(i * 7919 % 1000) / 10;
  return depth;
}

std::vector<double> expected_after(int steps, const Shape& shape) {
  std::vector<double> now = grid_of(shape);
  std::vector<double> next = now;
  for (int k = 0; k < steps; ++k) {
    step(now, next, shape, 0, shape.rows);
    now.swap(next);
  }
  return now;
}

bool same(const Column<double>& some, const std::vector<double>& others) {
  if (some.size() != others.size()) return false;
  for (std::size_t i = 0; i < some.size(); ++i) {
    if (some[i] != others[i]) return false;
  }
  return true;
}

}  // namespace

TEST_CASE("what was spread is gathered as it was, whatever the number of items") {
  RankCrew& crew = test::crew();
  for (const std::size_t n : std::initializer_list<std::size_t>{0, 1, 3, 4, 1000, 3'000'001}) {
    std::vector<double> items(n);
    for (std::size_t i = 0; i < n; ++i) items[i] = static_cast<double>(i);
    CAPTURE(n);
    const RankArray<double> array = crew.spread(items);
    CHECK(array.size() == n);
    CHECK(same(crew.gather(array), items));
  }
}

TEST_CASE("items are gathered into what is there already, and only where it has room for just these") {
  RankCrew& crew = test::crew();
  std::vector<int> items(61);
  for (std::size_t i = 0; i < items.size(); ++i) items[i] = static_cast<int>(i * i);
  const RankArray<int> array = crew.spread(items);
  std::vector<int> into(items.size(), -1);
  crew.gather(array, into);
  CHECK(into == items);
  into.resize(60);
  CHECK_THROWS_WITH_AS(crew.gather(array, into), doctest::Contains("60 items to gather 61 into"), Error);
  std::vector<int> nothing;
  crew.gather(crew.spread(nothing), nothing);
}

TEST_CASE("a copy has the items and edges of its original, and a life of its own") {
  RankCrew& crew = test::crew();
  std::vector<int> items(60);
  for (std::size_t i = 0; i < items.size(); ++i) items[i] = static_cast<int>(i);
  RankArray<int> array = crew.spread(items, {.halo = 3, .unit = 6});
  const RankArray<int> copy = crew.copy(array);
  crew.fill(array, [](std::size_t) { return -1; });
  const auto edges = crew.on_each(
      [](RankPart<int>& part) {
        int wrong = 0;
        for (std::size_t i = part.seen().first; i < part.seen().last; ++i) wrong += part[i] != static_cast<int>(i);
        return wrong;
      },
      copy);
  for (const int wrong : edges) CHECK(wrong == 0);
  array = RankArray<int>();  // gone, and with it nothing of the copy
  const auto all = crew.gather(copy);
  REQUIRE(all.size() == items.size());
  for (std::size_t i = 0; i < items.size(); ++i) CHECK(all[i] == items[i]);
}

TEST_CASE("neighbours' edges: as they were spread, and as they are after an exchange") {
  RankCrew& crew = test::crew();
  for (const std::size_t rows : std::initializer_list<std::size_t>{1, 2, 5, 12}) {
    CAPTURE(rows);
    std::vector<int> items(rows * 6);
    for (std::size_t i = 0; i < items.size(); ++i) items[i] = static_cast<int>(i);
    RankArray<int> array = crew.spread(items, {.halo = 3, .unit = 6});
    const auto wrong = [&](int offset) {
      const auto counts = crew.on_each(
          [](const RankPart<int>& mine, const int& more) {
            int bad = 0;
            for (const std::size_t i : mine.seen()) bad += mine[i] != static_cast<int>(i) + more ? 1 : 0;
            return bad;
          },
          array, offset);
      int all = 0;
      for (const int count : counts) all += count;
      return all;
    };
    CHECK(wrong(0) == 0);
    crew.on_each(
        [](RankPart<int>& mine) {
          for (int& item : mine.own()) item += 100;
        },
        array);
    const auto seen =
        crew.on_each([](const RankPart<int>& mine) { return mine.seen().size() - mine.range().size(); }, array);
    std::size_t edges = 0;
    for (const std::size_t some : seen) edges += some;
    CHECK((wrong(100) == 0) == (edges == 0));
    array.begin_exchange();
    array.end_exchange();
    CHECK(wrong(100) == 0);
    crew.fill(
        array, [](std::size_t i, const int& more) { return static_cast<int>(i) + more; }, 7);
    array.exchange();
    CHECK(wrong(7) == 0);
  }
}

TEST_CASE("silt settles as in one process, to the last bit: exchanged from rank 0, and by the bodies themselves") {
  RankCrew& crew = test::crew();
  for (const Shape shape : {Shape{37, 23}, Shape{3, 9}, Shape{64, 2'000}}) {
    constexpr int steps = 9;
    const std::vector<double> expected = expected_after(steps, shape);
    RankArray<double> now = crew.spread(grid_of(shape), {.halo = shape.columns});
    RankArray<double> next = crew.array<double>(now.size(), {.halo = shape.columns});
    for (int k = 0; k < steps; ++k) {
      now.exchange();
      crew.on_each(
          [](const RankPart<double>& from, RankPart<double>& to, const Shape& its) {
            step(from, to, its, from.range().first / its.columns, from.range().last / its.columns);
          },
          now, next, shape);
      std::swap(now, next);
    }
    CHECK(same(crew.gather(now), expected));

    now = crew.spread(grid_of(shape), {.halo = shape.columns});
    crew.on_each(
        [](RankPart<double>& a, RankPart<double>& b, const Shape& its) {
          RankPart<double>* from = &a;
          RankPart<double>* to = &b;
          const std::size_t first = a.range().first / its.columns;
          const std::size_t last = a.range().last / its.columns;
          for (int k = 0; k < steps + 1; ++k) {
            from->begin_exchange();
            if (last - first > 2) step(*from, *to, its, first + 1, last - 1);  // meanwhile: rows that need no edge
            from->end_exchange();
            if (first < last) step(*from, *to, its, first, first + 1);
            if (last - first > 1) step(*from, *to, its, last - 1, last);
            std::swap(from, to);
          }
        },
        now, next, shape);
    CHECK(same(crew.gather(now), expected_after(steps + 1, shape)));
  }
}

TEST_CASE("an edge that would reach past a neighbour is refused") {
  RankCrew& crew = test::crew();
  CHECK_THROWS_WITH_AS(crew.spread(std::vector<int>(10), {.halo = 4}), doctest::Contains("no whole number"), Error);
  if (crew.workers() > 1) {
    CHECK_THROWS_WITH_AS(crew.spread(std::vector<int>(12), {.halo = 4, .unit = 2}), doctest::Contains("halo"), Error);
  }
  CHECK_THROWS_AS(crew.gather(RankArray<int>()), Error);
  CHECK(crew.on_each([] { return 1; })[0] == 1);
}
