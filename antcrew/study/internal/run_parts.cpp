#include "antcrew/study/internal/run_parts.hpp"
#include "antcrew/record/record.hpp"

#include <sys/resource.h>

#include <algorithm>
#include <cstdio>
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

double seconds_from_to(const std::string& earlier, const std::string& later) {
  std::tm from{};
  std::tm to{};
  if (strptime(earlier.c_str(), "%Y-%m-%dT%H:%M:%SZ", &from) == nullptr) return 0;
  if (strptime(later.c_str(), "%Y-%m-%dT%H:%M:%SZ", &to) == nullptr) return 0;
  return std::max(0.0, std::difftime(timegm(&to), timegm(&from)));
}

std::uint64_t fresh_seed() {
  std::random_device device;
  return ((static_cast<std::uint64_t>(device()) << 32 | device()) & ((1ull << 53) - 1)) | 1;
}

std::string fresh_run() {
  std::random_device device;
  char text[17];
  std::snprintf(text, sizeof text, "%08x%08x", device(), device());
  return text;
}

std::size_t baseline_visits(std::size_t cells) noexcept {
  return std::clamp<std::size_t>(cells / 6, 1, 3);
}

// One that is visited more than once comes once in each equal part of the round.
std::vector<std::size_t> order_of_round(const std::vector<std::size_t>& baselines, std::vector<std::size_t> order,
                                        std::mt19937_64& random) {
  shuffle(order, random);
  const std::size_t others = order.size();
  const std::size_t visits = baseline_visits(others);
  for (std::size_t part = visits; part-- > 0;) {
    const std::size_t first = others * part / visits;
    const std::size_t last = others * (part + 1) / visits;
    for (const std::size_t baseline : baselines) {
      const std::size_t place = first + random() % (last - first + 1);
      order.insert(order.begin() + static_cast<std::ptrdiff_t>(place), baseline);
    }
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

Cell empty_cell(const VariantOutline& variant, int workers, std::size_t point) {
  Cell cell;
  cell.variant = variant.name;
  cell.crew = variant.crew;
  cell.kind = variant.kind;
  cell.workers = workers;
  cell.point = point;
  cell.probe_of = variant.probe_of;
  cell.keeps = variant.keeps;
  cell.chooses_workers = variant.chooses_workers;
  return cell;
}

}  // namespace antcrew::internal
