#include "antcrew/study/study_base.hpp"

#include <utility>

namespace antcrew {

StudyBase::~StudyBase() = default;

VariantHandle StudyBase::add(std::string&& name, const CrewOptions& options, study_layer::Anything&& body,
                             const BodyCalls& calls) {
  const VariantHandle handle = Outline::add({std::move(name), calls.crew->name});
  definitions_.push_back({options, std::move(body), &calls});
  return handle;
}

VariantHandle StudyBase::add_probe(std::string&& name, VariantHandle of, study_layer::Anything&& body,
                                   const BodyCalls& calls) {
  const VariantHandle handle = Outline::add_probe({std::move(name), calls.crew->name}, of);
  definitions_.push_back({{}, std::move(body), &calls});
  return handle;
}

internal::Owned<study_layer::Session> StudyBase::open_variant(std::size_t variant, int workers,
                                                              const CrewOptions& options) const {
  const Definition& of = definitions_.at(variant);
  return of.calls->session(*this, {of.calls->timed, of.body.get(), *of.calls->crew, workers, options});
}

}  // namespace antcrew
