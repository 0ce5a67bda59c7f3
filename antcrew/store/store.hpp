// The history of records: a folder that keeps a copy of each, by number.
//
//   Store store(default_store());
//   const Kept kept = store.keep("antcrew-records/tides.json");   // kept.number, "stored as 12"
//   for (const StoredRun& run : store.runs()) load_record(run.path);
//
//   FOLDER/store.json                           format, version, the highest number that was ever given away
//   FOLDER/records/000012-RUN.json              the record, byte for byte as its file had it
//   FOLDER/records/000012-RUN.notes.json        name, labels and note, once somebody gave some
//   FOLDER/lock                                 held by whoever writes
//
// The records are the truth; the index beside them (index.hpp) can be made again from these files. Files get their
// names when they are whole, so a killed writer leaves nothing half. Writers, of this and of other processes, take
// turns at the lock; readers need none. A Store may be used by one thread at a time, several Stores of one folder by
// several.
#pragma once

#include <cstddef>
#include <cstdint>
#include <string>
#include <vector>

#include "antcrew/store/layer.hpp"

namespace antcrew::store_layer {

struct StoredRun {
  int number = 0;
  std::string run;         // Record::run
  std::string path;        // of the record
  bool lost = false;       // its file is gone; only what was noted about it is left
  std::string notes = {};  // path of the notes; empty = nobody gave any
};

// What people say of a run.
struct Notes {
  std::string name;                 // shown in place of the title
  std::vector<std::string> labels;  // each may be on several runs
  std::string note;

  friend bool operator==(const Notes&, const Notes&) = default;
};

struct Kept {
  enum class How { fresh, replaced, already };

  int number = 0;
  How how = How::fresh;  // replaced: it was stored before, with fewer trials
};

class Store {
 public:
  // Nothing is read or made yet.
  explicit Store(std::string folder) : folder_(std::move(folder)) {}

  const std::string& folder() const noexcept { return folder_; }

  // By number, lowest first; none where there is no store yet. Throws Error: store.format (not a store, or of a newer
  // Ant Crew), store.read.
  std::vector<StoredRun> runs() const;

  // Keeps a copy of the record in this file. The same run again takes no second number; of its two forms the one with
  // more trials stays. durable: wait until the disk has it. Throws Error: as load_record for the file, and as runs(),
  // store.write, store.busy (another writer held it for ten seconds).
  Kept keep(const std::string& path, bool durable = true);

  // Throws Error (store.format) when the file is damaged.
  Notes notes_of(const StoredRun& run) const;
  // Throws Error (store.label, store.none, store.write, store.busy).
  void note(const StoredRun& run, const Notes& notes);

  // Record and notes are removed; the number is not given away again. Throws Error (store.write, store.busy).
  void forget(const std::vector<StoredRun>& runs);

 private:
  std::string folder_;
};

// A label is no number, neither "last" nor "last-N", has no slash and no comma, does not begin with a hyphen and does
// not end in ".json". Throws Error (store.label).
void check_label(const std::string& label);

// ANTCREW_STORE, else antcrew/ in the user's data directory (XDG_DATA_HOME, else .local/share in the home directory).
// Empty: ANTCREW_STORE is "off", or there is no home.
std::string default_store();

// The file's form on disk: "index.sqlite" in it.
std::string index_path(const std::string& folder);

}  // namespace antcrew::store_layer
