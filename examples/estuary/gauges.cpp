// A tidal curve fitted to every gauge of the Brackwater estuary: work of very unequal size.
//
// Each fit is a least-squares problem over the gauge's whole record. The old gauges come first in the register and have
// records a hundred times as long as the new ones: whoever gets the front of the list has most of the work.
#include <Eigen/Dense>
#include <antcrew/studies.hpp>
#include <array>
#include <cmath>
#include <random>
#include <thread>
#include <vector>

namespace estuary {

struct Gauge {
  std::vector<double> hour;
  std::vector<double> level_m;
};

constexpr double pi = 3.14159265358979323846;
constexpr std::array<double, 3> degrees_per_hour = {28.984104, 30.0, 28.439730};
constexpr int unknowns = 1 + 2 * static_cast<int>(degrees_per_hour.size());
using Curve = std::array<double, unknowns>;  // mean level, then cosine and sine of each constituent

std::vector<Gauge> make_gauges(std::size_t n) {
  std::mt19937_64 random(18'590'611);
  std::normal_distribution<double> noise(0, 0.05);
  std::vector<Gauge> gauges(n);
  for (std::size_t g = 0; g < n; ++g) {
    // The first tenth has 100 times the record of the rest.
    const std::size_t readings = (g < (n + 9) / 10 ? 20'000 : 200) + random() % 100;
    gauges[g].hour.resize(readings);
    gauges[g].level_m.resize(readings);
    for (std::size_t i = 0; i < readings; ++i) {
      const double hour = 0.25 * static_cast<double>(i);
      gauges[g].hour[i] = hour;
      gauges[g].level_m[i] = 2 + 1.9 * std::cos((degrees_per_hour[0] * hour - 112) * pi / 180) +
                             0.6 * std::cos((degrees_per_hour[1] * hour - 151) * pi / 180) + noise(random);
    }
  }
  return gauges;
}

// Normal equations, solved once per gauge.
Curve fit(const Gauge& gauge) {
  Eigen::Matrix<double, unknowns, unknowns> normal = Eigen::Matrix<double, unknowns, unknowns>::Zero();
  Eigen::Matrix<double, unknowns, 1> right = Eigen::Matrix<double, unknowns, 1>::Zero();
  Eigen::Matrix<double, unknowns, 1> row;
  for (std::size_t i = 0; i < gauge.hour.size(); ++i) {
    row[0] = 1;
    for (std::size_t c = 0; c < degrees_per_hour.size(); ++c) {
      const double angle = degrees_per_hour[c] * gauge.hour[i] * pi / 180;
      row[static_cast<Eigen::Index>(1 + 2 * c)] = std::cos(angle);
      row[static_cast<Eigen::Index>(2 + 2 * c)] = std::sin(angle);
    }
    normal += row * row.transpose();
    right += gauge.level_m[i] * row;
  }
  const Eigen::Matrix<double, unknowns, 1> solved = normal.ldlt().solve(right);
  Curve curve{};
  for (int k = 0; k < unknowns; ++k) curve[static_cast<std::size_t>(k)] = solved[k];
  return curve;
}

std::vector<Curve> fit_all(const std::vector<Gauge>& gauges) {
  std::vector<Curve> curves(gauges.size());
  for (std::size_t g = 0; g < gauges.size(); ++g) curves[g] = fit(gauges[g]);
  return curves;
}

std::vector<Curve> fit_by_hand(const std::vector<Gauge>& gauges, int workers) {
  std::vector<Curve> curves(gauges.size());
  std::vector<std::jthread> threads;
  for (int w = 0; w < workers; ++w) {
    const auto mine = antcrew::even_part(gauges.size(), static_cast<std::size_t>(workers), static_cast<std::size_t>(w));
    threads.emplace_back([&, mine] {
      for (const std::size_t g : mine) curves[g] = fit(gauges[g]);
    });
  }
  threads.clear();  // joins
  return curves;
}

}  // namespace estuary

int main(int argc, char** argv) {
  using namespace antcrew;
  // Curves are compared number by number.
  const auto same_curves = [](const auto& expected, const auto& got) {
    if (expected.size() != got.size()) return false;
    for (std::size_t g = 0; g < expected.size(); ++g) {
      for (std::size_t k = 0; k < expected[g].size(); ++k) {
        if (!(std::fabs(expected[g][k] - got[g][k]) <= 1e-9)) return false;
      }
    }
    return true;
  };
  Study gauges("A tidal curve for every gauge", estuary::make_gauges, estuary::fit_all, same_curves);
  gauges.sizes({20, 200});

  gauges.variant<Workers>("threads by hand",
                          [](const auto& in, Workers workers) { return estuary::fit_by_hand(in, workers); });
  const auto evenly = gauges.variant<ThreadCrew>("split evenly", [](const auto& in, auto& crew) {
    return crew.collect(in.size(), [&](std::size_t g) { return estuary::fit(in[g]); });
  });
  const auto singly = gauges.variant<ThreadCrew>("one by one", [](const auto& in, auto& crew) {
    return crew.collect(in.size(), [&](std::size_t g) { return estuary::fit(in[g]); }, {.split = Split::chunks(1)});
  });
  gauges.variant<TaskCrew>("halved and stolen", [](const auto& in, auto& crew) {
    return crew.collect(in.size(), [&](std::size_t g) { return estuary::fit(in[g]); });
  });
  gauges.ladder({evenly, singly});  // what `antcrew explain` advises after the first
  return study_main(argc, argv, gauges);
}
