// The deepest passage through the channels of the Brackwater estuary: irregular recursion.
//
// From the sea inwards every channel forks into none to three others; how deep a passage is, its shallowest stretch
// says. A search turns back where it is already shallower than the best passage found, so how much there is to search
// depends on what was found before: nothing can be shared out evenly beforehand.
#include <algorithm>
#include <antcrew/antcrew.hpp>
#include <atomic>
#include <cstdint>
#include <future>
#include <vector>

namespace estuary {

struct Channel {
  std::uint64_t place;
  int depth_cm;  // the shallowest stretch so far
  int forks_left;
};

struct Network {
  Channel mouth;
};

Network make_network(std::size_t forks) {
  return {{0x5EED'0F'B2AC'C3A7u, 4000, static_cast<int>(forks)}};
}

std::uint64_t scrambled(std::uint64_t x) {
  x ^= x >> 31;
  x *= 0x7FB5'D329'728E'A185u;
  x ^= x >> 27;
  x *= 0x81DA'DEF4'BC2D'D44Du;
  return x ^ (x >> 33);
}

// The network does not lie in memory: each place tells what comes after it.
int forks_at(const Channel& c) {
  return c.forks_left == 0 ? 0 : std::min(3, static_cast<int>(scrambled(c.place) % 5));
}

Channel beyond(const Channel& c, int branch) {
  const std::uint64_t place = scrambled(c.place + 0x9E37u * static_cast<std::uint64_t>(branch + 1));
  const int stretch_cm = 200 + static_cast<int>(place % 3800);
  return {place, std::min(c.depth_cm, std::max(stretch_cm, 40 * c.forks_left)), c.forks_left - 1};
}

void search(const Channel& c, int& best_cm) {
  if (c.depth_cm <= best_cm) return;
  if (c.forks_left == 0) {
    best_cm = c.depth_cm;
    return;
  }
  for (int branch = 0; branch < forks_at(c); ++branch) search(beyond(c, branch), best_cm);
}

int deepest(const Network& network) {
  int best_cm = 0;
  search(network.mouth, best_cm);
  return best_cm;
}

// The best passage that any worker has found.
class Best {
 public:
  int cm() const { return cm_.load(std::memory_order_relaxed); }
  void raise_to(int cm) {
    int seen = this->cm();
    while (seen < cm && !cm_.compare_exchange_weak(seen, cm, std::memory_order_relaxed)) {
    }
  }

 private:
  std::atomic<int> cm_{0};
};

void search_shared(const Channel& c, Best& best) {
  if (c.depth_cm <= best.cm()) return;
  if (c.forks_left == 0) return best.raise_to(c.depth_cm);
  for (int branch = 0; branch < forks_at(c); ++branch) search_shared(beyond(c, branch), best);
}

// Forks in parallel while more than `alone` forks are left.
void search_forked(antcrew::TaskCrew& crew, const Channel& c, Best& best, int alone) {
  if (c.forks_left <= alone) return search_shared(c, best);
  if (c.depth_cm <= best.cm()) return;
  const int forks = forks_at(c);
  const auto branch = [&](int k) { search_forked(crew, beyond(c, k), best, alone); };
  if (forks == 1) branch(0);
  if (forks == 2) crew.both([&] { branch(0); }, [&] { branch(1); });
  if (forks == 3) crew.both([&] { branch(0); }, [&] { crew.both([&] { branch(1); }, [&] { branch(2); }); });
}

// The same with what the standard library has: a future for every branch of the first forks.
void search_futures(const Channel& c, Best& best, int alone) {
  if (c.forks_left <= alone) return search_shared(c, best);
  if (c.depth_cm <= best.cm()) return;
  std::vector<std::future<void>> branches;
  for (int k = 0; k < forks_at(c); ++k) {
    branches.push_back(std::async(std::launch::async, [&, k] { search_futures(beyond(c, k), best, alone); }));
  }
  for (std::future<void>& branch : branches) branch.get();
}

// All places that lie `forks` forks behind the mouth.
std::vector<Channel> reached(const Network& network, int forks) {
  std::vector<Channel> now = {network.mouth};
  for (int k = 0; k < forks && k < network.mouth.forks_left; ++k) {
    std::vector<Channel> next;
    for (const Channel& c : now) {
      for (int branch = 0; branch < forks_at(c); ++branch) next.push_back(beyond(c, branch));
    }
    now = std::move(next);
  }
  return now;
}

}  // namespace estuary

int main(int argc, char** argv) {
  using namespace antcrew;
  Study channels("The deepest passage to the harbour", estuary::make_network, estuary::deepest);
  channels.sizes({24, 32, 40});  // forks from the sea to the harbour

  channels.variant<ThreadCrew>("first branches split evenly", [](const auto& network, auto& crew) {
    const auto starts = estuary::reached(network, 3);
    estuary::Best best;
    crew.each(starts.size(), [&](std::size_t k) { estuary::search_shared(starts[k], best); });
    return best.cm();
  });
  channels.variant<Workers>("futures, 4 forks deep", [](const auto& network, Workers) {
    estuary::Best best;
    estuary::search_futures(network.mouth, best, network.mouth.forks_left - 4);
    return best.cm();
  });
  channels.variant<TaskCrew>("every fork a task", [](const auto& network, auto& crew) {
    estuary::Best best;
    estuary::search_forked(crew, network.mouth, best, 0);
    return best.cm();
  });
  channels.variant<TaskCrew>("tasks down to 10 forks", [](const auto& network, auto& crew) {
    estuary::Best best;
    estuary::search_forked(crew, network.mouth, best, 10);
    return best.cm();
  });
  return study_main(argc, argv, channels);
}
