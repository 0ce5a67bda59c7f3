// A program with a known loss of a known size, and what the findings make of it.
#pragma once

#include <chrono>
#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <thread>
#include <utility>
#include <vector>

#include "antcrew/antcrew.hpp"

namespace planted {

// Work that waits: as long on any number of processors.
inline void nap(double ms) {
  std::this_thread::sleep_for(std::chrono::duration<double, std::milli>(ms));
}
// Work that computes: so many rounds of a few instructions.
inline void compute(std::uint64_t rounds) {
  std::uint64_t state = 1;
  for (std::uint64_t k = 0; k < rounds; ++k) state = state * 6364136223846793005u + 1442695040888963407u;
  volatile std::uint64_t sink = state;
  static_cast<void>(sink);
}

struct Plant {
  std::string name;
  std::vector<std::string> losses;  // ids of the first losses, in order; none = healthy
  std::optional<double> share;      // of the first one, where it sleeps or is counted
  int workers = 4;
  std::function<antcrew::record_layer::Record()> run;
};

struct Seen {
  std::vector<std::pair<std::string, double>> losses;  // id and share, the largest first
  double unaccounted = 0;                              // share of lanes × wall
  double cpu_frames_s = 0;
  double cpu_kernel_s = 0;
  double identity = 0;  // what is missing between both sides, as a share
  double slowdown = 0;
  std::string withheld;
};
Seen seen_of(const antcrew::record_layer::Record& record, int workers);

// Whether what was seen is what was planted: in words what is wrong; empty = nothing.
std::string wrong_with(const Plant& plant, const Seen& seen);

std::vector<Plant> all_plants();
std::vector<Plant> thread_plants();
std::vector<Plant> task_plants();
std::vector<Plant> process_plants();
std::vector<Plant> hand_plants();
std::vector<Plant> library_plants();
std::vector<Plant> healthy_plants();
std::vector<Plant> plants_of_two();

// A study of one variant: its baseline and the variant on so many workers, few rounds.
template <class Crew, class Baseline, class Body>
Plant plant(std::string name, std::vector<std::string> losses, std::optional<double> share, int workers,
            Baseline baseline, Body body, bool with_one = false) {
  Plant made{std::move(name), std::move(losses), share, workers, {}};
  made.run = [title = made.name, workers, baseline, body, with_one] {
    antcrew::Study study(
        title, [](std::size_t n) { return n; },
        [baseline](const std::size_t&) {
          baseline();
          return 1;
        },
        antcrew::exactly());
    study.sizes({100});
    study.template variant<Crew>("planted", [body](const std::size_t&, Crew& crew) {
      body(crew);
      return 1;
    });
    antcrew::Plan plan;
    plan.workers = with_one ? std::vector<int>{1, workers} : std::vector<int>{workers};
    plan.rounds = with_one ? 6 : 2;
    plan.confirm = false;
    plan.crowd = with_one;
    plan.budget_s = 0;
    return antcrew::run(study, plan);
  };
  return made;
}

}  // namespace planted
