// What a study is, whatever the types of its input and answers: the part that the run loop and the command line see.
//
// Users write `Study` (study.hpp). A study is described by one thread before it is run, and not changed afterwards.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <string>
#include <vector>

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

  std::string key() const { return name + " (" + crew + ")"; }
};

// Points at a variant of the study that made it.
class VariantHandle {
 public:
  explicit VariantHandle(std::size_t index) : index_(index) {}
  std::size_t index() const noexcept { return index_; }

 private:
  std::size_t index_;
};

class StudyBase {
 public:
  virtual ~StudyBase() = default;

  const std::string& title() const noexcept { return title_; }
  const std::string& agreement() const noexcept { return agreement_; }
  const std::vector<VariantDefinition>& variants() const noexcept { return variants_; }

  // The grid, unless a plan says otherwise. Both throw Error (study.grid) for an empty list, zero or a count twice.
  void sizes(std::vector<std::size_t> sizes);
  void workers(std::vector<int> workers);
  const std::vector<std::size_t>& sizes() const noexcept { return sizes_; }
  const std::vector<int>& workers() const noexcept { return workers_; }

  // A further dimension of the grid: the input maker takes a StudyPoint and reads at["name"]. Throws Error
  // (study.grid).
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

  virtual study_layer::Anything make_input(const StudyPoint& at) const = 0;
  virtual std::unique_ptr<study_layer::Session> open_baseline() const = 0;

 protected:
  StudyBase(std::string title, std::string agreement);
  // Throws Error (study.variant) for an empty name, or a name and crew that the study already has.
  VariantHandle add(VariantDefinition variant);

 private:
  std::string title_;
  std::string agreement_;
  std::vector<VariantDefinition> variants_;
  std::vector<std::size_t> sizes_;
  std::vector<int> workers_;
  std::map<std::string, std::vector<std::size_t>> dimensions_;
  std::vector<Pin> pins_;
  std::function<std::size_t(std::size_t, int)> growth_;
  std::vector<std::vector<std::string>> ladders_;
};

// The checks of a grid's lists, for studies and plans alike. `where` names who gave them.
void check_sizes(const std::vector<std::size_t>& sizes, const std::string& where);
void check_workers(const std::vector<int>& workers, const std::string& where);

}  // namespace antcrew
