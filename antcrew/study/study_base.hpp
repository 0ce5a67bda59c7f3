// What a study of C++ code is, whatever the types of its input and answers: an outline, and how it is run.
//
// Users write `Study` (study.hpp).
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "antcrew/crew/crew_options.hpp"
#include "antcrew/study/outline.hpp"
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
};

class StudyBase : public study_layer::Outline {
 public:
  virtual study_layer::Anything make_input(const StudyPoint& at) const = 0;
  virtual std::unique_ptr<study_layer::Session> open_baseline() const = 0;

  // Of the variant of that number in variants().
  const CrewOptions& crew_options(std::size_t variant) const { return definitions_.at(variant).options; }
  std::unique_ptr<study_layer::Session> open_variant(std::size_t variant, int workers,
                                                     const CrewOptions& options) const {
    return definitions_.at(variant).open(workers, options);
  }

 protected:
  using Outline::Outline;
  VariantHandle add(VariantDefinition variant);
  VariantHandle add_probe(VariantDefinition probe, VariantHandle of);

 private:
  std::vector<VariantDefinition> definitions_;  // as variants()
};

}  // namespace antcrew
