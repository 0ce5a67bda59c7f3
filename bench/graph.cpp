// What a step of a TaskGraph costs: 10,000 empty steps, each after two of those before it, run again and again.
#include <antcrew/antcrew.hpp>
#include <functional>
#include <string>
#include <vector>

namespace {

constexpr std::size_t width = 100;

struct Steps {
  explicit Steps(std::size_t n) {
    std::vector<antcrew::TaskGraph::Step<antcrew::internal::Nothing>> steps;
    for (std::size_t k = 0; k < n; ++k) {
      steps.push_back(graph.step(std::to_string(k), [] {}));
      if (k < width) continue;
      graph.order(steps[k - width], steps[k]);
      if (k % width != 0) graph.order(steps[k - width - 1], steps[k]);
    }
  }
  antcrew::TaskGraph graph;
};

std::size_t call_each(const std::size_t& n) {
  static const std::vector<std::function<void()>> steps(n, [] {});
  for (const auto& step : steps) step();
  return n;
}

}  // namespace

int main(int argc, char** argv) {
  using namespace antcrew;
  using namespace antcrew::layers;
  Study study(
      "A graph of empty steps run again", [](std::size_t n) { return n; }, call_each);
  study.sizes({10'000});
  study.workers({1, 2});
  study.variant<TaskCrew>("TaskGraph", [](const std::size_t& n, auto& crew) {
    static Steps steps(n);
    steps.graph.run(crew);
    return n;
  });
  return study_main(argc, argv, study);
}
