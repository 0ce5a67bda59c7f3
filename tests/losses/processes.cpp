#include "antcrew/crew/process_crew.hpp"
#include "antcrew/crew/standing_crew.hpp"
#include "tests/losses/plant.hpp"

namespace planted {

using namespace antcrew;

std::vector<Plant> process_plants() {
  std::vector<Plant> all;
  const auto naps = [](double ms) { return [ms] { nap(ms); }; };
  all.push_back(plant<ProcessCrew>("one after the other in the parent", {"sequential-stretch"}, 0.6, 4, naps(80),
                                   [](ProcessCrew& crew) {
                                     crew.collect(4, [](std::size_t) {
                                       nap(10);
                                       return 1;
                                     });
                                     nap(40);
                                   }));
  all.back().share = std::nullopt;  // starting processes takes a part that depends on the machine
  all.push_back(
      plant<ProcessCrew>("uneven in processes", {"uneven-pieces"}, std::nullopt, 4, naps(110), [](ProcessCrew& crew) {
        crew.collect(4, [](std::size_t i) {
          nap(i == 1 ? 80 : 10);
          return 1;
        });
      }));
  all.push_back(plant<ProcessCrew>(
      "results are moved", {"moving-data"}, std::nullopt, 2, [] { compute(5'000'000); },
      [](ProcessCrew& crew) { crew.collect(4'000'000, [](std::size_t i) { return static_cast<double>(i); }); }));
  all.push_back(plant<ProcessCrew>("forked for next to nothing", {"start-up-each-call"}, std::nullopt, 16, naps(1),
                                   [](ProcessCrew& crew) {
                                     for (int k = 0; k < 5; ++k) crew.collect(16, [](std::size_t i) { return i; });
                                   }));
  all.push_back(
      plant<StandingCrew>("nine for eight processes", {"not-divisible"}, 0.4375, 8, naps(90), [](StandingCrew& crew) {
        crew.collect(9, Split::chunks(1), [](std::size_t) {
          nap(10);
          return 1;
        });
      }));
  all.push_back(plant<StandingCrew>("one after the other between calls", {"sequential-stretch"}, 0.5, 4, naps(80 + 40),
                                    [](StandingCrew& crew) {
                                      const auto ten = [](std::size_t) {
                                        nap(10);
                                        return 1;
                                      };
                                      crew.collect(4, ten);
                                      nap(40);
                                      crew.collect(4, ten);
                                    }));
  return all;
}

}  // namespace planted
