// The folder of records: what is kept, by which names it is found again, and what happens when two write, when a disk
// refuses, when files are damaged, lost or from another version.
#include "antcrew/store/store.hpp"

#include <doctest/doctest.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cstdlib>
#include <filesystem>
#include <functional>
#include <set>
#include <thread>

#include "antcrew/base/error.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/record/growing_file.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/record/record_file.hpp"
#include "antcrew/record/record_json.hpp"
#include "antcrew/store/index.hpp"
#include "antcrew/store/record_lookup.hpp"
#include "store/stored_runs.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using namespace test;
namespace files = std::filesystem;

TEST_CASE("records are kept byte for byte, numbered from 1 on, and the same run takes no second number") {
  const TemporaryFolder folder;
  Store store(folder / "store");
  CHECK(store.runs().empty());
  CHECK_FALSE(files::exists(folder / "store"));  // looking makes nothing
  const std::string first = saved(folder, "first.json", run_of("One"));
  test::write_file(first, test::read_file(first) + "\n  \n");  // whatever else is in the file
  CHECK(store.keep(first).number == 1);
  CHECK(store.keep(saved(folder, "second.json", run_of("Two"))).number == 2);
  const Kept again = store.keep(first);
  CHECK(again.number == 1);
  CHECK(again.how == Kept::How::already);
  const std::vector<StoredRun> runs = store.runs();
  CHECK(numbers(runs) == std::vector<int>{1, 2});
  CHECK(test::read_file(runs[0].path) == test::read_file(first));
}

TEST_CASE("a run that went on replaces what was stored of it; an older part of it does not") {
  const TemporaryFolder folder;
  Store store(folder / "store");
  Record record = run_of("Gone on with", 1, 5);
  const std::string early = saved(folder, "early.json", record);
  CHECK(store.keep(early).number == 1);
  for (Cell& cell : record.cells) cell.trials.insert(cell.trials.end(), cell.trials.begin(), cell.trials.end());
  const std::string late = saved(folder, "late.json", record);
  CHECK(store.keep(late).how == Kept::How::replaced);
  CHECK(store.keep(early).how == Kept::How::already);
  CHECK(test::read_file(store.runs().at(0).path) == test::read_file(late));
  CHECK(store.runs().size() == 1);
}

TEST_CASE("a record that still grows in two files is stored as one") {
  const TemporaryFolder folder;
  const Record record = run_of("Growing");
  GrowingFile file(folder / "growing.json", GrowingFile::Existing::refused);
  file.begin(record);
  Store store(folder / "store");
  store.keep(folder / "growing.json");
  CHECK(load_record(store.runs().at(0).path).title == "Growing");
  CHECK(test::read_file(store.runs().at(0).path).find("rounds_beside") == std::string::npos);
}

TEST_CASE("older records without an id of their run are told apart, and known again") {
  const TemporaryFolder folder;
  Store store(folder / "store");
  Record record = run_of("Old");
  record.run.clear();
  Record other = record;
  other.plan.seed = 7;
  CHECK(store.keep(saved(folder, "a.json", record)).number == 1);
  CHECK(store.keep(saved(folder, "b.json", other)).number == 2);
  CHECK(store.keep(saved(folder, "again.json", record)).number == 1);
}

TEST_CASE("an id that would leave the folder stays in it") {
  const TemporaryFolder folder;
  Record record = run_of("Odd");
  record.run = "../../../outside";
  Store store(folder / "store");
  store.keep(saved(folder, "a.json", record));
  CHECK(store.keep(folder / "a.json").how == Kept::How::already);
  CHECK(store.runs().size() == 1);
  CHECK_FALSE(files::exists(folder / "outside.json"));
}

TEST_CASE("numbers of forgotten runs are not given away again") {
  const TemporaryFolder folder;
  Store store(folder / "store");
  for (int k = 0; k < 3; ++k) store.keep(saved(folder, "r.json", run_of("One of three")));
  store.note(store.runs()[2], {"third", {"a-label"}, "a note"});
  store.forget({store.runs()[2]});
  CHECK(numbers(store.runs()) == std::vector<int>{1, 2});
  CHECK(store.keep(saved(folder, "r.json", run_of("Later"))).number == 4);
  const StoredRun first = store.runs()[0];
  store.forget({first});
  CHECK(error_id([&] { store.note(first, {"too late", {}, ""}); }) == "store.none");
  CHECK(numbers(store.runs()) == std::vector<int>{2, 4});
}

TEST_CASE("runs are called by number, last, the ones before it, and labels") {
  const TemporaryFolder folder;
  Store store(folder / "store");
  for (int k = 0; k < 4; ++k) store.keep(saved(folder, "r.json", run_of("One of four")));
  store.note(store.runs()[0], {"", {"before", "slow"}, ""});
  store.note(store.runs()[2], {"", {"before"}, ""});
  const auto called = [&](const std::string& word) { return numbers(runs_called(word, store)); };
  CHECK(called("2") == std::vector<int>{2});
  CHECK(called("last") == std::vector<int>{4});
  CHECK(called("last-3") == std::vector<int>{1});
  CHECK(called("before") == std::vector<int>{1, 3});
  CHECK(called("slow") == std::vector<int>{1});
  for (const char* unknown : {"5", "0", "last-4", "befor", "99999999999999999999", "last-", "last-x", "Last"}) {
    CAPTURE(unknown);
    CHECK(error_id([&] { called(unknown); }) == "store.none");
  }
  CHECK(records_called("tides.json", folder / "none") == std::vector<std::string>{"tides.json"});
  CHECK(records_called("./4", folder / "none") == std::vector<std::string>{"./4"});
  CHECK(error_id([&] { records_called("last", ""); }) == "store.none");
  CHECK(error_id([&] { records_called("last", folder / "none"); }) == "store.none");
  files::remove(store.runs()[2].path);
  CHECK(error_id([&] { records_called("3", store.folder()); }) == "store.lost");
  CHECK(called("last-2") == std::vector<int>{1});  // of those that are there
}

TEST_CASE("what cannot be a label") {
  for (const char* wrong : {"", "12", "last", "last-2", "a/b", "a,b", "a b", "-x", "tides.json", "a\nb", "\x1b[1m"}) {
    CAPTURE(wrong);
    CHECK(error_id([&] { check_label(wrong); }) == "store.label");
  }
  for (const char* right : {"before", "v1.2", "last-minute", "12b", "größer"}) CHECK_NOTHROW(check_label(right));
}

TEST_CASE("eight processes that store at once: every run is there once, with a number of its own") {
  const TemporaryFolder folder;
  constexpr int writers = 8;
  constexpr int each = 12;
  std::vector<Record> records;
  for (int k = 0; k < writers * each; ++k) records.push_back(run_of(fmt::format("Run {}", k)));
  Record shared = run_of("Stored by all of them");
  const std::string shared_path = saved(folder, "shared.json", shared);
  const bool well = processes(writers, [&](int k) {
    Store store(folder / "store");
    for (int i = 0; i < each; ++i) {
      const std::string path = folder / fmt::format("r{}-{}.json", k, i);
      save_record(records[static_cast<std::size_t>(k * each + i)], path);
      store.keep(path, false);
      if (i % 4 == 0) Index(store).find({});  // lists at the same time
    }
    store.keep(shared_path, false);
  });
  CHECK(well);
  Store store(folder / "store");
  std::set<int> given;
  std::set<std::string> titles;
  for (const StoredRun& run : store.runs()) {
    given.insert(run.number);
    titles.insert(load_record(run.path).title);
  }
  CHECK(store.runs().size() == writers * each + 1);
  CHECK(given.size() == writers * each + 1);
  CHECK(*given.rbegin() == writers * each + 1);
  CHECK(titles.size() == writers * each + 1);
  const Index index(store);
  CHECK(index.find({}).matching == writers * each + 1);
}

TEST_CASE("a writer that is killed at any moment leaves nothing half") {
  const TemporaryFolder folder;
  const std::string path = saved(folder, "r.json", run_of("Stored again and again"));
  for (int delay_us = 100; delay_us < 6000; delay_us += 300) {
    const pid_t child = ::fork();
    if (child == 0) {
      ::alarm(20);
      Store store(folder / "store");
      for (;;) {
        store.keep(path, false);
        store.forget(store.runs());
      }
    }
    ::usleep(static_cast<useconds_t>(delay_us));
    ::kill(child, SIGKILL);
    ::waitpid(child, nullptr, 0);
    Store store(folder / "store");
    for (const StoredRun& run : store.runs()) CHECK_NOTHROW(load_record(run.path));
    CHECK(store.keep(path, false).number > 0);  // and the lock is free
  }
}

TEST_CASE("a store that another program holds is waited for") {
  const TemporaryFolder folder;
  Store store(folder / "store");
  store.keep(saved(folder, "a.json", run_of("First")));
  const std::string second = saved(folder, "b.json", run_of("Second"));
  const pid_t holder = ::fork();
  if (holder == 0) {
    ::execlp("flock", "flock", (folder / "store/lock").c_str(), "sleep", "0.4", nullptr);
    ::_exit(127);
  }
  ::usleep(150'000);
  const std::int64_t begun = now_ns();
  CHECK(store.keep(second).number == 2);
  CHECK(static_cast<double>(now_ns() - begun) * 1e-9 > 0.05);
  ::waitpid(holder, nullptr, 0);
}

// Both have looked at the store before they get the lock; what the first removes, the second must not forget.
TEST_CASE("two removals that wait for the lock together give no number free") {
  const TemporaryFolder folder;
  Store store(folder / "store");
  for (const char* name : {"a.json", "b.json", "c.json"}) store.keep(saved(folder, name, run_of(name)));
  const std::vector<StoredRun> runs = store.runs();
  REQUIRE(runs.size() == 3);
  const int lock = ::open((folder / "store/lock").c_str(), O_RDWR | O_CLOEXEC);
  REQUIRE(::flock(lock, LOCK_EX) == 0);
  std::vector<std::thread> removals;
  for (const std::size_t which : {2u, 1u}) {
    removals.emplace_back([&folder, &runs, which] { Store(folder / "store").forget({runs[which]}); });
  }
  std::this_thread::sleep_for(std::chrono::milliseconds(100));
  ::close(lock);
  for (std::thread& removal : removals) removal.join();
  CHECK(store.keep(saved(folder, "d.json", run_of("d"))).number == 4);
}

TEST_CASE("what is no store, or is from a newer Ant Crew, is left as it is") {
  const TemporaryFolder folder;
  const std::string record = saved(folder, "r.json", run_of("A run"));
  Store store(folder / "store");
  store.keep(record);
  const std::string facts = folder / "store/store.json";
  for (const char* text : {"{\"format\": \"antcrew-store\", \"version\": 99}",
                           "{\"format\": \"antcrew-store\", \"version\": 4294967297}", "nonsense", "{}", "", "[1]"}) {
    CAPTURE(text);
    test::write_file(facts, text);
    CHECK(error_id([&] { store.keep(record); }) == "store.format");
    CHECK(error_id([&] { store.runs(); }) == "store.format");
    CHECK(error_id([&] { store.forget({}); }) == "store.format");
    CHECK(test::read_file(facts) == text);
  }
  CHECK(files::exists(folder / "store/records"));
}

TEST_CASE("where nothing can be written storing says so, and no file of the run is touched") {
  const TemporaryFolder folder;
  const std::string record = saved(folder, "r.json", run_of("A run"));
  test::write_file(folder / "taken", "a file where the folder should be");
  CHECK(error_id([&] { Store(folder / "taken").keep(record); }) == "store.write");
  CHECK(error_id([&] { Store("/proc/antcrew").keep(record); }) == "store.write");
  CHECK(error_id([&] { Store(folder / "store").keep(folder / "none.json"); }) == "record.file");
  CHECK_FALSE(files::exists(folder / "store"));
  CHECK_NOTHROW(load_record(record));
}

TEST_CASE("where the history is") {
  const TemporaryFolder home;
  const auto with = [](const char* store, const char* data, const char* house) {
    const auto set = [](const char* name, const char* value) {
      if (value == nullptr) {
        ::unsetenv(name);
      } else {
        ::setenv(name, value, 1);
      }
    };
    set("ANTCREW_STORE", store);
    set("XDG_DATA_HOME", data);
    set("HOME", house);
    const std::string folder = default_store();
    set("ANTCREW_STORE", "off");
    return folder;
  };
  const std::string kept_home = std::getenv("HOME") != nullptr ? std::getenv("HOME") : "/";
  CHECK(with("/some/where", "/data", home.path().c_str()) == "/some/where");
  CHECK(with("off", "/data", home.path().c_str()).empty());
  CHECK(with(nullptr, "/data", home.path().c_str()) == "/data/antcrew");
  CHECK(with("", "not/absolute", home.path().c_str()) == home / ".local/share/antcrew");
  CHECK(with(nullptr, nullptr, (home / "none").c_str()).empty());
  ::setenv("HOME", kept_home.c_str(), 1);
}
