// Crews of processes: what comes back, by which way, and what becomes of workers that fail.
#include <doctest/doctest.h>
#include <signal.h>
#include <sys/mman.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <atomic>
#include <cereal/types/string.hpp>
#include <cereal/types/vector.hpp>
#include <chrono>
#include <cstring>
#include <functional>
#include <map>
#include <new>
#include <numeric>
#include <stdexcept>
#include <string>
#include <thread>
#include <vector>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/by_cereal.hpp"
#include "antcrew/crew/process_crew.hpp"
#include "antcrew/crew/standing_crew.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "process_facts.hpp"

using namespace antcrew;

namespace {

struct Sounding {
  std::int32_t metres;
  std::int16_t station;
  bool operator==(const Sounding&) const = default;
};

struct Buoy {
  std::string name;
  std::map<int, double> drift;
  bool operator==(const Buoy&) const = default;
};
void pack(Packer& to, const Buoy& buoy) {
  to.put(buoy.name);
  to.put(buoy.drift.size());
  for (const auto& [hour, metres] : buoy.drift) {
    to.put(hour);
    to.put(metres);
  }
}
void unpack(Unpacker& from, Buoy& buoy) {
  std::size_t count = 0;
  from.get(buoy.name);
  from.get(count);
  for (std::size_t k = 0; k < count; ++k) {
    int hour = 0;
    from.get(hour);
    from.get(buoy.drift[hour]);
  }
}

// One that cereal can serialise.
struct Drift {
  std::vector<double> hours;
  std::string station;
  bool operator==(const Drift&) const = default;
  template <class Archive>
  void serialize(Archive& archive) {
    archive(hours, station);
  }
};

const std::vector<CrewOptions> both_ways{{}, {.processes = {.way = Way::zero_copy}}};
const std::vector<Split> all_splits{Split::even(), Split::chunks(1), Split::chunks(1000), Split::tapering(7)};

// What a call that must fail ends with.
template <class Fault, class Call>
Fault fault_of(Call&& call) {
  try {
    call();
  } catch (const Fault& fault) {
    return fault;
  }
  FAIL("nothing was thrown");
  std::abort();
}

}  // namespace

template <>
inline constexpr bool antcrew::travels_by_cereal<Drift> = true;

TEST_CASE("ProcessCrew: types that cereal can serialise come back, long ones too") {
  for (const CrewOptions& options : both_ways) {
    ProcessCrew crew(2, options);
    const auto make = [](std::size_t i) {
      return Drift{std::vector<double>(i * 900, 0.5), "gauge " + std::to_string(i)};
    };
    const auto drifts = crew.collect(10, make);
    for (std::size_t i = 0; i < 10; ++i) CHECK(drifts[i] == make(i));
  }
}

TEST_CASE("ProcessCrew: plain results come back in order, by either way and every split") {
  for (const CrewOptions& options : both_ways) {
    for (const int workers : {1, 2, 5}) {
      ProcessCrew crew(workers, options);
      for (const Split split : all_splits) {
        for (const std::size_t n : {0u, 1u, 3u, 40'000u, 300'007u}) {
          if (n > 100'000 && split.items() == 1 && split.kind() == Split::Kind::chunks) continue;
          const std::int64_t outside = 17;
          const auto column =
              crew.collect(n, split, [&](std::size_t i) { return static_cast<std::int64_t>(i) + outside; });
          REQUIRE(column.size() == n);
          std::size_t wrong = 0;
          for (std::size_t i = 0; i < n; ++i) wrong += column[i] != static_cast<std::int64_t>(i) + outside;
          CHECK(wrong == 0);
          // Elements whose size does not divide a page, too.
          using Odd = std::array<char, 12>;
          const auto odd = crew.collect(n, split, [](std::size_t i) { return Odd{static_cast<char>(i % 100), 'o'}; });
          for (std::size_t i = 0; i < n; ++i) wrong += odd[i] != Odd{static_cast<char>(i % 100), 'o'};
          CHECK(wrong == 0);
        }
      }
    }
  }
}

TEST_CASE("ProcessCrew: a handed-over column may be written to, and is the caller's own") {
  ProcessCrew crew(2, {.processes = {.way = Way::zero_copy}});
  auto first = crew.collect(100'000, [](std::size_t i) { return static_cast<double>(i); });
  const auto second = crew.collect(100'000, [](std::size_t i) { return static_cast<double>(i); });
  for (double& x : first) x += 1;
  CHECK(first[99'999] == 100'000);
  CHECK(second[99'999] == 99'999);
}

TEST_CASE("ProcessCrew: strings, vectors of any depth, pairs, and types with functions of their own come back") {
  for (const CrewOptions& options : both_ways) {
    ProcessCrew crew(3, options);
    const auto names = crew.collect(2000, Split::chunks(3),
                                    [](std::size_t i) { return std::string(i % 50, 'x') + std::to_string(i); });
    const auto deep = crew.collect(50, [](std::size_t i) {
      return std::vector<std::vector<Sounding>>(i % 4, std::vector<Sounding>(i, {static_cast<int>(i), 3}));
    });
    const auto large =
        crew.collect(7, [](std::size_t i) { return std::vector<double>(100'000 + i, static_cast<double>(i)); });
    const auto pairs = crew.collect(100, [](std::size_t i) { return std::pair(std::to_string(i), i); });
    const auto buoys = crew.collect(100, [](std::size_t i) {
      return Buoy{"buoy " + std::to_string(i), {{static_cast<int>(i), 0.5}}};
    });
    for (std::size_t i = 0; i < 2000; ++i) REQUIRE(names[i] == std::string(i % 50, 'x') + std::to_string(i));
    for (std::size_t i = 0; i < 50; ++i) {
      REQUIRE(deep[i] == std::vector<std::vector<Sounding>>(i % 4, std::vector<Sounding>(i, {static_cast<int>(i), 3})));
    }
    for (std::size_t i = 0; i < 7; ++i) REQUIRE(large[i] == std::vector<double>(100'000 + i, static_cast<double>(i)));
    for (std::size_t i = 0; i < 100; ++i) {
      REQUIRE(pairs[i] == std::pair(std::to_string(i), i));
      REQUIRE(buoys[i] == Buoy{"buoy " + std::to_string(i), {{static_cast<int>(i), 0.5}}});
    }
  }
}

TEST_CASE("crews of processes: fold gives the same sum as threads do, to the last bit, for every worker count") {
  const auto sum_of = [](Range range) {
    double sum = 0;
    for (const std::size_t i : range) sum += 1.0 / static_cast<double>(i + 1);
    return sum;
  };
  ThreadCrew threads(2);
  const double expected = threads.fold(100'003, 0.25, sum_of, std::plus<>());
  for (const int workers : {1, 2, 4}) {
    ProcessCrew forked(workers);
    StandingCrew standing(workers);
    CHECK(forked.fold(100'003, 0.25, sum_of, std::plus<>()) == expected);
    CHECK(standing.fold(100'003, 0.25, sum_of, std::plus<>()) == expected);
  }
}

TEST_CASE("crews of processes: common arrays and counters are seen by all") {
  CommonArray<double> early(50'000);
  CommonCounter odd;
  ProcessCrew forked(3);
  StandingCrew standing(2);
  CommonArray<double> late(50'000);  // made after the standing workers
  forked.fill(early, Split::chunks(100), [&](std::size_t i) {
    if (i % 2 == 1) odd.add(1);
    return static_cast<double>(i);
  });
  CHECK(odd.get() == 25'000);
  for (int call = 0; call < 3; ++call) {
    standing.fill(
        late, Split::chunks(1000),
        [](std::size_t i, const CommonArray<double>& from, const CommonCounter& seen, int times) {
          if (i % 2 == 1) seen.add(1);
          return times * from[i];
        },
        early, odd, call);
    std::size_t wrong = 0;
    for (std::size_t i = 0; i < 50'000; ++i) wrong += late[i] != call * static_cast<double>(i);
    CHECK(wrong == 0);
    CHECK(odd.get() == 25'000 * (call + 2));
  }
}

TEST_CASE("StandingCrew: workers forget arrays that are gone, and hold nothing of them") {
  StandingCrew crew(2);
  const auto mapped = [&] {
    std::size_t most = 0;
    for (const pid_t worker : children_of(::getpid())) most = std::max(most, memory_files_mapped_by(worker));
    return most;
  };
  const auto first = [](std::size_t, const CommonArray<int>& array) { return array[0]; };
  for (int call = 0; call < 20; ++call) {
    CommonArray<int> array(1000);
    array[0] = call;
    CHECK(crew.collect(2, first, array)[1] == call);
    CHECK(mapped() <= 2);
  }
}

TEST_CASE("StandingCrew: long arguments go to every worker, and long results come back while they are sent") {
  for (const CrewOptions& options : both_ways) {
    StandingCrew crew(3, options);
    std::vector<double> depths(1'000'000);
    std::iota(depths.begin(), depths.end(), 0.0);
    const std::string unit = "m";
    for (int call = 0; call < 3; ++call) {
      const auto column = crew.collect(
          depths.size(), Split::even(),
          [](std::size_t i, const std::vector<double>& from, const std::string& in) {
            return from[i] + static_cast<double>(in.size());
          },
          depths, unit);
      std::size_t wrong = 0;
      for (std::size_t i = 0; i < depths.size(); ++i) wrong += column[i] != depths[i] + 1;
      CHECK(wrong == 0);
    }
  }
}

TEST_CASE("crews of processes: options that make no sense are refused, for threads too") {
  CHECK(fault_of<Error>([] { ProcessCrew(0); }).id() == "crew.workers");
  CHECK(fault_of<Error>([] { StandingCrew(2, {.stack_bytes = 1 << 20}); }).id() == "crew.options");
  CHECK(fault_of<Error>([] { ProcessCrew(2, {.processes = {.retries = -1}}); }).id() == "crew.options");
  CHECK(fault_of<Error>([] { ThreadCrew(2, {.processes = {.retries = 1}}); }).id() == "crew.options");
  CHECK(fault_of<Error>([] { TaskCrew(2, {.processes = {.way = Way::zero_copy}}); }).id() == "crew.options");
}

TEST_CASE("ProcessCrew: a call in a body on the same crew runs in that worker") {
  ProcessCrew crew(2);
  const auto sums = crew.collect(4, [&](std::size_t i) {
    return crew.fold(
        100, i, [](Range r) { return r.size(); }, std::plus<>());
  });
  for (std::size_t i = 0; i < 4; ++i) CHECK(sums[i] == 100 + i);
}

TEST_CASE("a crew of threads is refused in a process that was forked after it had been made") {
  ThreadCrew threads(2);
  TaskCrew tasks(2);
  ProcessCrew crew(2);
  const auto used = [&](auto& inherited) {
    return fault_of<WorkerThrew>([&] {
      crew.collect(2, [&](std::size_t i) {
        return inherited.fold(
            i + 1, std::size_t{0}, [](Range r) { return r.size(); }, std::plus<>());
      });
    });
  };
  CHECK(std::string(used(threads).text()).find("ThreadCrew") != std::string::npos);
  CHECK(std::string(used(tasks).text()).find("TaskCrew") != std::string::npos);
  if (thread_sanitizer) return;
  // One of its own is fine.
  const auto own = crew.collect(2, [](std::size_t i) {
    ThreadCrew mine(2);
    return mine.fold(
        100, i, [](Range r) { return r.size(); }, std::plus<>());
  });
  CHECK(own[1] == 101);
}

TEST_CASE("ProcessCrew: a second thread is refused while a call is under way") {
  ProcessCrew crew(2);
  CommonCounter begun;
  CommonCounter tried;
  std::jthread other([&] {
    while (begun.get() == 0) std::this_thread::yield();
    CHECK(fault_of<Error>([&] { crew.collect(1, [](std::size_t i) { return i; }); }).id() == "crew.busy");
    tried.add(1);
  });
  crew.collect(2, [&](std::size_t i) {
    begun.add(1);
    while (tried.get() == 0) std::this_thread::yield();
    return i;
  });
  other.join();
}

TEST_CASE("crews of processes take plain functions as bodies") {
  struct Body {
    static double depth(std::size_t i) { return static_cast<double>(i) / 2; }
  };
  for (const Way way : {Way::copied, Way::zero_copy}) {
    ProcessCrew crew(2);
    CHECK(crew.collect(100'000, Split::chunks(1000), Body::depth, way)[99'999] == 49'999.5);
  }
  ProcessCrew crew(2);
  CommonArray<double> depths(100);
  crew.fill(depths, Body::depth);
  CHECK(depths[99] == 49.5);
}

TEST_CASE("ProcessCrew: a stop token ends the call early, which collect says") {
  ProcessCrew crew(2);
  CommonCounter begun;
  std::stop_source source;
  std::jthread other([&] {
    while (begun.get() == 0) std::this_thread::yield();
    source.request_stop();
  });
  const auto slowly = [&](std::size_t i) {
    begun.add(1);
    std::this_thread::sleep_for(std::chrono::milliseconds(1));
    return i;
  };
  CHECK(fault_of<Error>([&] { crew.collect(100'000, Split::chunks(1), slowly, source.get_token()); }).id() ==
        "crew.stopped");
  CHECK(begun.get() < 50'000);
  other.join();
}

TEST_CASE("crews of processes: what was moved is counted, worker by worker") {
  StandingCrew standing(2);
  ProcessCrew forked(2);
  const auto tenth = [](std::size_t i) { return static_cast<double>(i) / 10; };
  standing.collect(1'000'000, tenth);
  forked.collect(1'000'000, tenth);
  for (const MovedData& moved : {standing.moved(), forked.moved()}) {
    REQUIRE(moved.workers.size() == 2);
    for (const MovedData::Side& worker : moved.workers) {
      CHECK(worker.bytes >= 4'000'000);
      CHECK(worker.bytes < 4'100'000);
      CHECK(worker.seconds > 0);
    }
    CHECK(moved.parent.bytes >= 8'000'000);
    CHECK(moved.parent.seconds > 0);
    CHECK(moved.forks == 2);
    CHECK(moved.fork_s > 0);
  }
}

TEST_CASE("ProcessCrew: what the parent pays to touch its memory again after a fork is counted") {
  constexpr std::size_t bytes = 32 << 20;
  auto* memory = static_cast<char*>(::mmap(nullptr, bytes, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0));
  REQUIRE(memory != MAP_FAILED);
  ::madvise(memory, bytes, MADV_NOHUGEPAGE);
  std::memset(memory, 1, bytes);
  ProcessCrew crew(1);
  crew.collect(1, [](std::size_t i) { return i; });
  const auto before = crew.moved().faults_after_fork;
  std::memset(memory, 2, bytes);
  const MovedData moved = crew.moved();
  CHECK(moved.faults_after_fork - before >= 8000);
  if (exact_memory) CHECK(moved.faults_after_fork - before < 9000);
  CHECK(moved.after_fork_s > 0);
  // Fresh memory is not what the fork costs.
  const std::vector<char> fresh(bytes, 1);
  if (exact_memory) CHECK(crew.moved().faults_after_fork - moved.faults_after_fork < 1000);
  ::munmap(memory, bytes);
}
