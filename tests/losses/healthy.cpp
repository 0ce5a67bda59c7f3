#include "antcrew/crew/process_crew.hpp"
#include "antcrew/crew/standing_crew.hpp"
#include "antcrew/crew/task_graph.hpp"
#include "antcrew/crew/task_group.hpp"
#include "antcrew/share/locked.hpp"
#include "antcrew/share/pipeline.hpp"
#include "tests/losses/plant.hpp"

namespace planted {

using namespace antcrew;

std::vector<Plant> healthy_plants() {
  std::vector<Plant> all;
  const auto naps = [](double ms) { return [ms] { nap(ms); }; };
  all.push_back(plant<ThreadCrew>("healthy threads", {}, {}, 4, naps(160), [](ThreadCrew& crew) {
    crew.each(16, Split::chunks(1), [](std::size_t) { nap(10); });
  }));
  all.push_back(plant<TaskCrew>("healthy tasks", {}, {}, 4, naps(160),
                                [](TaskCrew& crew) { crew.each(16, Grain{1}, [](std::size_t) { nap(10); }); }));
  all.push_back(plant<ProcessCrew>("healthy processes", {}, {}, 4, naps(400), [](ProcessCrew& crew) {
    crew.collect(16, Split::chunks(1), [](std::size_t) {
      nap(25);
      return 1;
    });
  }));
  all.push_back(plant<StandingCrew>("healthy standing processes", {}, {}, 4, naps(160), [](StandingCrew& crew) {
    crew.collect(16, Split::chunks(1), [](std::size_t) {
      nap(10);
      return 1;
    });
  }));
  all.push_back(
      plant<ThreadCrew>("healthy waiting work, many workers", {}, {}, 32, naps(64 * 20),
                        [](ThreadCrew& crew) { crew.each(64, Split::chunks(1), [](std::size_t) { nap(20); }); }));
  all.push_back(plant<TaskCrew>("healthy group", {}, {}, 4, naps(160), [](TaskCrew& crew) {
    TaskGroup group(crew);
    for (int k = 0; k < 16; ++k) group.begin([] { nap(10); });
    group.wait();
  }));
  all.push_back(plant<TaskCrew>("healthy recursion", {}, {}, 4, naps(160), [](TaskCrew& crew) {
    const std::function<void(int)> down = [&](int depth) {
      if (depth == 0) return nap(10);
      crew.both([&] { down(depth - 1); }, [&] { down(depth - 1); });
    };
    down(4);
  }));
  return all;
}

std::vector<Plant> plants_of_two() {
  std::vector<Plant> all;
  const auto naps = [](double ms) { return [ms] { nap(ms); }; };
  const std::string serial = "sequential-stretch";
  all.push_back(
      plant<ThreadCrew>("in turn, then uneven", {serial, "uneven-pieces"}, {}, 4, naps(200), [](ThreadCrew& crew) {
        nap(60);
        crew.each(4, [](std::size_t i) { nap(i == 0 ? 40 : 10); });
      }));
  all.push_back(
      plant<ThreadCrew>("uneven, then in turn", {"uneven-pieces", serial}, {}, 4, naps(200), [](ThreadCrew& crew) {
        crew.each(4, [](std::size_t i) { nap(i == 0 ? 80 : 10); });
        nap(30);
      }));
  all.push_back(plant<ThreadCrew>("lock and in turn", {"lock-wait", serial}, {}, 4, naps(200), [](ThreadCrew& crew) {
    Locked<int> map(0, "map");
    crew.each(8, [&](std::size_t) { map.with([](int&) { nap(10); }); });
    nap(30);
  }));
  all.push_back(plant<ThreadCrew>("in turn and a lock", {serial, "lock-wait"}, {}, 4, naps(200), [](ThreadCrew& crew) {
    Locked<int> map(0, "map");
    crew.each(4, [&](std::size_t) { map.with([](int&) { nap(10); }); });
    nap(80);
  }));
  all.push_back(plant<ThreadCrew>("nine for eight and in turn", {"not-divisible", serial}, {}, 8, naps(200),
                                  [](ThreadCrew& crew) {
                                    crew.each(9, Split::chunks(1), [](std::size_t) { nap(20); });
                                    nap(10);
                                  }));
  all.push_back(plant<ThreadCrew>("in turn and nine for eight", {serial, "not-divisible"}, {}, 8, naps(200),
                                  [](ThreadCrew& crew) {
                                    crew.each(9, Split::chunks(1), [](std::size_t) { nap(10); });
                                    nap(40);
                                  }));
  all.push_back(
      plant<TaskCrew>("nothing ready and in turn", {"no-ready-work", serial}, {}, 4, naps(200), [](TaskCrew& crew) {
        crew.both([] { nap(60); }, [] { nap(60); });
        nap(20);
      }));
  all.push_back(
      plant<TaskCrew>("in turn and nothing ready", {serial, "no-ready-work"}, {}, 4, naps(200), [](TaskCrew& crew) {
        crew.both([] { nap(30); }, [] { nap(30); });
        nap(60);
      }));
  all.push_back(plant<StandingCrew>("processes: in turn and uneven", {serial, "uneven-pieces"}, {}, 4, naps(200),
                                    [](StandingCrew& crew) {
                                      crew.collect(4, [](std::size_t i) {
                                        nap(i == 0 ? 40 : 10);
                                        return 1;
                                      });
                                      nap(60);
                                    }));
  all.push_back(
      plant<ThreadCrew>("bodies wait, and in turn", {"blocked", serial}, {}, 4, naps(80), [](ThreadCrew& crew) {
        crew.each(8, Split::chunks(1), [](std::size_t) { nap(20); });
        nap(20);
      }));
  return all;
}

}  // namespace planted
