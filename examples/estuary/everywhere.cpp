// The same work of the Brackwater estuary on threads, on processes that stand by, and on ranks of MPI, which may be on
// many machines.
//
// A body for processes has no state of its own: what it needs is given after it. So one function serves all three, and
// what leaving the process, and then the machine, costs stands in one table each: heights that go out and come back
// (tides), neighbours' edges in every step (silt), items of very unequal cost (gauges), large results (archive).
#include <antcrew/antcrew.hpp>
#include <antcrew/ranks/rank_crew.hpp>
#include <cmath>
#include <string>
#include <utility>
#include <vector>

#include "estuary/tide_heights.hpp"

namespace estuary {

using namespace antcrew;

// Tides: independent and even.
constexpr auto tide_at = [](std::size_t i, const std::vector<Sounding>& soundings) { return height(soundings[i]); };

std::vector<double> all_tides(const std::vector<Sounding>& soundings) {
  std::vector<double> heights;
  for (std::size_t i = 0; i < soundings.size(); ++i) heights.push_back(tide_at(i, soundings));
  return heights;
}

// Silt: steps of diffusion over rows, each of which needs those beside it.
constexpr int steps = 40;

struct Bed {
  std::size_t side = 0;
  std::vector<double> depth;
};

Bed make_bed(std::size_t side) {
  Bed bed{side, std::vector<double>(side * side)};
  for (std::size_t i = 0; i < bed.depth.size(); ++i) bed.depth[i] = 3 + std::sin(0.01 * static_cast<double>(i % 9973));
  return bed;
}

// The rows [first, last), indexed by the whole bed; the rim stays as it is.
template <class Now, class Next>
void settle_rows(const Now& now, Next& next, std::size_t side, std::size_t first, std::size_t last) {
  for (std::size_t y = first; y < last; ++y) {
    for (std::size_t x = 0; x < side; ++x) {
      const std::size_t i = y * side + x;
      const bool rim = y == 0 || y + 1 == side || x == 0 || x + 1 == side;
      next[i] = rim ? now[i] : now[i] + 0.2 * (now[i - 1] + now[i + 1] + now[i - side] + now[i + side] - 4 * now[i]);
    }
  }
}

std::vector<double> settled(const Bed& bed) {
  std::vector<double> now = bed.depth;
  std::vector<double> next(now.size());
  for (int step = 0; step < steps; ++step) {
    settle_rows(now, next, bed.side, 0, bed.side);
    now.swap(next);
  }
  return now;
}

std::vector<double> settled_by_threads(const Bed& bed, ThreadCrew& crew) {
  std::vector<double> now = bed.depth;
  std::vector<double> next(now.size());
  for (int step = 0; step < steps; ++step) {
    crew.ranges(bed.side, [&](Range rows) { settle_rows(now, next, bed.side, rows.first, rows.last); });
    now.swap(next);
  }
  return now;
}

// One row's new values, for processes that share two arrays.
std::vector<double> settled_in_common(const Bed& bed, StandingCrew& crew) {
  CommonArray<double> now(bed.depth.size());
  CommonArray<double> next(bed.depth.size());
  for (std::size_t i = 0; i < bed.depth.size(); ++i) now[i] = bed.depth[i];
  const auto one = [](std::size_t i, const CommonArray<double>& from, const std::size_t& side) {
    const std::size_t y = i / side;
    const std::size_t x = i % side;
    const bool rim = y == 0 || y + 1 == side || x == 0 || x + 1 == side;
    return rim ? from[i] : from[i] + 0.2 * (from[i - 1] + from[i + 1] + from[i - side] + from[i + side] - 4 * from[i]);
  };
  for (int step = 0; step < steps; ++step) {
    crew.fill(next, one, now, bed.side);
    std::swap(now, next);
  }
  return {now.begin(), now.end()};
}

// Rank 0 begins each step.
std::vector<double> settled_step_by_step(const Bed& bed, RankCrew& crew) {
  RankArray<double> now = crew.spread(bed.depth, {.halo = bed.side});
  RankArray<double> next = crew.array<double>(now.size(), {.halo = bed.side});
  for (int step = 0; step < steps; ++step) {
    now.exchange();
    crew.on_each(
        [](const RankPart<double>& from, RankPart<double>& to, const std::size_t& side) {
          settle_rows(from, to, side, from.range().first / side, from.range().last / side);
        },
        now, next, bed.side);
    std::swap(now, next);
  }
  const Column<double> all = crew.gather(now);
  return {all.begin(), all.end()};
}

// The ranks go on by themselves, and compute the rows that need no edge while edges are on their way.
std::vector<double> settled_by_the_ranks(const Bed& bed, RankCrew& crew) {
  RankArray<double> depth = crew.spread(bed.depth, {.halo = bed.side});
  RankArray<double> other = crew.array<double>(depth.size(), {.halo = bed.side});
  crew.on_each(
      [](RankPart<double>& a, RankPart<double>& b, const std::size_t& side) {
        RankPart<double>* from = &a;
        RankPart<double>* to = &b;
        const std::size_t first = a.range().first / side;
        const std::size_t last = a.range().last / side;
        for (int step = 0; step < steps; ++step) {
          from->begin_exchange();
          if (last - first > 2) settle_rows(*from, *to, side, first + 1, last - 1);
          from->end_exchange();
          if (first < last) settle_rows(*from, *to, side, first, first + 1);
          if (last - first > 1) settle_rows(*from, *to, side, last - 1, last);
          std::swap(from, to);
        }
      },
      depth, other, bed.side);
  static_assert(steps % 2 == 0, "the last step wrote into the first array");
  const Column<double> all = crew.gather(depth);
  return {all.begin(), all.end()};
}

// Gauges: the mean of a gauge takes the longer the more it was read, and few were read most.
std::size_t readings_of(std::size_t gauge) {
  return gauge % 97 == 0 ? 400'000 : 2'000;
}
constexpr auto mean_of = [](std::size_t gauge, const std::size_t& year) {
  double sum = 0;
  const std::size_t count = readings_of(gauge);
  for (std::size_t k = 0; k < count; ++k) sum += std::cos(static_cast<double>(k * year % 977 + gauge));
  return sum / static_cast<double>(count);
};
struct Year {
  std::size_t gauges = 0;
  std::size_t year = 1987;
};
std::vector<double> all_means(const Year& of) {
  std::vector<double> means;
  for (std::size_t gauge = 0; gauge < of.gauges; ++gauge) means.push_back(mean_of(gauge, of.year));
  return means;
}

// Archive: a page of text from each day, 64 KiB.
constexpr auto page_of = [](std::size_t day, const std::string& station) {
  std::string page;
  while (page.size() < 64 * 1024) {
    page += station + " " + std::to_string(day * 1440 + page.size()) + " " + std::to_string(day % 97) + "\n";
  }
  return page;
};
struct Days {
  std::size_t count = 0;
  std::string station = "Mole End";
};
std::vector<std::string> all_pages(const Days& days) {
  std::vector<std::string> pages;
  for (std::size_t day = 0; day < days.count; ++day) pages.push_back(page_of(day, days.station));
  return pages;
}

template <class T>
std::vector<T> as_vector(Column<T>&& all) {
  return {std::make_move_iterator(all.begin()), std::make_move_iterator(all.end())};
}

}  // namespace estuary

int main(int argc, char** argv) {
  using namespace antcrew;
  using namespace estuary;

  Study tides("Tides everywhere", make_soundings, all_tides, within(1e-9));
  tides.sizes({20'000});
  tides.variant<ThreadCrew>("tides", [](const auto& soundings, auto& crew) {
    return as_vector(crew.collect(soundings.size(), [&](std::size_t i) { return tide_at(i, soundings); }));
  });
  tides.on_every_crew<StandingCrew, RankCrew>("tides", [](const auto& soundings, auto& crew) {
    return as_vector(crew.collect(soundings.size(), tide_at, soundings));
  });

  Study silt("Silt everywhere", make_bed, settled, within(1e-12));
  silt.sizes({600});
  silt.variant<ThreadCrew>("rows shared out", settled_by_threads);
  silt.variant<StandingCrew>("items in common memory", settled_in_common);
  silt.variant<RankCrew>("step by step", settled_step_by_step);
  silt.variant<RankCrew>("by the ranks", settled_by_the_ranks);

  Study gauges(
      "Gauges everywhere", [](std::size_t count) { return Year{count}; }, all_means, within(1e-12));
  gauges.sizes({400});
  gauges.variant<ThreadCrew>("one at a time", [](const Year& of, auto& crew) {
    return as_vector(crew.collect(of.gauges, [&](std::size_t gauge) { return mean_of(gauge, of.year); },
                                  {.split = Split::chunks(1)}));
  });
  gauges.on_every_crew<StandingCrew, RankCrew>("one at a time", [](const Year& of, auto& crew) {
    return as_vector(crew.collect(of.gauges, Split::chunks(1), mean_of, of.year));
  });

  Study archive(
      "Archive everywhere", [](std::size_t count) { return Days{count}; }, all_pages);
  archive.sizes({300});
  archive.variant<ThreadCrew>("pages", [](const Days& days, auto& crew) {
    return as_vector(crew.collect(days.count, [&](std::size_t day) { return page_of(day, days.station); }));
  });
  archive.on_every_crew<StandingCrew, RankCrew>(
      "pages", [](const Days& days, auto& crew) { return as_vector(crew.collect(days.count, page_of, days.station)); });
  return study_main(argc, argv, tides, silt, gauges, archive);
}
