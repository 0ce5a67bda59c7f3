// What a phase costs when it is recorded, and when it is not.
#include <fmt/format.h>
#include <antcrew/antcrew.hpp>

#include "antcrew/analysis/statistics.hpp"
#include "antcrew/machine/clock.hpp"

namespace {

constexpr int phases = 100'000;

double each_ns() {
  const std::int64_t start = antcrew::now_ns();
  for (int i = 0; i < phases; ++i) const antcrew::Phase phase("merge");
  return static_cast<double>(antcrew::now_ns() - start) / phases;
}

}  // namespace

int main() {
  using namespace antcrew;
  using namespace antcrew::layers;
  internal::Journal* journal = internal::Journal::create();
  std::vector<double> recorded;
  std::vector<double> silent;
  for (int again = 0; again < 31; ++again) {
    silent.push_back(each_ns());
    internal::open_journal.store(journal);
    recorded.push_back(each_ns());
    internal::open_journal.store(nullptr);
    journal->clear();
  }
  internal::Journal::destroy(journal);
  fmt::print("a phase: {:.1f} ns recorded, {:.2f} ns outside a study (medians of 31 batches of {})\n", median(recorded),
             median(silent), phases);
}
