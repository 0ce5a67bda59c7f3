// Silt settling and spreading on the floor of the Brackwater estuary: time steps of diffusion on a grid.
//
// Two arrays, one read and one written in each step, and a barrier after each: little arithmetic for much memory. The
// arrays are made once, outside the loop. The work changes its input, so this is an in-place study.
#include <antcrew/studies.hpp>
#include <barrier>
#include <cmath>
#include <thread>
#include <utility>
#include <vector>

namespace estuary {

constexpr int steps = 20;

struct Bed {
  std::size_t side = 0;
  std::vector<double> depth;
  std::vector<double> next;
};

Bed make_bed(std::size_t side) {
  Bed bed{side, std::vector<double>(side * side), std::vector<double>(side * side)};
  for (std::size_t i = 0; i < side * side; ++i) bed.depth[i] = 3 + std::sin(0.01 * static_cast<double>(i % 9973));
  bed.next = bed.depth;  // the rim stays as it is
  return bed;
}

void step_row(Bed& bed, std::size_t y) {
  const std::size_t side = bed.side;
  const double* row = bed.depth.data() + y * side;
  double* out = bed.next.data() + y * side;
  for (std::size_t x = 1; x + 1 < side; ++x) {
    out[x] = row[x] + 0.2 * (row[x - 1] + row[x + 1] + row[x - side] + row[x + side] - 4 * row[x]);
  }
}

void settle(Bed& bed) {
  for (int step = 0; step < steps; ++step) {
    for (std::size_t y = 1; y + 1 < bed.side; ++y) step_row(bed, y);
    std::swap(bed.depth, bed.next);
  }
}

antcrew::Range inner_rows(const Bed& bed, int workers, int w) {
  const auto part = antcrew::even_part(bed.side - 2, static_cast<std::size_t>(workers), static_cast<std::size_t>(w));
  return {part.first + 1, part.last + 1};
}

// What is often written first: threads begun and joined again in every step.
void settle_with_new_threads(Bed& bed, int workers) {
  for (int step = 0; step < steps; ++step) {
    std::vector<std::jthread> threads;
    for (int w = 0; w < workers; ++w) {
      threads.emplace_back([&bed, rows = inner_rows(bed, workers, w)] {
        for (const std::size_t y : rows) step_row(bed, y);
      });
    }
    threads.clear();  // joins
    std::swap(bed.depth, bed.next);
  }
}

// Threads begun once, which meet at a barrier after every step.
void settle_with_a_barrier(Bed& bed, int workers) {
  std::barrier all_done(workers, [&bed]() noexcept { std::swap(bed.depth, bed.next); });
  std::vector<std::jthread> threads;
  for (int w = 0; w < workers; ++w) {
    threads.emplace_back([&, rows = inner_rows(bed, workers, w)] {
      for (int step = 0; step < steps; ++step) {
        for (const std::size_t y : rows) step_row(bed, y);
        all_done.arrive_and_wait();
      }
    });
  }
}

}  // namespace estuary

int main(int argc, char** argv) {
  using namespace antcrew;
  InPlaceStudy silt("Silt after twenty time steps", estuary::make_bed, estuary::settle, &estuary::Bed::depth,
                    within(1e-12));
  silt.sizes({100, 400, 1600});

  silt.variant<Workers>("new threads each step",
                        [](auto& bed, Workers workers) { estuary::settle_with_new_threads(bed, workers); });
  silt.variant<Workers>("threads at a barrier",
                        [](auto& bed, Workers workers) { estuary::settle_with_a_barrier(bed, workers); });
  silt.on_every_crew("rows shared out", [](estuary::Bed& bed, auto& crew) {
    for (int step = 0; step < estuary::steps; ++step) {
      crew.each(bed.side - 2, [&](std::size_t y) { estuary::step_row(bed, y + 1); });
      std::swap(bed.depth, bed.next);
    }
  });
  return study_main(argc, argv, silt);
}
