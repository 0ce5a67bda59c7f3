#include "antcrew/study/internal/run_parts.hpp"

#include <sys/resource.h>

#include <algorithm>
#include <ctime>

namespace antcrew::internal {
namespace {

// Not std::shuffle: its order differs between libraries.
void shuffle(std::vector<std::size_t>& order, std::mt19937_64& random) {
  for (std::size_t i = order.size(); i > 1; --i) std::swap(order[i - 1], order[random() % i]);
}

}  // namespace

std::string utc_now() {
  const std::time_t now = std::time(nullptr);
  std::tm parts{};
  gmtime_r(&now, &parts);
  char text[32];
  std::strftime(text, sizeof text, "%Y-%m-%dT%H:%M:%SZ", &parts);
  return text;
}

std::uint64_t fresh_seed() {
  std::random_device device;
  return ((static_cast<std::uint64_t>(device()) << 32 | device()) & ((1ull << 53) - 1)) | 1;
}

// Cells in random order, the baseline once in each third. With few cells thirds would force the baseline to the front,
// where every round's first visit is a little slower: then all visits are simply shuffled.
std::vector<std::size_t> order_of_round(std::size_t baseline, std::vector<std::size_t> order, std::mt19937_64& random) {
  const std::size_t others = order.size();
  if (others < 3 * baseline_visits) {
    order.insert(order.end(), baseline_visits, baseline);
    shuffle(order, random);
    return order;
  }
  shuffle(order, random);
  for (std::size_t third = baseline_visits; third-- > 0;) {
    const std::size_t first = others * third / baseline_visits;
    const std::size_t last = others * (third + 1) / baseline_visits;
    const std::size_t place = first + random() % (last - first + 1);
    order.insert(order.begin() + static_cast<std::ptrdiff_t>(place), baseline);
  }
  return order;
}

double own_cpu_s() {
  double sum = 0;
  for (const int who : {RUSAGE_SELF, RUSAGE_CHILDREN}) {
    rusage r{};
    getrusage(who, &r);
    for (const timeval& t : {r.ru_utime, r.ru_stime})
      sum += static_cast<double>(t.tv_sec) + static_cast<double>(t.tv_usec) * 1e-6;
  }
  return sum;
}

Cell empty_cell(const VariantDefinition& variant, int workers, std::size_t point) {
  Cell cell;
  cell.variant = variant.name;
  cell.crew = variant.crew;
  cell.kind = variant.kind;
  cell.workers = workers;
  cell.point = point;
  cell.probe_of = variant.probe_of;
  return cell;
}

}  // namespace antcrew::internal
