#include "antcrew/store/index.hpp"

#include <SQLiteCpp/Backup.h>
#include <SQLiteCpp/SQLiteCpp.h>
#include <SQLiteCpp/VariadicBind.h>
#include <fmt/format.h>
#include <sqlite3.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstdio>
#include <cstring>
#include <map>
#include <optional>
#include <utility>
#include <vector>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/machine/limits.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/share/pipeline.hpp"
#include "antcrew/store/internal/about.hpp"
#include "antcrew/store/internal/query.hpp"

namespace antcrew::store_layer {
namespace {

constexpr int newest_version = 1;
constexpr int our_application = 0x416e7443;  // "AntC", as SQLite's files keep it
constexpr int longest_wait_ms = 10'000;
constexpr std::size_t written_at_once = 500;

constexpr const char* schema = R"sql(
CREATE TABLE runs(number INTEGER, run TEXT, record_state INTEGER DEFAULT 0,
  notes_state INTEGER DEFAULT 0, lost INTEGER DEFAULT 0, trouble TEXT,
  title TEXT, created TEXT, processor TEXT, system TEXT, answer TEXT, kind TEXT, complete INTEGER, bytes INTEGER,
  name TEXT, note TEXT, PRIMARY KEY(number, run)) WITHOUT ROWID;
CREATE INDEX states ON runs(number, run, record_state, notes_state, lost, bytes);
CREATE TABLE cells(number INTEGER, run TEXT, variant TEXT, verdict TEXT, PRIMARY KEY(number, run, variant, verdict)) WITHOUT ROWID;
CREATE TABLE labels(number INTEGER, run TEXT, label TEXT, PRIMARY KEY(number, run, label)) WITHOUT ROWID;
)sql";

[[noreturn]] void damaged(const std::string& path, const std::string& what) {
  bad_input("store.index", path, what, "`antcrew list --rebuild` puts it aside and makes a new one from the records");
}

// What the library reports, as one of our errors.
template <class Work>
auto with_errors(const std::string& path, Work&& work) -> decltype(work()) {
  try {
    return work();
  } catch (const SQLite::Exception& error) {
    const int code = error.getErrorCode() & 0xff;
    if (code == SQLITE_BUSY || code == SQLITE_LOCKED)
      could_not_run("store.busy", path, "another program has been writing to the index for ten seconds", "try again");
    if (code == SQLITE_CORRUPT || code == SQLITE_NOTADB || code == SQLITE_ERROR || code == SQLITE_MISMATCH)
      damaged(path, fmt::format("the index is damaged ({})", error.what()));
    could_not_run("store.index", path, fmt::format("the index cannot be used ({})", error.what()),
                  "make room, or name another folder with --store");
  }
}

// What changes when a file does: of its size, its time and its inode. 0 = it is not there.
std::int64_t state_of(const std::string& path, std::uint64_t* bytes = nullptr) {
  struct stat facts {};
  if (path.empty() || ::stat(path.c_str(), &facts) != 0) return 0;
  if (bytes != nullptr) *bytes = static_cast<std::uint64_t>(facts.st_size);
  std::uint64_t state = 1;
  for (const auto part : {static_cast<std::uint64_t>(facts.st_size), static_cast<std::uint64_t>(facts.st_mtim.tv_sec),
                          static_cast<std::uint64_t>(facts.st_mtim.tv_nsec), static_cast<std::uint64_t>(facts.st_ino)})
    state = (state ^ part) * 0x9E3779B97F4A7C15ull;  // 2^64 over the golden ratio: an odd factor spreads the bits
  return static_cast<std::int64_t>(state | 1);
}

using internal::About;
using internal::Looked;
using Key = std::pair<int, std::string>;

struct States {
  std::int64_t record = 0;
  std::int64_t notes = 0;
  bool lost = false;
};

// The disk says no, the index itself is sound.
bool refused_by_disk(const SQLite::Exception& error) {
  const int code = error.getErrorCode() & 0xff;
  return code == SQLITE_FULL || code == SQLITE_IOERR || code == SQLITE_READONLY || code == SQLITE_CANTOPEN;
}

// Writes what was read of runs, in one transaction or several.
class RowWriter {
 public:
  explicit RowWriter(const SQLite::Database& base) : run_(base, run), no_cells_(base, no_cells), cell_(base, cell) {}

  void write(const About& told) {
    const ListedRun& r = told.run;
    exec(run_, r.stored.number, r.stored.run, told.state, r.trouble, r.title, r.created, r.processor, r.system,
         r.answer, r.kind, static_cast<int>(r.complete), static_cast<std::int64_t>(r.bytes));
    exec(no_cells_, r.stored.number, r.stored.run);
    for (const auto& [variant, verdict] : told.cells) exec(cell_, r.stored.number, r.stored.run, variant, verdict);
  }

 private:
  static constexpr const char* run =
      "INSERT INTO runs(number, run, record_state, lost, trouble, title, created, processor, system, answer, kind, "
      "complete, bytes) VALUES(?,?,?,0,?,?,?,?,?,?,?,?,?) ON CONFLICT(number, run) DO UPDATE SET "
      "record_state=excluded.record_state, lost=0, trouble=excluded.trouble, title=excluded.title, "
      "created=excluded.created, processor=excluded.processor, system=excluded.system, answer=excluded.answer, "
      "kind=excluded.kind, complete=excluded.complete, bytes=excluded.bytes";
  static constexpr const char* no_cells = "DELETE FROM cells WHERE number=? AND run=?";
  static constexpr const char* cell = "INSERT OR IGNORE INTO cells VALUES(?,?,?,?)";

  template <class... Values>
  static void exec(SQLite::Statement& statement, const Values&... values) {
    SQLite::bind(statement, values...);
    statement.exec();
    statement.reset();
  }

  SQLite::Statement run_;
  SQLite::Statement no_cells_;
  SQLite::Statement cell_;
};

}  // namespace

struct Index::Parts {
  const Store& store;
  std::string path;
  std::unique_ptr<SQLite::Database> base;
  std::map<Key, StoredRun> files;  // that were there when it was opened

  explicit Parts(const Store& of) : store(of), path(index_path(of.folder())) {}

  bool writable() const {
    if (::access(store.folder().c_str(), W_OK | X_OK) != 0) return false;
    return ::access(path.c_str(), W_OK) == 0 || errno == ENOENT;
  }

  void open() {
    base = std::make_unique<SQLite::Database>(path, SQLite::OPEN_READWRITE | SQLite::OPEN_CREATE, longest_wait_ms);
    check();
  }

  void open_in_memory() {
    base = std::make_unique<SQLite::Database>(":memory:", SQLite::OPEN_READWRITE | SQLite::OPEN_CREATE);
    if (::access(path.c_str(), R_OK) == 0) {
      SQLite::Database kept(path, SQLite::OPEN_READONLY, longest_wait_ms);
      SQLite::Backup copy(*base, kept);
      copy.executeStep();
    }
    check();
  }

  int number(const char* question) { return base->execAndGet(question).getInt(); }

  void check() {
    const int tables = number("SELECT count(*) FROM sqlite_master");
    const int application = number("PRAGMA application_id");
    const int version = number("PRAGMA user_version");
    if (tables > 0 && application != our_application) damaged(path, "not an index of Ant Crew's");
    if (version > newest_version)
      damaged(path, fmt::format("an index of version {}, from a newer Ant Crew; this one ({}) knows {}", version,
                                record_layer::library_version(), newest_version));
    // No log ahead of the file: that needs memory shared between machines where the folder is on a network.
    base->execAndGet("PRAGMA journal_mode=TRUNCATE");
    if (tables > 0) return;
    SQLite::Transaction whole(*base, SQLite::TransactionBehavior::IMMEDIATE);
    if (number("SELECT count(*) FROM sqlite_master") == 0) {  // nobody else was quicker
      base->exec(fmt::format("PRAGMA application_id={}", our_application));
      base->exec(fmt::format("PRAGMA user_version={}", newest_version));
      base->exec(schema);
    }
    whole.commit();
  }

  std::map<Key, States> known() {
    std::map<Key, States> states;
    SQLite::Statement rows(
        *base, "SELECT number, run, record_state, notes_state, lost FROM runs INDEXED BY states ORDER BY number, run");
    while (rows.executeStep())
      states.emplace_hint(
          states.end(), Key{rows.getColumn(0).getInt(), rows.getColumn(1).getString()},
          States{rows.getColumn(2).getInt64(), rows.getColumn(3).getInt64(), rows.getColumn(4).getInt() != 0});
    return states;
  }

  void run(const char* words, const StoredRun& stored) {
    SQLite::Statement statement(*base, words);
    SQLite::bind(statement, stored.number, stored.run);
    statement.exec();
  }

  void write_notes(const Looked& looked) {
    Notes notes;
    try {
      notes = store.notes_of(looked.stored);
    } catch (const Error& error) {
      notes.note = error.what();
    }
    run("INSERT OR IGNORE INTO runs(number, run) VALUES(?,?)", looked.stored);
    SQLite::Statement row(*base, "UPDATE runs SET name=?, note=?, notes_state=? WHERE number=? AND run=?");
    SQLite::bind(row, notes.name, notes.note, looked.notes, looked.stored.number, looked.stored.run);
    row.exec();
    run("DELETE FROM labels WHERE number=? AND run=?", looked.stored);
    SQLite::Statement label(*base, "INSERT OR IGNORE INTO labels VALUES(?,?,?)");
    for (const std::string& one : notes.labels) {
      SQLite::bind(label, looked.stored.number, looked.stored.run, one);
      label.exec();
      label.reset();
    }
  }

  void in_one(const std::function<void()>& work) {
    SQLite::Transaction whole(*base, SQLite::TransactionBehavior::IMMEDIATE);
    work();
    whole.commit();
  }

  void bring_up_to_date(const std::function<void(std::size_t, std::size_t)>& told) {
    // In this order: what the index has and the folder has not was there before.
    std::map<Key, States> before = known();
    files.clear();
    for (StoredRun& stored : store.runs()) files.emplace_hint(files.end(), Key{stored.number, stored.run}, stored);
    std::vector<Looked> fresh;
    std::vector<Looked> noted;
    std::vector<StoredRun> only_notes;
    std::vector<StoredRun> lost;
    for (const auto& [key, stored] : files) {
      Looked looked{stored};
      looked.record = state_of(stored.lost ? std::string() : stored.path, &looked.bytes);
      looked.notes = state_of(stored.notes);
      const auto at = before.find(key);
      const bool is_known = at != before.end();
      if (looked.record == 0 && !is_known) only_notes.push_back(stored);
      if (looked.record == 0 && is_known && !at->second.lost) lost.push_back(stored);
      if (looked.record != 0 && (!is_known || at->second.lost || at->second.record != looked.record))
        fresh.push_back(looked);
      if (looked.notes != (is_known ? at->second.notes : 0)) noted.push_back(looked);
      if (is_known) before.erase(at);
    }
    for (const auto& [key, states] : before) {
      if (!states.lost) lost.push_back({key.first, key.second, {}});
    }
    read_and_write(fresh, told);
    if (noted.empty() && lost.empty() && only_notes.empty()) return;
    in_one([&] {
      for (const StoredRun& stored : only_notes)
        run("INSERT OR IGNORE INTO runs(number, run, lost) VALUES(?,?,1)", stored);
      for (const Looked& looked : noted) write_notes(looked);
      // One that was forgotten meanwhile has no row any more, and gets none.
      for (const StoredRun& stored : lost) run("UPDATE runs SET lost=1 WHERE number=? AND run=?", stored);
    });
  }

  // Many are read side by side while others are written. Whoever else wants to write waits for one transaction only.
  void read_and_write(const std::vector<Looked>& fresh, const std::function<void(std::size_t, std::size_t)>& told) {
    if (fresh.empty()) return;
    constexpr std::size_t many = 20;
    ThreadCrew crew(fresh.size() < many ? 1 : std::min(usable_processors_now(), 16));
    RowWriter rows(*base);
    std::vector<About> read;
    std::size_t next = 0;
    std::size_t written = 0;
    const auto write = [&] {
      in_one([&] {
        for (const About& one : read) {
          if (::access(one.run.stored.path.c_str(), F_OK) == 0) rows.write(one);  // else it was forgotten meanwhile
        }
      });
      written += read.size();
      read.clear();
      if (told) told(written, fresh.size());
    };
    auto line = pipeline([&] {
                  return next < fresh.size() ? std::optional(&fresh[next++]) : std::nullopt;
                }).many("read", [](const Looked* looked) {
                    return internal::about(*looked);
                  }).as_read("write", [&](About about) {
      read.push_back(std::move(about));
      if (read.size() == written_at_once) write();
    });
    line.run(crew, {.items = written_at_once});
    if (!read.empty()) write();
  }
};

Index::Index(const Store& store, const std::function<void(std::size_t, std::size_t)>& told)
    : parts_(std::make_unique<Parts>(store)) {
  with_errors(parts_->path, [&] {
    // Nothing is made where nothing is.
    const bool nothing = ::access(parts_->path.c_str(), F_OK) != 0 && store.runs().empty();
    try {
      if (nothing || !parts_->writable()) {
        parts_->open_in_memory();
      } else {
        parts_->open();
      }
      parts_->bring_up_to_date(told);
    } catch (const SQLite::Exception& error) {
      if (!refused_by_disk(error)) throw;
      parts_->open_in_memory();
      parts_->bring_up_to_date(told);
    }
  });
}
Index::~Index() = default;

namespace {

void bind_all(SQLite::Statement& statement, const internal::Asked& what) {
  int place = 0;
  for (const std::string& text : what.texts) statement.bind(++place, text);
}

}  // namespace

FoundRuns Index::find(const Search& search) const {
  SQLite::Database& base = *parts_->base;
  return with_errors(parts_->path, [&] {
    FoundRuns found;
    SQLite::Statement all(base, "SELECT count(*), coalesce(sum(bytes),0) FROM runs INDEXED BY states");
    all.executeStep();
    found.stored = static_cast<std::size_t>(all.getColumn(0).getInt64());
    found.bytes = static_cast<std::uint64_t>(all.getColumn(1).getInt64());
    const internal::Asked what = internal::asked(search);
    SQLite::Statement count(base, "SELECT count(*) FROM runs r" + what.where);
    bind_all(count, what);
    count.executeStep();
    found.matching = static_cast<std::size_t>(count.getColumn(0).getInt64());
    SQLite::Statement rows(
        base,
        "SELECT number, run, lost, trouble, title, created, processor, system, answer, kind, "
        "complete, bytes, name, note FROM runs r" +
            what.where + " ORDER BY number DESC" +
            (search.newest > 0 ? fmt::format(" LIMIT {}", std::min<std::size_t>(search.newest, 1u << 30))
                               : std::string()));
    bind_all(rows, what);
    const auto& files = parts_->files;
    const auto text = [&rows](int column) { return rows.getColumn(column).getString(); };
    SQLite::Statement labels(base, "SELECT label FROM labels WHERE number=? AND run=? ORDER BY label");
    while (rows.executeStep()) {
      ListedRun run;
      run.stored.number = rows.getColumn(0).getInt();
      run.stored.run = text(1);
      if (const auto at = files.find({run.stored.number, run.stored.run}); at != files.end()) run.stored = at->second;
      run.stored.lost = rows.getColumn(2).getInt() != 0;
      run.trouble = text(3);
      run.title = text(4);
      run.created = text(5);
      run.processor = text(6);
      run.system = text(7);
      run.answer = text(8);
      run.kind = text(9);
      run.complete = rows.getColumn(10).getInt() != 0;
      run.bytes = static_cast<std::uint64_t>(rows.getColumn(11).getInt64());
      run.notes.name = text(12);
      run.notes.note = text(13);
      SQLite::bind(labels, run.stored.number, run.stored.run);
      while (labels.executeStep()) run.notes.labels.push_back(labels.getColumn(0).getString());
      labels.reset();
      found.runs.push_back(std::move(run));
    }
    return found;
  });
}

void Index::forget(const std::vector<StoredRun>& runs) {
  with_errors(parts_->path, [&] {
    parts_->in_one([&] {
      for (const StoredRun& stored : runs) {
        parts_->run("DELETE FROM runs WHERE number=? AND run=?", stored);
        parts_->run("DELETE FROM cells WHERE number=? AND run=?", stored);
        parts_->run("DELETE FROM labels WHERE number=? AND run=?", stored);
      }
    });
  });
}

std::string put_index_aside(const std::string& folder) {
  const std::string path = index_path(folder);
  if (::access(path.c_str(), F_OK) != 0) return {};
  for (int attempt = 1;; ++attempt) {
    const std::string aside = fmt::format("{}.aside-{}", path, attempt);
    if (::access(aside.c_str(), F_OK) == 0) continue;
    if (::rename(path.c_str(), aside.c_str()) != 0)
      could_not_run("store.write", path, fmt::format("cannot be put aside ({})", std::strerror(errno)),
                    "name another folder with --store");
    return aside;
  }
}

}  // namespace antcrew::store_layer
