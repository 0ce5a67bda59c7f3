// What `each` costs with one worker, against the plain loop: a[i] = f(i).
#include <antcrew/antcrew.hpp>
#include <vector>

namespace {

double level(std::size_t i) {
  return 0.25 * static_cast<int>(i & 0xFFFFFF) + 1;
}

void plain(std::vector<double>& a) {
  for (std::size_t i = 0; i < a.size(); ++i) a[i] = level(i);
}

}  // namespace

int main(int argc, char** argv) {
  using namespace antcrew;
  using namespace antcrew::layers;
  const auto make = [](std::size_t n) { return std::vector<double>(n); };
  const auto all = [](const std::vector<double>& a) -> const std::vector<double>& { return a; };
  InPlaceStudy loops("a[i] = f(i), the crew's loop against the plain one", make, plain, all, exactly());
  loops.sizes({10'000'000});
  loops.workers({1});
  loops.variant<ThreadCrew>(
      "each", [](std::vector<double>& a, auto& crew) { crew.each(a.size(), [&](std::size_t i) { a[i] = level(i); }); });
  loops.variant<ThreadCrew>("each, in chunks of 4096", [](std::vector<double>& a, auto& crew) {
    crew.each(a.size(), Split::chunks(4096), [&](std::size_t i) { a[i] = level(i); });
  });
  return study_main(argc, argv, loops);
}
