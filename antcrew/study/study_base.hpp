// What a study of C++ code is, whatever the types of its input and answers: an outline, and how it is run.
//
// Users write `Study` (study.hpp).
#pragma once

#include <string>
#include <vector>

#include "antcrew/base/owned.hpp"
#include "antcrew/crew/crew_options.hpp"
#include "antcrew/study/layer.hpp"
#include "antcrew/study/outline.hpp"
#include "antcrew/study/session.hpp"

namespace antcrew {

class StudyBase;

// How the body of a variant is called and what becomes of its answers: one for each type of body.
struct BodyCalls {
  const internal::CrewKind* crew;
  internal::TimedCalls timed;
  internal::Owned<study_layer::Session> (*session)(const StudyBase& study, internal::StartedBody call);
};

class StudyBase : public study_layer::Outline {
 public:
  ~StudyBase() override;
  virtual study_layer::Anything make_input(const StudyPoint& at) const = 0;
  // Null where the study does not compile, which a static assertion says.
  virtual internal::Owned<study_layer::Session> open_baseline() const = 0;

  // Of the variant of that number in variants().
  const CrewOptions& crew_options(std::size_t variant) const { return definitions_.at(variant).options; }
  // How its workers are joined where a launcher begins them; null where its crew begins them.
  const internal::LaunchedCrew* launched(std::size_t variant) const {
    return definitions_.at(variant).calls->crew->launched();
  }
  // Starts its crew. Throws what that throws.
  internal::Owned<study_layer::Session> open_variant(std::size_t variant, int workers,
                                                     const CrewOptions& options) const;

 protected:
  using Outline::Outline;
  VariantHandle add(std::string&& name, const CrewOptions& options, study_layer::Anything&& body,
                    const BodyCalls& calls);
  VariantHandle add_probe(std::string&& name, VariantHandle of, study_layer::Anything&& body, const BodyCalls& calls);

 private:
  struct Definition {
    CrewOptions options;
    study_layer::Anything body;
    const BodyCalls* calls;
  };
  std::vector<Definition> definitions_;  // as variants()
};

}  // namespace antcrew
