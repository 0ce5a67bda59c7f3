// Workers that die, throw, hang or fill the memory: what the caller is told, and that nothing is left behind.
#include <doctest/doctest.h>
#include <fcntl.h>
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <functional>
#include <new>
#include <set>
#include <stdexcept>
#include <string>
#include <thread>
#include <vector>

#include "antcrew/crew/process_crew.hpp"
#include "antcrew/crew/standing_crew.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/crew/worker.hpp"
#include "antcrew/machine/usage.hpp"
#include "process_facts.hpp"
#include "support/command.hpp"

using namespace antcrew;

namespace {

// Its two functions do not agree.
struct Lying {
  std::size_t i;
};
void pack(Packer& to, const Lying& lying) {
  to.put(lying.i);
}
void unpack(Unpacker& from, Lying& lying) {
  std::string more;
  from.get(lying.i);
  from.get(more);
  from.get(more);
}

enum class How { killed, read_badly, exited, aborted, threw, threw_nothing_known, filled_memory, hung };

// What worker faults look like; only for index 70 of 100.
double at_fault(std::size_t i, How how) {
  if (i != 70) return static_cast<double>(i);
  for (const int number : {SIGSEGV, SIGABRT}) ::signal(number, SIG_DFL);  // the test's own handlers would report them
  switch (how) {
    case How::killed:
      ::kill(::getpid(), SIGKILL);
      break;
    case How::read_badly:
      ::raise(SIGSEGV);
      break;
    case How::exited:
      ::_exit(3);
    case How::aborted:
      std::abort();
    case How::threw:
      throw std::out_of_range("no gauge 70");
    case How::threw_nothing_known:
      throw 7;
    case How::filled_memory: {
      std::vector<std::vector<char>> all;
      while (true) all.emplace_back(16 << 20, 'x');
    }
    case How::hung:
      while (true) ::pause();
  }
  return 0;
}

CrewOptions options_for(How how) {
  CrewOptions options;
  if (how == How::filled_memory) options.processes.memory_bytes = 128 << 20;
  if (how == How::hung) options.processes.deadline_s = 1;
  return options;
}

template <class Crew>
auto call(Crew& crew, How how) {
  if constexpr (std::is_same_v<Crew, ProcessCrew>) {
    return crew.collect(100, Split::chunks(5), [how](std::size_t i) { return at_fault(i, how); });
  } else {
    return crew.collect(
        100, Split::chunks(5), [](std::size_t i, How given) { return at_fault(i, given); }, how);
  }
}

template <class Crew>
void check_fault(How how) {
  Crew crew(2, options_for(how));
  crew.collect(2, [](std::size_t i) { return i; });
  const std::size_t held = open_descriptors();
  const std::size_t children = children_of(::getpid()).size();
  try {
    call(crew, how);
    FAIL("nothing was thrown");
  } catch (const ProcessDied& died) {
    CHECK(died.range() == Range{70, 75});
    CHECK(died.worker() >= 0);
    CHECK(died.worker() < 2);
    if (how == How::exited) CHECK(died.exit_code() == 3);
    if (how == How::killed) CHECK(died.signal() == SIGKILL);
    if (how == How::read_badly) CHECK(died.signal() == SIGSEGV);
    if (how == How::aborted) CHECK(died.signal() == SIGABRT);
    CHECK((how == How::hung) == (died.reason() == ProcessDied::Reason::deadline));
    CHECK(std::string(died.what()).find("70 … 74") != std::string::npos);
  } catch (const WorkerThrew& threw) {
    CHECK((how == How::threw || how == How::filled_memory || how == How::threw_nothing_known));
    CHECK(threw.range() == Range{70, 75});
    if (how == How::threw) {
      CHECK(threw.type() == "std::out_of_range");
      CHECK(threw.text() == "no gauge 70");
    }
    if (how == How::filled_memory) CHECK(threw.out_of_memory());
    if (how == How::threw_nothing_known) CHECK(threw.type() == "int");
  }
  // The crew goes on to be of use, and has what it had.
  const auto again = crew.collect(50, [](std::size_t i) { return i; });
  CHECK(again[49] == 49);
  CHECK(open_descriptors() == held);
  CHECK(children_of(::getpid()).size() == children);
}

// A process that works with crews until it is killed: what then is left of it.
void work_until_killed(int told) {
  StandingCrew standing(2);
  ProcessCrew forked(2);
  const std::string folder = scratch_folder();
  standing.collect(2, [](std::size_t i) { return scratch_folder().size() + i; });
  if (::write(told, folder.c_str(), folder.size() + 1) < 0) ::_exit(1);
  forked.collect(2, [&](std::size_t) {
    std::ofstream(scratch_folder() + "/left") << "half";
    const pid_t me = ::getpid();
    if (::write(told, &me, sizeof me) < 0) ::_exit(1);
    while (true) ::pause();
    return 0;
  });
}

template <class Done>
bool comes_true(Done done) {
  for (int look = 0; look < 5000; ++look) {
    if (done()) return true;
    std::this_thread::sleep_for(std::chrono::milliseconds(2));
  }
  return false;
}

}  // namespace

TEST_CASE("crews of processes: a worker that fails ends the call with what happened, where, and to which range") {
  for (const How how : {How::killed, How::read_badly, How::exited, How::aborted, How::threw, How::threw_nothing_known,
                        How::filled_memory, How::hung}) {
    CAPTURE(static_cast<int>(how));
    check_fault<ProcessCrew>(how);
    check_fault<StandingCrew>(how);
  }
}

TEST_CASE("crews of processes: what a dead worker held is done again, as often as was allowed") {
  for (const Way way : {Way::copied, Way::zero_copy}) {
    const CrewOptions options{.processes = {.way = way, .retries = 2}};
    CommonCounter deaths;
    ProcessCrew forked(3, options);
    const auto dies_twice = [&](std::size_t i) {
      if (i == 70'000 && deaths.get() < 2) {
        deaths.add(1);
        ::kill(::getpid(), SIGKILL);
      }
      return 2 * i;
    };
    for (const Split split : {Split::even(), Split::chunks(1000), Split::chunks(20'000)}) {
      deaths.set(0);
      const auto column = forked.collect(200'000, split, dies_twice);
      std::size_t wrong = 0;
      for (std::size_t i = 0; i < column.size(); ++i) wrong += column[i] != 2 * i;
      CHECK(wrong == 0);
      CHECK(deaths.get() == 2);
    }
    deaths.set(0);
    StandingCrew standing(3, options);
    const auto texts = standing.collect(
        3000, Split::chunks(10),
        [](std::size_t i, const CommonCounter& died) {
          if (i == 700 && died.get() < 2) {
            died.add(1);
            ::kill(::getpid(), SIGKILL);
          }
          return std::string(300, 'x') + std::to_string(i);
        },
        deaths);
    for (std::size_t i = 0; i < texts.size(); ++i) REQUIRE(texts[i] == std::string(300, 'x') + std::to_string(i));
    CHECK(deaths.get() == 2);
    // A third time is once too often.
    deaths.set(-1);
    CHECK_THROWS_AS(forked.collect(200'000, Split::chunks(1000), dies_twice), ProcessDied);
  }
}

TEST_CASE("StandingCrew: a worker that was killed between calls is noticed, and replaced") {
  StandingCrew crew(2, {.processes = {.retries = 1}});
  CHECK(crew.collect(10, [](std::size_t i) { return i; })[9] == 9);
  for (const pid_t worker : children_of(::getpid())) ::kill(worker, SIGKILL);
  CHECK(crew.collect(10, [](std::size_t i) { return i; })[9] == 9);
  CHECK(crew.collect(10, [](std::size_t i) { return i; })[9] == 9);
}

TEST_CASE("crews of processes: a value that cannot be unpacked ends the call, and the next one works") {
  ProcessCrew forked(2);
  StandingCrew standing(2);
  const auto lies = [](std::size_t i) { return Lying{i}; };
  CHECK_THROWS_AS(forked.collect(3, lies), Error);
  CHECK_THROWS_AS(standing.collect(3, lies), Error);
  // An argument, with much behind it that nobody will read.
  CHECK_THROWS_AS(standing.collect(
                      3, [](std::size_t i, const Lying&, const std::vector<double>&) { return i; }, Lying{1},
                      std::vector<double>(3'000'000)),
                  WorkerThrew);
  CHECK(forked.collect(3, [](std::size_t i) { return i; })[2] == 2);
  CHECK(standing.collect(3, [](std::size_t i) { return i; })[2] == 2);
}

// The allocator of this sanitizer holds no lock of its own across a fork, as that of the C library does: a child may
// wait for ever for one that another thread had (5 of 300 bare forks with g++ 12).
#if defined(__SANITIZE_ADDRESS__)
constexpr bool allocator_may_fork = false;
#else
constexpr bool allocator_may_fork = true;
#endif

TEST_CASE("crews of processes: from a program whose other threads allocate all the time" *
          doctest::skip(!allocator_may_fork)) {
  std::atomic<bool> enough{false};
  std::vector<std::thread> others;
  for (int k = 0; k < 2; ++k) {
    others.emplace_back([&] {
      std::vector<std::string> all;
      while (!enough) {
        all.assign(50, std::string(100, 'x'));
        std::this_thread::yield();
      }
    });
  }
  ProcessCrew forked(2);
  for (int round = 0; round < 100; ++round) {
    const auto texts = forked.collect(20, [](std::size_t i) { return std::string(1000, 'y') + std::to_string(i); });
    REQUIRE(texts[19].size() == 1002);
  }
  StandingCrew standing(2);
  CHECK(standing.collect(20, [](std::size_t i) { return std::string(i, 'y'); })[19].size() == 19);
  enough = true;
  for (std::thread& other : others) other.join();
}

TEST_CASE("StandingCrew: outlives the thread that made it") {
  std::unique_ptr<StandingCrew> crew;
  std::thread([&] { crew = std::make_unique<StandingCrew>(2); }).join();
  CHECK(crew->collect(10, [](std::size_t i) { return i; })[9] == 9);
}

TEST_CASE("crews of processes: nothing is left when their program is killed in the middle of a call" *
          doctest::skip(thread_sanitizer)) {
  int told[2];
  REQUIRE(::pipe(told) == 0);
  const pid_t program = ::fork();
  if (program == 0) {
    work_until_killed(told[1]);
    ::_exit(1);
  }
  ::close(told[1]);
  std::string folder;
  for (char c = 0; ::read(told[0], &c, 1) == 1 && c != 0;) folder.push_back(c);
  std::vector<pid_t> workers(2);
  for (pid_t& worker : workers) REQUIRE(::read(told[0], &worker, sizeof worker) == sizeof worker);
  for (const pid_t child : children_of(program)) workers.push_back(child);
  CHECK(workers.size() >= 6);
  CHECK(std::filesystem::exists(folder));
  const std::filesystem::path base = std::filesystem::path(folder).parent_path();
  ::kill(program, SIGKILL);
  int status = 0;
  ::waitpid(program, &status, 0);
  ::close(told[0]);
  CHECK(comes_true(
      [&] { return std::none_of(workers.begin(), workers.end(), is_alive) && !std::filesystem::exists(base); }));
}

TEST_CASE("what a killed program left in its scratch folder is gone, however deep, and links lead nowhere") {
  const test::TemporaryFolder kept;
  std::ofstream(kept / "file") << "kept";
  int told[2];
  REQUIRE(::pipe(told) == 0);
  const pid_t program = ::fork();
  if (program == 0) {
    const std::filesystem::path folder = scratch_folder();
    std::filesystem::create_directories(folder / "a" / "b" / "c");
    for (int k = 0; k < 500; ++k)
      std::ofstream(folder / "a" / ("a file with a name that is not short " + std::to_string(k)));
    std::ofstream(folder / "a" / "b" / "c" / "deep") << "deep";
    std::filesystem::create_directory_symlink(kept.path(), folder / "link");
    std::filesystem::create_symlink(kept / "file", folder / "a" / "link");
    const std::string name = folder.string();
    static_cast<void>(!::write(told[1], name.data(), name.size()));
    ::kill(::getpid(), SIGKILL);
  }
  int status = 0;
  ::waitpid(program, &status, 0);
  char name[512] = {};
  REQUIRE(::read(told[0], name, sizeof name - 1) > 0);
  for (const int end : told) ::close(end);
  CHECK(comes_true([&] { return !std::filesystem::exists(std::filesystem::path(name).parent_path()); }));
  CHECK(std::filesystem::exists(kept / "file"));
}

TEST_CASE("workers have a number and a scratch folder of their own, threads and processes alike") {
  const auto note = [](std::size_t i) {
    const std::string folder = scratch_folder();
    std::ofstream(folder + "/" + std::to_string(i)) << this_worker();
    return folder;
  };
  const auto same = [&](const auto& folders) {
    for (const std::string& folder : folders) {
      if (std::filesystem::exists(folder)) return true;
    }
    return false;
  };
  {
    ThreadCrew threads(3);
    CommonCounter inside;
    const auto folders = threads.collect(3, [&](std::size_t i) {
      inside.add(1);
      while (inside.get() < 3) std::this_thread::yield();
      return note(i) + "|" + std::to_string(this_worker());
    });
    std::set<std::string> different(folders.begin(), folders.end());
    CHECK(different.size() == 3);
    for (std::size_t k = 0; k < 3; ++k) CHECK(folders[k].substr(folders[k].find('|') + 1) == std::to_string(k));
  }
  TaskCrew tasks(2);
  tasks.each(100, Grain{1}, [](std::size_t) { CHECK(this_worker() < 2); });
  CHECK(this_worker() == 0);

  ProcessCrew forked(3);
  const auto of_forked = forked.collect(3, note);
  CHECK(std::set<std::string>(of_forked.begin(), of_forked.end()).size() == 3);
  CHECK_FALSE(same(of_forked));
  std::vector<std::string> of_standing;
  {
    StandingCrew standing(2);
    const auto folders =
        standing.collect(2, [](std::size_t) { return scratch_folder() + std::to_string(this_worker()); });
    for (std::size_t k = 0; k < 2; ++k) {
      CHECK(folders[k].back() == static_cast<char>('0' + k));
      of_standing.push_back(folders[k].substr(0, folders[k].size() - 1));
    }
    CHECK(same(of_standing));
  }
  CHECK_FALSE(same(of_standing));
  // Also after a crash.
  CommonArray<char> left(200);
  CHECK_THROWS_AS(forked.collect(1,
                                 [&](std::size_t i) {
                                   const std::string folder = note(i);
                                   std::copy(folder.begin(), folder.end(), left.begin());
                                   ::signal(SIGABRT, SIG_DFL);
                                   std::abort();
                                   return 0;
                                 }),
                  ProcessDied);
  CHECK(std::string(left.data()).find("antcrew-scratch") != std::string::npos);
  CHECK_FALSE(std::filesystem::exists(left.data()));
}

TEST_CASE("crews of processes: thousands of calls leave no memory, descriptor or process behind") {
  ProcessCrew forked(2, {.processes = {.way = Way::zero_copy}});
  StandingCrew standing(2);
  const auto once = [&](std::size_t n) {
    forked.collect(n, [](std::size_t i) { return static_cast<double>(i); });
    standing.collect(
        20, [](std::size_t i, const std::string& text) { return text + std::to_string(i); }, std::string(50, 'x'));
    CommonArray<double> array(1000);
    standing.fill(array, [](std::size_t i) { return static_cast<double>(i); });
  };
  for (int call = 0; call < 20; ++call) once(40'000);
  const std::size_t descriptors = open_descriptors();
  const std::uint64_t memory = antcrew::machine_layer::resident_bytes();
  for (int call = 0; call < 400; ++call) once(call % 10 == 0 ? 40'000 : 10);
  CHECK(open_descriptors() == descriptors);
  CHECK(children_of(::getpid()).size() == 2);
  CHECK(memory_files_mapped_by(::getpid()) == 0);
  if (exact_memory) CHECK(antcrew::machine_layer::resident_bytes() < memory + (2u << 20));
}
