// The crew of ranks against MPI by hand, in the same ranks, in turns. Begun by a launcher; one figure a line: name,
// tab, the median of the ratios of pairs, tab, the second lowest and the second highest of them.
#include <algorithm>
#include <antcrew/ranks/rank_crew.hpp>
#include <cmath>
#include <cstdio>
#include <functional>
#include <string>
#include <vector>

#include "antcrew/machine/clock.hpp"

namespace {

using namespace antcrew;

constexpr int pairs = 11;

// The body runs in all ranks; rank 0 says how long it took there.
template <class Body, class... A>
double by_hand_s(RankCrew& crew, Body body, const A&... arguments) {
  static std::int64_t took_ns = 0;
  struct Timed {
    void operator()(const A&... given) const {
      MPI_Barrier(current_rank().communicator);
      const std::int64_t begun = now_ns();
      Body()(given...);
      took_ns = now_ns() - begun;
    }
  };
  (void)body;
  crew.on_each(Timed(), arguments...);
  return static_cast<double>(took_ns) * 1e-9;
}

template <class Fn>
double crew_s(Fn&& fn) {
  const std::int64_t begun = now_ns();
  fn();
  return seconds_since(begun);
}

template <class Hand, class Own>
void compare(const std::string& name, Hand&& hand, Own&& own) {
  std::vector<double> ratios;
  hand();
  own();
  double least_hand = 1e9;
  for (int k = 0; k < pairs; ++k) {
    double by_hand = 0;
    double by_crew = 0;
    if (k % 2 == 0) {
      by_hand = hand();
      by_crew = own();
    } else {
      by_crew = own();
      by_hand = hand();
    }
    ratios.push_back(by_crew / by_hand);
    least_hand = std::min(least_hand, by_hand);
  }
  std::sort(ratios.begin(), ratios.end());
  std::printf("%s\t%.3f\t%.3f\t%.3f\n", name.c_str(), ratios[pairs / 2], ratios[1], ratios[pairs - 2]);
  std::fflush(stdout);
}

constexpr int empty_calls = 2'000;

void ask_all_by_hand() {
  const CurrentRank at = current_rank();
  std::vector<char> letter(64);
  for (int k = 0; k < empty_calls; ++k) {
    if (at.rank == 0) {
      for (int other = 1; other < at.ranks; ++other) MPI_Send(letter.data(), 64, MPI_BYTE, other, 0, at.communicator);
      for (int other = 1; other < at.ranks; ++other) {
        MPI_Recv(letter.data(), 64, MPI_BYTE, other, 0, at.communicator, MPI_STATUS_IGNORE);
      }
    } else {
      MPI_Recv(letter.data(), 64, MPI_BYTE, 0, 0, at.communicator, MPI_STATUS_IGNORE);
      MPI_Send(letter.data(), 64, MPI_BYTE, 0, 0, at.communicator);
    }
  }
}

// n divides by the number of ranks here.
template <class Item>
void gather_by_hand(std::size_t n) {
  const CurrentRank at = current_rank();
  const std::size_t each = n / static_cast<std::size_t>(at.ranks);
  std::vector<double> mine(each);
  for (std::size_t i = 0; i < each; ++i) mine[i] = Item()(each * static_cast<std::size_t>(at.rank) + i);
  std::vector<double> all(at.rank == 0 ? n : 0);
  MPI_Gather(mine.data(), static_cast<int>(each), MPI_DOUBLE, all.data(), static_cast<int>(each), MPI_DOUBLE, 0,
             at.communicator);
}

struct Cheap {
  double operator()(std::size_t i) const { return static_cast<double>(i) * 0.5; }
};
struct Tide {
  double operator()(std::size_t i) const {
    double height = 0;
    for (int wave = 1; wave < 20; ++wave) height += std::cos(static_cast<double>(i) * 0.01 / wave) / wave;
    return height;
  }
};

struct Bed {
  std::size_t rows;
  std::size_t columns;
  int steps;
};

template <class Now, class Next>
void settle(const Now& now, Next& next, const Bed& bed, std::size_t first, std::size_t last) {
  for (std::size_t row = std::max<std::size_t>(1, first); row < std::min(bed.rows - 1, last); ++row) {
    const std::size_t at = row * bed.columns;
    for (std::size_t i = at + 1; i < at + bed.columns - 1; ++i) {
      next[i] = now[i] + 0.1 * (now[i - bed.columns] + now[i + bed.columns] - 2 * now[i]) +
                0.15 * (now[i - 1] + now[i + 1] - 2 * now[i]);
    }
  }
}

std::vector<double> bottom(const Bed& bed) {
  std::vector<double> depth(bed.rows * bed.columns);
  for (std::size_t i = 0; i < depth.size(); ++i) depth[i] = static_cast<double>(i * 7919 % 1000);
  return depth;
}

// Rows divide by the number of ranks here.
void silt_by_hand(const Bed& bed) {
  const CurrentRank at = current_rank();
  const std::size_t rows = bed.rows / static_cast<std::size_t>(at.ranks);
  const std::size_t columns = bed.columns;
  const int side = static_cast<int>(columns);
  const int count = static_cast<int>(rows * columns);
  std::vector<double> whole;
  if (at.rank == 0) whole = bottom(bed);
  std::vector<double> now((rows + 2) * columns);
  MPI_Scatter(whole.data(), count, MPI_DOUBLE, now.data() + columns, count, MPI_DOUBLE, 0, at.communicator);
  std::vector<double> next = now;
  const int above = at.rank > 0 ? at.rank - 1 : MPI_PROC_NULL;
  const int below = at.rank + 1 < at.ranks ? at.rank + 1 : MPI_PROC_NULL;
  const std::size_t offset = static_cast<std::size_t>(at.rank) * rows;
  for (int step = 0; step < bed.steps; ++step) {
    MPI_Sendrecv(now.data() + rows * columns, side, MPI_DOUBLE, below, 0, now.data(), side, MPI_DOUBLE, above, 0,
                 at.communicator, MPI_STATUS_IGNORE);
    MPI_Sendrecv(now.data() + columns, side, MPI_DOUBLE, above, 1, now.data() + (rows + 1) * columns, side, MPI_DOUBLE,
                 below, 1, at.communicator, MPI_STATUS_IGNORE);
    // By the index in the whole bed, as the crew's body has it.
    const double* from = now.data() + columns - offset * columns;
    double* to = next.data() + columns - offset * columns;
    settle(from, to, bed, offset, offset + rows);
    now.swap(next);
  }
  MPI_Gather(now.data() + columns, count, MPI_DOUBLE, whole.data(), count, MPI_DOUBLE, 0, at.communicator);
}

template <bool by_the_bodies>
void silt(RankCrew& crew, const Bed& bed) {
  std::vector<double> depth = bottom(bed);
  RankArray<double> now = crew.spread(depth, {.halo = bed.columns});
  RankArray<double> next = crew.copy(now);
  if constexpr (by_the_bodies) {
    crew.on_each(
        [](RankPart<double>& a, RankPart<double>& b, const Bed& its) {
          RankPart<double>* from = &a;
          RankPart<double>* to = &b;
          for (int step = 0; step < its.steps; ++step) {
            from->exchange();
            settle(*from, *to, its, from->range().first / its.columns, from->range().last / its.columns);
            std::swap(from, to);
          }
        },
        now, next, bed);
  } else {
    for (int step = 0; step < bed.steps; ++step) {
      now.exchange();
      crew.on_each(
          [](const RankPart<double>& from, RankPart<double>& to, const Bed& its) {
            settle(from, to, its, from.range().first / its.columns, from.range().last / its.columns);
          },
          now, next, bed);
      std::swap(now, next);
    }
  }
  crew.gather(bed.steps % 2 == 0 || !by_the_bodies ? now : next, depth);
}

int run(RankCrew& crew) {
  const std::string ranks = ", " + std::to_string(crew.workers()) + " ranks";
  compare(
      "empty on_each / 64 bytes by hand" + ranks, [&] { return by_hand_s(crew, [] { ask_all_by_hand(); }); },
      [&] {
        return crew_s([&] {
          for (int k = 0; k < empty_calls; ++k) crew.on_each([] {});
        });
      });
  const std::size_t much = 12'500'000 / 4 * 4;
  compare(
      "collect of 100 MB / gather by hand" + ranks,
      [&] {
        return by_hand_s(
            crew, [](const std::size_t& n) { gather_by_hand<Cheap>(n); }, much);
      },
      [&] { return crew_s([&] { crew.collect(much, [](std::size_t i) { return Cheap()(i); }); }); });
  const std::size_t tides = 400'000;
  compare(
      "tides / by hand" + ranks,
      [&] {
        return by_hand_s(
            crew, [](const std::size_t& n) { gather_by_hand<Tide>(n); }, tides);
      },
      [&] { return crew_s([&] { crew.collect(tides, [](std::size_t i) { return Tide()(i); }); }); });
  const Bed bed{1'200, 1'000, 60};
  compare(
      "silt, steps from rank 0 / by hand" + ranks,
      [&] {
        return by_hand_s(
            crew, [](const Bed& its) { silt_by_hand(its); }, bed);
      },
      [&] { return crew_s([&] { silt<false>(crew, bed); }); });
  compare(
      "silt, steps in the body / by hand" + ranks,
      [&] {
        return by_hand_s(
            crew, [](const Bed& its) { silt_by_hand(its); }, bed);
      },
      [&] { return crew_s([&] { silt<true>(crew, bed); }); });
  return 0;
}

}  // namespace

int main(int argc, char** argv) {
  return antcrew::on_ranks(argc, argv, run);
}
