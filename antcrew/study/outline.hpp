// What a study is, whatever it measures and however: title, variants and grid. All that plan, run loop, resuming and
// command line see of one. How a cell is run is for a host (host.hpp): of C++ code (study_base.hpp) or of commands.
//
// Described by one thread before it is run, and not changed afterwards. What is wrong in a description is kept, the
// first mistake, and told when the study is run: by run() as an Error, by study_main() in one line.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <type_traits>
#include <utility>
#include <vector>

#include "antcrew/base/error.hpp"
#include "antcrew/record/cell_kind.hpp"
#include "antcrew/record/point.hpp"
#include "antcrew/study/growth.hpp"
#include "antcrew/study/layer.hpp"

namespace antcrew {

namespace study_layer {

struct VariantOutline {
  std::string name;
  std::string crew;
  record_layer::CellKind kind = record_layer::CellKind::variant;
  std::string probe_of = {};      // key of the variant that a probe prices a part of
  std::string keeps = {};         // what it keeps between calls on purpose
  bool chooses_workers = false;   // it may leave workers idle on purpose
  std::vector<int> workers = {};  // worker counts of its own; empty = those of the grid

  std::string key() const { return name + " (" + crew + ")"; }
};

class Outline;

}  // namespace study_layer

// Points at a variant of the study that made it.
class VariantHandle {
 public:
  VariantHandle(study_layer::Outline& study, std::size_t index) : study_(&study), index_(index) {}
  std::size_t index() const noexcept { return index_; }

  // The variant keeps something between calls on purpose, such as "the plan of its transform": settled calls may then
  // be far cheaper than the first one, whose cost is shown beside their speedup. An answer that is kept is found out
  // all the same.
  VariantHandle keeps(const std::string& what) const;

  // The variant decides by itself how many of its workers a call is worth, such as by a Rule: where it uses one alone,
  // that is no fault.
  VariantHandle chooses_workers() const;

  // Where the variant is written, so that the lines it takes stand beside its gain: a file, and the part of it between
  // a line with "[part]" and one with "[end of part]", both in comments; without a part, the whole file.
  //   study.variant<ThreadCrew>("split evenly", …).source(__FILE__, "split evenly");
  VariantHandle source(const std::string& file, const std::string& part = {}) const;

 private:
  friend class study_layer::Outline;
  study_layer::Outline* study_;
  std::size_t index_;
};

namespace study_layer {

class Outline {
 public:
  virtual ~Outline();

  const std::string& title() const noexcept { return title_; }
  const std::string& agreement() const noexcept { return agreement_; }
  const std::vector<VariantOutline>& variants() const noexcept { return variants_; }

  // Whether every point has a size. A study of commands may be without: its points then have size 0.
  bool has_sizes() const noexcept { return has_sizes_; }

  // The grid, unless a plan says otherwise. Mistakes (study.grid): an empty list, zero, a count twice.
  void sizes(std::vector<std::size_t> sizes);
  void workers(std::vector<int> workers);
  const std::vector<std::size_t>& sizes() const noexcept { return sizes_; }
  const std::vector<int>& workers() const noexcept { return workers_; }

  // A further dimension of the grid, of numbers or words: the input maker takes a StudyPoint and reads at["name"], or
  // at.word("name"). Mistakes: study.grid.
  void dimension(const std::string& name, std::vector<PointValue> values);
  template <class T>
  void dimension(const std::string& name, const std::vector<T>& values) {
    dimension(name, std::vector<PointValue>(values.begin(), values.end()));
  }
  const std::map<std::string, std::vector<PointValue>>& dimensions() const noexcept { return dimensions_; }

  // Pinning as a dimension: every cell, the baseline too, is tried with each.
  void pinning(std::vector<Pin> pins);
  const std::vector<Pin>& pins() const noexcept { return pins_; }

  // Weak scaling: at p workers the size is grow(size, p), with work p times that of `size`. Speedup there is the
  // fixed-time (scaled) speedup T_s(W·p) / T_p(W·p) (Gustafson 1988, "Reevaluating Amdahl's law").
  template <class Grow>
  void weak_scaling(Grow grow) {
    static_assert(std::is_invocable_r_v<std::size_t, const Grow&, std::size_t, int>,
                  "weak_scaling() takes a function (std::size_t size, int workers) -> std::size_t");
    growth_ = Growth(std::move(grow));
  }
  const Growth& growth() const noexcept { return growth_; }

  // Different inputs for each point, told apart by StudyPoint::seed; 1 where the study did not say.
  int input_count() const noexcept { return inputs_; }

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

 protected:
  // mistake: of the agreement, in words; empty = none.
  Outline(std::string title, std::string agreement, const std::string& mistake);
  // Mistakes (study.variant): an empty name, or a name and crew that the study already has.
  VariantHandle add(VariantOutline variant);
  // As add(), of a part that `of` has and this one leaves out. A mistake where `of` is of another study.
  VariantHandle add_probe(VariantOutline probe, VariantHandle of);
  void without_sizes() noexcept { has_sizes_ = false; }
  // Mistakes (study.inputs): fewer than one.
  void set_inputs(int count);

 private:
  friend class antcrew::VariantHandle;
  template <class Describe>
  void described(const Describe& describe);

  std::optional<Error> mistake_;
  bool has_sizes_ = true;
  int inputs_ = 1;
  std::string title_;
  std::string agreement_;
  std::vector<VariantOutline> variants_;
  std::vector<std::size_t> sizes_;
  std::vector<int> workers_;
  std::map<std::string, std::vector<PointValue>> dimensions_;
  std::vector<Pin> pins_;
  Growth growth_;
  std::vector<std::vector<std::string>> ladders_;
  std::vector<Source> sources_;
};

// The checks of a grid's lists, for studies and plans alike. `where` names who gave them.
void check_sizes(const std::vector<std::size_t>& sizes, const std::string& where);
void check_workers(const std::vector<int>& workers, const std::string& where);

}  // namespace study_layer

}  // namespace antcrew
