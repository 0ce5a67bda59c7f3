// How many ways a ship of a given draught has through the channels of the Brackwater estuary: irregular recursion.
//
// From the sea inwards every channel forks into one to three others, and where one is too shallow a search turns back.
// Some branches end at once, others hold most of the work, and nobody can tell beforehand which: nothing can be shared
// out evenly.
#include <antcrew/studies.hpp>
#include <cstdint>
#include <functional>
#include <future>
#include <vector>

namespace estuary {

struct Channel {
  std::uint64_t place;
  int forks_left;  // to the harbour
};

constexpr int draught_cm = 1700;

Channel make_mouth(std::size_t forks) {
  return {0x5E'ED0F'B2AC'C3A9u, static_cast<int>(forks)};
}

std::uint64_t scrambled(std::uint64_t x) {
  x ^= x >> 31;
  x *= 0x7FB5'D329'728E'A185u;
  x ^= x >> 27;
  x *= 0x81DA'DEF4'BC2D'D44Du;
  return x ^ (x >> 33);
}

// The channels do not lie in memory: each place tells what comes after it.
int forks_at(const Channel& c) {
  return 1 + static_cast<int>(scrambled(c.place) % 3);
}
Channel beyond(const Channel& c, int branch) {
  return {scrambled(c.place + 0x9E37u * static_cast<std::uint64_t>(branch + 1)), c.forks_left - 1};
}
bool deep_enough(const Channel& c) {
  return 200 + static_cast<int>(c.place % 3800) >= draught_cm;
}

std::uint64_t passages(const Channel& c) {
  if (!deep_enough(c)) return 0;
  if (c.forks_left == 0) return 1;
  std::uint64_t sum = 0;
  for (int branch = 0; branch < forks_at(c); ++branch) sum += passages(beyond(c, branch));
  return sum;
}

// Forks in parallel while more than `alone` forks are left.
std::uint64_t passages_forked(antcrew::TaskCrew& crew, const Channel& c, int alone) {
  if (c.forks_left <= alone) return passages(c);
  if (!deep_enough(c)) return 0;
  const auto branch = [&](int k) { return passages_forked(crew, beyond(c, k), alone); };
  const auto first_two = [&] {
    auto [a, b] = crew.both([&] { return branch(0); }, [&] { return branch(1); });
    return a + b;
  };
  if (forks_at(c) == 1) return branch(0);
  if (forks_at(c) == 2) return first_two();
  auto [two, third] = crew.both(first_two, [&] { return branch(2); });
  return two + third;
}

// The same with what the standard library has: a future for every branch of the first forks.
std::uint64_t passages_by_futures(const Channel& c, int alone) {
  if (c.forks_left <= alone) return passages(c);
  if (!deep_enough(c)) return 0;
  std::vector<std::future<std::uint64_t>> branches;
  for (int k = 0; k < forks_at(c); ++k) {
    branches.push_back(
        std::async(std::launch::async, [there = beyond(c, k), alone] { return passages_by_futures(there, alone); }));
  }
  std::uint64_t sum = 0;
  for (std::future<std::uint64_t>& branch : branches) sum += branch.get();
  return sum;
}

// All places that lie `forks` forks behind the mouth and can be reached.
std::vector<Channel> reached(const Channel& mouth, int forks) {
  std::vector<Channel> now = {mouth};
  for (int k = 0; k < forks && k < mouth.forks_left; ++k) {
    std::vector<Channel> next;
    for (const Channel& c : now) {
      for (int branch = 0; deep_enough(c) && branch < forks_at(c); ++branch) next.push_back(beyond(c, branch));
    }
    now = std::move(next);
  }
  return now;
}

}  // namespace estuary

int main(int argc, char** argv) {
  using namespace antcrew;
  Study channels("Passages deep enough, from the sea to the harbour", estuary::make_mouth, estuary::passages);
  channels.sizes({20, 40, 60});  // forks from the sea to the harbour

  channels.variant<ThreadCrew>("first branches split evenly", [](const auto& mouth, auto& crew) {
    const auto starts = estuary::reached(mouth, 8);
    const auto some = [&](Range range) {
      std::uint64_t sum = 0;
      for (const std::size_t k : range) sum += estuary::passages(starts[k]);
      return sum;
    };
    Tally<std::uint64_t> found;
    crew.ranges(starts.size(), [&](Range range) { found.mine() += some(range); });
    return found.merged(std::uint64_t{0}, std::plus<>());
  });
  channels.variant<Workers>("futures, 6 forks deep", [](const auto& mouth, Workers) {
    return estuary::passages_by_futures(mouth, mouth.forks_left - 6);
  });
  const auto every = channels.variant<TaskCrew>(
      "every fork a task", [](const auto& mouth, auto& crew) { return estuary::passages_forked(crew, mouth, 0); });
  const auto fewer = channels.variant<TaskCrew>("tasks down to 10 forks", [](const auto& mouth, auto& crew) {
    return estuary::passages_forked(crew, mouth, 10);
  });
  channels.ladder({every, fewer});
  return study_main(argc, argv, channels);
}
