// What a fork costs: Fibonacci numbers with a fork at every call, against the plain recursion.
#include <antcrew/antcrew.hpp>

namespace {

[[gnu::noinline]] std::uint64_t plain(int n) {
  return n < 2 ? static_cast<std::uint64_t>(n) : plain(n - 1) + plain(n - 2);
}

std::uint64_t forked(antcrew::TaskCrew& crew, int n) {
  if (n < 2) return static_cast<std::uint64_t>(n);
  auto [a, b] = crew.both([&] { return forked(crew, n - 1); }, [&] { return forked(crew, n - 2); });
  return a + b;
}

}  // namespace

int main(int argc, char** argv) {
  using namespace antcrew;
  using namespace antcrew::layers;
  Study study(
      "Fibonacci numbers, a fork at every call", [](std::size_t n) { return static_cast<int>(n); },
      [](const int& n) { return plain(n); });
  study.sizes({30});
  study.workers({1, 2});
  study.variant<TaskCrew>("both", [](const int& n, auto& crew) { return forked(crew, n); });
  return study_main(argc, argv, study);
}
