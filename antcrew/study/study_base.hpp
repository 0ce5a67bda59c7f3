// What a study is, whatever the types of its input and answers: the part that the run loop and the command line see.
//
// Users write `Study` (study.hpp). A study is described by one thread before it is run, and not changed afterwards.
// What is wrong in a description is kept, the first mistake, and told when the study is run: by run() as an Error, by
// study_main() in one line.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "antcrew/base/error.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/study/session.hpp"

namespace antcrew {

// A bare worker count, for variants that bring their own threads or processes.
struct Workers {
  int count = 1;
  constexpr operator int() const noexcept { return count; }
};

struct VariantDefinition {
  std::string name;
  std::string crew;
  CrewOptions options;
  std::function<std::unique_ptr<study_layer::Session>(int workers, const CrewOptions&)> open;  // starts the crew
  record_layer::Cell::Kind kind = record_layer::Cell::Kind::variant;
  std::string probe_of = {};  // key of the variant that a probe prices a part of
  std::string keeps = {};     // what it keeps between calls on purpose

  std::string key() const { return name + " (" + crew + ")"; }
};

class StudyBase;

// Points at a variant of the study that made it.
class VariantHandle {
 public:
  VariantHandle(StudyBase& study, std::size_t index) : study_(&study), index_(index) {}
  std::size_t index() const noexcept { return index_; }

  // The variant keeps something between calls on purpose, such as "the plan of its transform": settled calls may then
  // be far cheaper than the first one, whose cost is shown beside their speedup. An answer that is kept is found out
  // all the same.
  VariantHandle keeps(const std::string& what) const;

  // Where the variant is written, so that the lines it takes stand beside its gain: a file, and the part of it between
  // a line with "[part]" and one with "[end of part]", both in comments; without a part, the whole file.
  //   study.variant<ThreadCrew>("split evenly", …).source(__FILE__, "split evenly");
  VariantHandle source(const std::string& file, const std::string& part = {}) const;

 private:
  friend class StudyBase;
  StudyBase* study_;
  std::size_t index_;
};

class StudyBase {
 public:
  virtual ~StudyBase();

  const std::string& title() const noexcept { return title_; }
  const std::string& agreement() const noexcept { return agreement_; }
  const std::vector<VariantDefinition>& variants() const noexcept { return variants_; }

  // The grid, unless a plan says otherwise. Mistakes (study.grid): an empty list, zero, a count twice.
  void sizes(std::vector<std::size_t> sizes);
  void workers(std::vector<int> workers);
  const std::vector<std::size_t>& sizes() const noexcept { return sizes_; }
  const std::vector<int>& workers() const noexcept { return workers_; }

  // A further dimension of the grid: the input maker takes a StudyPoint and reads at["name"]. Mistakes:
  // study.grid.
  void dimension(const std::string& name, std::vector<std::size_t> values);
  const std::map<std::string, std::vector<std::size_t>>& dimensions() const noexcept { return dimensions_; }

  // Pinning as a dimension: every cell, the baseline too, is tried with each.
  void pinning(std::vector<Pin> pins);
  const std::vector<Pin>& pins() const noexcept { return pins_; }

  // Weak scaling: at p workers the size is grow(size, p), with work p times that of `size`. Speedup there is the
  // fixed-time (scaled) speedup T_s(W·p) / T_p(W·p) (Gustafson 1988, "Reevaluating Amdahl's law").
  void weak_scaling(std::function<std::size_t(std::size_t size, int workers)> grow);
  const std::function<std::size_t(std::size_t, int)>& growth() const noexcept { return growth_; }

  // Variants in the order in which they were improved: each is compared with the one before it.
  void ladder(const std::vector<VariantHandle>& steps);
  const std::vector<std::vector<std::string>>& ladders() const noexcept { return ladders_; }

  // The same of the baseline; variants name theirs with .source(…).
  void baseline_source(const std::string& file, const std::string& part = {});
  struct Source {
    std::string of;  // as in the record
    std::string file;
    std::string part;
  };
  const std::vector<Source>& sources() const noexcept { return sources_; }

  // Throws the Error that was kept when the study was described, if there was one.
  void check_description() const;

  virtual study_layer::Anything make_input(const StudyPoint& at) const = 0;
  virtual std::unique_ptr<study_layer::Session> open_baseline() const = 0;

 protected:
  // mistake: of the agreement, in words; empty = none.
  StudyBase(std::string title, std::string agreement, const std::string& mistake);
  // Mistakes (study.variant): an empty name, or a name and crew that the study already has.
  VariantHandle add(VariantDefinition variant);
  // As add(), of a part that `of` has and this one leaves out. A mistake where `of` is of another study.
  VariantHandle add_probe(VariantDefinition probe, VariantHandle of);

 private:
  friend class VariantHandle;
  template <class Describe>
  void described(const Describe& describe);

  std::optional<Error> mistake_;
  std::string title_;
  std::string agreement_;
  std::vector<VariantDefinition> variants_;
  std::vector<std::size_t> sizes_;
  std::vector<int> workers_;
  std::map<std::string, std::vector<std::size_t>> dimensions_;
  std::vector<Pin> pins_;
  std::function<std::size_t(std::size_t, int)> growth_;
  std::vector<std::vector<std::string>> ladders_;
  std::vector<Source> sources_;
};

// The checks of a grid's lists, for studies and plans alike. `where` names who gave them.
void check_sizes(const std::vector<std::size_t>& sizes, const std::string& where);
void check_workers(const std::vector<int>& workers, const std::string& where);

}  // namespace antcrew
