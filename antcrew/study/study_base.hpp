// What a study is, whatever the types of its input and answers: the part that the run loop and the command line see.
//
// Users write `Study` (study.hpp). A study is described by one thread before it is run, and not changed afterwards.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "antcrew/record/point.hpp"
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
  std::function<std::unique_ptr<Session>(int workers)> open;  // starts the crew

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

  virtual Anything make_input(const Point& at) const = 0;
  virtual std::unique_ptr<Session> open_baseline() const = 0;

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
};

// The checks of a grid's lists, for studies and plans alike. `where` names who gave them.
void check_sizes(const std::vector<std::size_t>& sizes, const std::string& where);
void check_workers(const std::vector<int>& workers, const std::string& where);

}  // namespace antcrew
