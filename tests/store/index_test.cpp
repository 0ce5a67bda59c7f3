// The index: what it finds, how it follows what changes, and what it does with a file that is not its own.
#include "antcrew/store/index.hpp"
#include "antcrew/record/record.hpp"

#include <doctest/doctest.h>
#include <sqlite3.h>

#include <filesystem>

#include "store/stored_runs.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using namespace test;
namespace files = std::filesystem;

TEST_CASE("the index finds runs by what they are, and follows what changes") {
  const TemporaryFolder folder;
  Store store(folder / "store");
  store.keep(saved(folder, "a.json", run_of("Tide heights")));
  Record slow = run_of("Silt on the move", 3);
  slow.created = "2026-11-20T08:00:00Z";
  slow.machine.processor = "Estuary 9000";
  store.keep(saved(folder, "b.json", slow));
  Record wrong = run_of("Catalogue");
  wrong.cells[1].variant = "by keys";
  Fault fault;
  fault.kind = Fault::Kind::wrong_answer;
  wrong.cells[1].faults.push_back(fault);
  store.keep(saved(folder, "c.json", wrong));
  store.note(store.runs()[1], {"Silt, before", {"before"}, "on the small machine"});
  const auto found = [&](const Search& search) { return numbers(Index(store).find(search)); };
  const auto only = [&](auto Search::*field, const auto& value) {
    Search search;
    search.*field = value;
    return found(search);
  };
  CHECK(found({}) == std::vector<int>{3, 2, 1});
  CHECK(only(&Search::title, "tide") == std::vector<int>{1});
  CHECK(only(&Search::text, "SMALL machine") == std::vector<int>{2});
  CHECK(only(&Search::text, "before") == std::vector<int>{2});
  CHECK(only(&Search::variant, "keys") == std::vector<int>{3});
  CHECK(only(&Search::machine, "estuary") == std::vector<int>{2});
  CHECK(only(&Search::label, "befor").empty());
  CHECK(only(&Search::label, "before") == std::vector<int>{2});
  CHECK(only(&Search::verdict, "wrong answer") == std::vector<int>{3});
  CHECK(only(&Search::verdict, "not faster") == std::vector<int>{2});
  CHECK(only(&Search::since, "2026-11-21T00:00:00Z") == std::vector<int>{3, 1});
  CHECK(only(&Search::until, "2026-11-21T00:00:00Z") == std::vector<int>{2});
  CHECK(only(&Search::text, "%' OR 1=1 --").empty());
  Search two;
  two.newest = 2;
  CHECK(found(two) == std::vector<int>{3, 2});
  CHECK(Index(store).find(two).matching == 3);

  store.note(store.runs()[1], {});  // notes change
  CHECK(only(&Search::label, "before").empty());
  files::remove(store.runs()[0].path);  // a file is lost
  const FoundRuns after = Index(store).find({});
  REQUIRE(after.runs.size() == 3);
  CHECK(after.runs[2].stored.lost);
  CHECK(after.runs[2].title == "Tide heights");
  store.keep(folder / "a.json");                                         // and comes again, under a number of its own
  test::write_file(store.runs()[0].path, "{\"format\": \"antcrew-rec");  // one is damaged
  const FoundRuns damaged = Index(store).find({});
  CHECK_FALSE(damaged.runs.at(2).trouble.empty());
}

TEST_CASE("an index that is damaged, foreign or newer is told and left; it is made again from the records") {
  const TemporaryFolder folder;
  Store store(folder / "store");
  store.keep(saved(folder, "a.json", run_of("Kept")));
  store.note(store.runs()[0], {"a name", {"a-label"}, ""});
  CHECK(Index(store).find({}).matching == 1);
  const std::string path = index_path(store.folder());
  const std::string sound = test::read_file(path);
  const auto statement = [&](const char* words) {
    sqlite3* base = nullptr;
    REQUIRE(sqlite3_open(path.c_str(), &base) == SQLITE_OK);
    CHECK(sqlite3_exec(base, words, nullptr, nullptr, nullptr) == SQLITE_OK);
    sqlite3_close(base);
  };
  const auto refused = [&](const char* what) {
    CAPTURE(what);
    const std::string before = test::read_file(path);
    CHECK(error_id([&] { Index(store).find({}); }) == "store.index");
    CHECK(test::read_file(path) == before);
  };
  test::write_file(path, std::string(4096, 'x'));
  refused("garbage");
  test::write_file(path, sound);
  statement("PRAGMA user_version=99");
  refused("newer");
  test::write_file(path, sound);
  statement("PRAGMA application_id=1");
  refused("foreign");
  test::write_file(path, sound);
  statement("DROP TABLE labels");
  refused("without a table");
  const std::string aside = put_index_aside(store.folder());
  CHECK(files::exists(aside));
  const FoundRuns again = Index(store).find({});
  REQUIRE(again.runs.size() == 1);
  CHECK(again.runs[0].notes == Notes{"a name", {"a-label"}, ""});
}

TEST_CASE("notes that are damaged say so where they are needed, and are shown in the list") {
  const TemporaryFolder folder;
  Store store(folder / "store");
  store.keep(saved(folder, "a.json", run_of("Kept")));
  store.note(store.runs()[0], {"a name", {}, ""});
  for (const char* text : {"", "[]", "{\"labels\": 3}", "{\"name\": []}"}) {
    CAPTURE(text);
    test::write_file(store.runs()[0].notes, text);
    CHECK(error_id([&] { store.notes_of(store.runs()[0]); }) == "store.format");
    CHECK(Index(store).find({}).runs.at(0).notes.note.find("damaged") != std::string::npos);
  }
}

TEST_CASE("runs that are stored, forgotten and listed by several processes at once: none is taken for lost") {
  const TemporaryFolder folder;
  std::vector<std::string> paths;
  for (int k = 0; k < 40; ++k) paths.push_back(saved(folder, fmt::format("r{}.json", k), run_of("One of forty")));
  const std::string store_folder = folder / "store";
  const bool well = processes(4, [&](int who) {
    Store store(store_folder);
    for (int k = 0; k < 10; ++k) {
      store.keep(paths[static_cast<std::size_t>(who * 10 + k)], false);
      for (const ListedRun& run : Index(store).find({}).runs) {
        if (run.stored.lost) throw std::runtime_error("a run that nobody forgot is lost");
      }
    }
  });
  CHECK(well);
  // One forgets, as the command does, while others list.
  const bool forgotten = processes(3, [&](int who) {
    Store store(store_folder);
    for (int k = 0; k < 20; ++k) {
      Index index(store);
      if (who != 0) continue;
      const std::vector<StoredRun> runs = store.runs();
      store.forget({runs.front()});
      index.forget({runs.front()});
    }
  });
  CHECK(forgotten);
  Store store(store_folder);
  CHECK(Index(store).find({}).matching == 20);
}
