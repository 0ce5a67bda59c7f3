// What only a machine of many processors shows: pins, first touch, thieves, wake-ups in squads, processors that come
// and go. Run by scripts/try-machines.sh inside an emulated machine, as its administrator. Times mean nothing there, so
// events are counted.
//
//   machine_checks LOGICAL CORES PACKAGES NODES KINDS
#include <dirent.h>
#include <fmt/format.h>
#include <sched.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <atomic>
#include <chrono>
#include <cstdlib>
#include <fstream>
#include <map>
#include <set>
#include <string>
#include <thread>
#include <vector>

#include "antcrew/crew/column.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/task_group.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/crew/worker.hpp"
#include "antcrew/machine/limits.hpp"
#include "antcrew/machine/topology.hpp"

using namespace antcrew;
using namespace antcrew::machine_layer;
using namespace std::chrono_literals;

namespace {

int faults = 0;

void check(bool holds, const std::string& what) {
  fmt::print("{} {}\n", holds ? "holds:" : "FAULT:", what);
  std::fflush(stdout);
  if (!holds) ++faults;
}

std::string word_of(const std::string& path) {
  std::ifstream file(path);
  std::string word;
  file >> word;
  return word;
}
std::string processor_file(int processor, const char* name) {
  return fmt::format("/sys/devices/system/cpu/cpu{}/{}", processor, name);
}
std::string siblings_of(int processor) {
  return word_of(processor_file(processor, "topology/thread_siblings_list"));
}
std::string package_of(int processor) {
  return word_of(processor_file(processor, "topology/physical_package_id"));
}
int node_of(int processor) {
  for (int node = 0; node < 64; ++node) {
    if (::access(processor_file(processor, fmt::format("node{}", node).c_str()).c_str(), F_OK) == 0) return node;
  }
  return 0;
}
int node_here() {
  return node_of(::sched_getcpu());
}

void pins(const Topology& machine) {
  const int all = machine.logical_processors;
  for (const Pin pin : {Pin::near, Pin::apart}) {
    ThreadCrew crew(all, {.pin = pin});
    std::vector<std::atomic<int>> at(static_cast<std::size_t>(all));
    crew.ranges(static_cast<std::size_t>(all),
                [&](Range) { at[static_cast<std::size_t>(this_worker())] = ::sched_getcpu(); });
    std::set<int> used;
    for (const auto& one : at) used.insert(one);
    check(crew.facts().pinned_as_asked() && used.size() == at.size(),
          fmt::format("{} workers pinned {}: each on a processor of its own", all, name_of(pin)));
    bool as_told = true;
    for (std::size_t k = 0; k < at.size(); ++k) as_told = as_told && at[k] == crew.facts().asked_processors[k];
    check(as_told, fmt::format("and on the one that the facts name"));
  }
  const std::vector<int> near = processor_order(Nearness::near);
  const std::vector<int> apart = processor_order(Nearness::apart);
  if (machine.logical_processors > machine.physical_cores) {
    bool filled = true;
    for (std::size_t k = 0; k + 1 < near.size(); k += 2)
      filled = filled && siblings_of(near[k]) == siblings_of(near[k + 1]);
    check(filled, "near: each core is filled before the next");
    std::set<std::string> cores;
    for (int k = 0; k < machine.physical_cores; ++k) cores.insert(siblings_of(apart[static_cast<std::size_t>(k)]));
    check(static_cast<int>(cores.size()) == machine.physical_cores, "apart: every core is used before a second thread");
  }
  if (machine.packages > 1) {
    std::set<std::string> packages;
    for (int k = 0; k < machine.packages; ++k) packages.insert(package_of(apart[static_cast<std::size_t>(k)]));
    check(static_cast<int>(packages.size()) == machine.packages,
          "apart: every package is used before a second core of one");
    const std::size_t half = near.size() / static_cast<std::size_t>(machine.packages);
    std::set<std::string> first;
    for (std::size_t k = 0; k < half; ++k) first.insert(package_of(near[k]));
    check(first.size() == 1, "near: one package is filled before the next");
  }
}

// The node of each page, as the kernel tells it.
std::vector<int> nodes_of(const char* memory, std::size_t bytes) {
  const auto page = static_cast<std::size_t>(::sysconf(_SC_PAGESIZE));
  std::vector<void*> pages;
  for (std::size_t at = 0; at < bytes; at += page) pages.push_back(const_cast<char*>(memory) + at);
  std::vector<int> nodes(pages.size(), -1);
  ::syscall(SYS_move_pages, 0, pages.size(), pages.data(), nullptr, nodes.data(), 0);
  return nodes;
}

void first_touch(const Topology& machine) {
  if (machine.numa_nodes < 2) return;
  ThreadCrew crew(2, {.pin = Pin::apart});
  constexpr std::size_t items = 4u << 20;
  std::vector<int> node_of_worker(2, -1);
  const Column<std::uint64_t> made = crew.collect(items, Split::even(), [&](std::size_t i) {
    if (i % (1 << 16) == 0) node_of_worker[static_cast<std::size_t>(this_worker())] = node_here();
    return std::uint64_t{i};
  });
  check(node_of_worker[0] != node_of_worker[1], "two workers that are pinned apart are on two nodes");
  const std::vector<int> nodes = nodes_of(reinterpret_cast<const char*>(made.begin()), items * sizeof(std::uint64_t));
  std::size_t right = 0;
  for (std::size_t k = 0; k < nodes.size(); ++k) {
    if (nodes[k] == node_of_worker[k < nodes.size() / 2 ? 0 : 1]) ++right;
  }
  check(right + 512 >= nodes.size(),  // a huge page may lie across the border
        fmt::format("first touch: {} of {} pages lie on the node of the worker that filled them", right, nodes.size()));
}

void thieves(const Topology& machine) {
  if (neighbourhoods() < 2 || machine.logical_processors < 8) return;
  const int workers = machine.logical_processors;
  TaskCrew crew(workers, {.pin = Pin::near});
  std::this_thread::sleep_for(500ms);  // all asleep, each where it is pinned
  std::atomic<int> near{0}, far{0}, own{0};
  std::vector<std::atomic<int>> makers(static_cast<std::size_t>(neighbourhoods()));
  std::vector<std::atomic<int>> begun(makers.size());
  std::atomic<int> making{0}, came{0};
  // One maker of small tasks in each neighbourhood at least; whoever takes one is counted.
  crew.each(static_cast<std::size_t>(workers), Grain{1}, [&](std::size_t) {
    ++came;  // one for each worker: all wait for all
    for (int wait = 0; wait < 5000 && came < workers; ++wait) std::this_thread::sleep_for(1ms);
    const int here = neighbourhood_of(::sched_getcpu());
    const bool makes = makers[static_cast<std::size_t>(here)].fetch_add(1) == 0;
    if (!makes) return;
    ++making;
    for (int wait = 0; wait < 2000 && making < static_cast<int>(makers.size()); ++wait)
      std::this_thread::sleep_for(1ms);
    const auto maker = std::this_thread::get_id();
    TaskGroup group(crew);
    for (int k = 0; k < 400; ++k) {
      group.begin([&, here, maker] {
        std::this_thread::sleep_for(1ms);
        ++begun[static_cast<std::size_t>(here)];
        const int mine = neighbourhood_of(::sched_getcpu());
        if (std::this_thread::get_id() == maker) {
          ++own;
        } else if (mine == here) {
          ++near;
        } else if (begun[static_cast<std::size_t>(mine)] < 350) {  // there were some nearer ones
          ++far;
        }
      });
    }
    group.wait();
  });
  fmt::print("tasks taken by neighbours: {}, from afar while there were nearer ones: {}, kept: {}; makers: {} of {}\n",
             near.load(), far.load(), own.load(), making.load(), makers.size());
  if (making == static_cast<int>(makers.size())) check(near > 3 * far, "thieves take from their neighbours first");
}

// The first half of the processors are the slow ones.
void kinds(const Topology& machine, int asked) {
  if (asked < 2) return check(machine.kinds.empty(), "all processors are of one kind");
  check(machine.kinds.size() == static_cast<std::size_t>(asked), fmt::format("{} kinds of processors", asked));
  std::vector<int> slow;
  for (int k = 0; k < machine.logical_processors / 2; ++k) slow.push_back(k);
  check(!machine.kinds.empty() && machine.kinds.front().processors == slow && machine.kinds.front().speed == 0,
        "the slow ones are told first");
  // Nothing is left out because it is slow, and who is quick takes more.
  ThreadCrew crew(machine.logical_processors, {.pin = Pin::apart});
  std::vector<std::atomic<int>> done(static_cast<std::size_t>(machine.logical_processors));
  crew.each(400, Split::chunks(1), [&](std::size_t) {
    const int here = sched_getcpu();
    ++done[static_cast<std::size_t>(here)];
    std::this_thread::sleep_for(here < machine.logical_processors / 2 ? 8ms : 2ms);
  });
  int by_slow = 0;
  int by_quick = 0;
  for (int k = 0; k < machine.logical_processors; ++k)
    (k < machine.logical_processors / 2 ? by_slow : by_quick) += done[static_cast<std::size_t>(k)];
  check(by_slow + by_quick == 400 && by_slow > 0, "every item once, slow processors take part");
  check(by_quick > 2 * by_slow, fmt::format("{} items by quick processors, {} by slow ones", by_quick, by_slow));
}

void squads() {
  for (const int workers : {2, 8, 9, 16, 32, 64}) {
    ThreadCrew crew(workers);
    std::uint64_t most = 0;
    for (int time = 0; time < 5; ++time) {
      std::this_thread::sleep_for(200ms);  // all asleep
      const std::uint64_t before = crew.wake_ups_by_caller();
      std::atomic<int> came{0};
      crew.ranges(static_cast<std::size_t>(workers), [&](Range) { ++came; });
      check(came == workers, fmt::format("{} workers each did their part", workers));
      most = std::max(most, crew.wake_ups_by_caller() - before);
    }
    if (workers > 8)
      check(most <= 2, fmt::format("the caller of {} workers woke {} itself, others the rest", workers, most));
  }
}

bool put_online(int processor, bool on) {
  std::ofstream file(processor_file(processor, "online"));
  file << (on ? "1" : "0") << std::flush;
  return file.good();
}

void come_and_go(const Topology& machine) {
  if (machine.logical_processors < 3) return;
  const int all = usable_processors_now();
  check(all == machine.logical_processors, "all processors are usable");
  std::vector<int> gone;
  const int last_node = node_of(machine.logical_processors - 1);
  for (int processor = machine.logical_processors - 1; processor > 0; --processor) {
    if (machine.numa_nodes > 1 ? node_of(processor) == last_node : processor >= machine.logical_processors / 2)
      gone.push_back(processor);
  }
  ThreadCrew threads(all);
  TaskCrew tasks(all);
  ThreadCrew pinned(all, {.pin = Pin::near});
  const auto sums = [&] {
    std::atomic<long> sum{0};
    const auto add = [&](std::size_t i) { sum += static_cast<long>(i); };
    threads.each(5000, Split::chunks(1), add);
    tasks.each(5000, Grain{1}, add);
    pinned.each(5000, Split::chunks(1), add);
    return sum == 3 * 4999 * 2500;
  };
  check(sums(), "crews of as many workers as processors");
  std::atomic<bool> over{false};
  std::atomic<int> rounds{0}, wrong{0};
  std::thread works([&] {
    for (; !over; ++rounds) {
      if (!sums()) ++wrong;
    }
  });
  bool went = true;
  for (const int processor : gone) went = put_online(processor, false) && went;
  if (went) {
    check(usable_processors_now() == all - static_cast<int>(gone.size()),
          fmt::format("{} of {} processors taken away: {} are usable", gone.size(), all, usable_processors_now()));
    const int seen = rounds;
    for (int wait = 0; wait < 3000 && rounds < seen + 3; ++wait) std::this_thread::sleep_for(10ms);
    check(rounds >= seen + 3, "crews that were made before go on without them");
    ThreadCrew fresh(4, {.pin = Pin::apart});
    std::atomic<int> came{0};
    fresh.ranges(4, [&](Range) { ++came; });
    check(came == 4, "a crew that is pinned now works, too");
  }
  bool back = true;
  for (const int processor : gone) back = put_online(processor, true) && back;
  check(back, "the processors come back");
  const int seen = rounds;
  for (int wait = 0; wait < 3000 && rounds < seen + 3; ++wait) std::this_thread::sleep_for(10ms);
  over = true;
  works.join();
  check(rounds >= seen + 3 && wrong == 0,
        fmt::format("and with them again: {} rounds, {} wrong", rounds.load(), wrong.load()));
  check(usable_processors_now() == all,
        fmt::format("all are usable again: {} of {} online", usable_processors_now(), ::sysconf(_SC_NPROCESSORS_ONLN)));
}

}  // namespace

int main(int count, char** words) {
  const auto asked = [&](int k) { return k < count ? std::atoi(words[k]) : 0; };
  const Topology& machine = topology();
  check(machine.logical_processors == asked(1) && machine.physical_cores == asked(2) && machine.packages == asked(3) &&
            machine.numa_nodes == asked(4),
        fmt::format("{} processors, {} cores, {} packages, {} nodes are seen", machine.logical_processors,
                    machine.physical_cores, machine.packages, machine.numa_nodes));
  kinds(machine, asked(5));
  pins(machine);
  first_touch(machine);
  squads();
  thieves(machine);
  come_and_go(machine);
  fmt::print("faults: {}\n", faults);
  return faults == 0 ? 0 : 1;
}
