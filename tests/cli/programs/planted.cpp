// A study program with a mistake, or an oddity, that the environment names: what a user would see of it.
#include <antcrew/antcrew.hpp>
#include <cstdio>
#include <cstdlib>
#include <string>
#include <thread>
#include <vector>

using namespace antcrew;

int main(int argc, char** argv) {
  const char* named = std::getenv("ANTCREW_PLANT");
  const std::string plant = named == nullptr ? "" : named;
  const auto make = [](std::size_t n) { return std::vector<double>(n, 0.5); };
  const auto total = [plant](const std::vector<double>& in) {
    double sum = 0;
    for (const double depth : in) sum += depth;
    return plant == "small" ? 1e-12 * sum : sum;
  };
  Study sums(plant == "title" ? "Sums\x1b[2J\xff of\nlevels" : "Sums of levels", make, total,
             within(plant == "tolerance" ? -1 : 1e-9));
  if (plant != "sizes") sums.sizes({1000});
  const auto right = sums.variant<Workers>("right", [=](const auto& in, Workers) { return total(in); });
  if (plant == "twice") sums.variant<Workers>("right", [=](const auto& in, Workers) { return total(in); });
  if (plant == "probe")
    sums.probe<Workers>("of nothing", VariantHandle(sums, 9), [=](const auto& in, Workers) { return total(in); });
  if (plant == "loud") {
    sums.variant<Workers>("loud", [=](const auto& in, Workers) {
      std::printf("level by level\n");
      return total(in);
    });
  }
  if (plant == "thread") {
    sums.variant<Workers>("thrower", [=](const auto& in, Workers) {
      std::thread([] { throw std::out_of_range("no gauge 17"); }).join();
      return total(in);
    });
  }
  static_cast<void>(right);
  return study_main(argc, argv, sums);
}
