#include "antcrew/crew/task_graph.hpp"
#include "antcrew/crew/task_group.hpp"
#include "antcrew/share/locked.hpp"
#include "tests/losses/plant.hpp"

namespace planted {

using namespace antcrew;

std::vector<Plant> task_plants() {
  std::vector<Plant> all;
  const auto naps = [](double ms) { return [ms] { nap(ms); }; };
  all.push_back(plant<TaskCrew>("a fork with two unlike halves", {"no-ready-work"}, 0.7, 4, naps(60),
                                [](TaskCrew& crew) { crew.both([] { nap(50); }, [] { nap(10); }); }));
  all.push_back(plant<TaskCrew>("tasks at the top level only", {"no-ready-work"}, 0.75, 8, naps(60),
                                [](TaskCrew& crew) { crew.both([] { nap(30); }, [] { nap(30); }); }));
  all.push_back(plant<TaskCrew>("a chain of steps", {"no-ready-work"}, 0.75, 4, naps(60), [](TaskCrew& crew) {
    TaskGraph graph;
    auto last = graph.step("0", [] { nap(10); });
    for (int k = 1; k < 6; ++k) {
      auto next = graph.step(std::to_string(k), [] { nap(10); });
      graph.order(last, next);
      last = next;
    }
    graph.run(crew);
  }));
  all.push_back(plant<TaskCrew>("a group of too few", {"no-ready-work"}, std::nullopt, 8, naps(60), [](TaskCrew& crew) {
    TaskGroup group(crew);
    for (int k = 0; k < 3; ++k) group.begin([] { nap(20); });
    group.wait();
  }));
  all.push_back(plant<TaskCrew>("a lock in tasks", {"lock-wait"}, std::nullopt, 4, naps(80), [](TaskCrew& crew) {
    Locked<int> map(0, "map");
    crew.each(8, Grain{1}, [&](std::size_t) { map.with([](int&) { nap(10); }); });
  }));
  all.push_back(plant<TaskCrew>("one after the other, between loops of tasks", {"sequential-stretch"}, 0.5, 4,
                                naps(40 + 40 + 40), [](TaskCrew& crew) {
                                  crew.each(4, Grain{1}, [](std::size_t) { nap(10); });
                                  nap(40);
                                  crew.each(4, Grain{1}, [](std::size_t) { nap(10); });
                                }));
  all.push_back(plant<TaskCrew>("nine tasks for eight", {"not-divisible"}, 0.4375, 8, naps(90),
                                [](TaskCrew& crew) { crew.each(9, Grain{1}, [](std::size_t) { nap(10); }); }));
  all.push_back(
      plant<TaskCrew>("one dear piece", {"uneven-pieces"}, std::nullopt, 4, naps(35 + 50),
                      [](TaskCrew& crew) { crew.each(8, Grain{1}, [](std::size_t i) { nap(i == 7 ? 50 : 5); }); }));
  return all;
}

}  // namespace planted
