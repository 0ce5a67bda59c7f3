// The index of a store: what each stored run is about, for searching. Made from the records; it holds nothing that they
// and the notes beside them do not, but for runs whose files are lost.
//
//   Index index(store);
//   for (const ListedRun& run : index.find({.variant = "halved", .newest = 20}).runs) show(run);
//
// It is brought up to date when it is opened: new and changed records are read, others only looked at. Several programs
// may have one open at once. Where its file cannot be written it is kept in memory for as long as the program runs.
#pragma once

#include <cstddef>
#include <cstdint>
#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "antcrew/store/layer.hpp"
#include "antcrew/store/store.hpp"

namespace antcrew::store_layer {

struct ListedRun {
  StoredRun stored;
  Notes notes;
  std::string title;
  std::string created;    // UTC, ISO 8601
  std::string processor;  // of the machine
  std::string system;
  std::string answer;   // in short
  std::string kind;     // of the conclusion: "best", "cannot tell", …
  std::string trouble;  // why the record cannot be read; empty = it can
  bool complete = true;
  std::uint64_t bytes = 0;
};

// Empty = whatever. Texts are found anywhere in what they are looked for in, small and capital letters (of ASCII)
// alike.
struct Search {
  std::string text;     // in title, name, note or a label
  std::string title;    // in title or name
  std::string variant;  // in the name of a variant
  std::string machine;  // in processor or system
  std::string label;    // a whole one
  std::string verdict;  // whole: of a cell, or of the run as a whole
  std::string since;    // UTC, ISO 8601
  std::string until;
  std::size_t newest = 0;  // so many at most; 0 = all
};

struct FoundRuns {
  std::vector<ListedRun> runs;  // newest number first
  std::size_t matching = 0;     // with those that `newest` left out
  std::size_t stored = 0;
  std::uint64_t bytes = 0;  // of all stored records
};

class Index {
 public:
  // told(done, of): from time to time while records are read. Throws Error: as Store::runs, store.index (damaged, not
  // an index of Ant Crew's, or from a newer one: its file is left as it is), store.busy.
  explicit Index(const Store& store, const std::function<void(std::size_t, std::size_t)>& told = {});
  ~Index();
  Index(const Index&) = delete;
  Index& operator=(const Index&) = delete;

  // Throws Error (store.index).
  FoundRuns find(const Search& search) const;
  // What Store::forget removed, so that it is not taken for lost.
  void forget(const std::vector<StoredRun>& runs);

 private:
  struct Parts;
  std::unique_ptr<Parts> parts_;
};

// Puts an index that cannot be used aside, under a name beside it that is returned; empty when there is none. The next
// one is made from the records. Throws Error (store.write).
std::string put_index_aside(const std::string& folder);

}  // namespace antcrew::store_layer
