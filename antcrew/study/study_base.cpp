#include "antcrew/study/study_base.hpp"

#include <utility>

namespace antcrew {

VariantHandle StudyBase::add(VariantDefinition variant) {
  const VariantHandle handle = Outline::add({variant.name, variant.crew});
  definitions_.push_back(std::move(variant));
  return handle;
}

VariantHandle StudyBase::add_probe(VariantDefinition probe, VariantHandle of) {
  const VariantHandle handle = Outline::add_probe({probe.name, probe.crew}, of);
  definitions_.push_back(std::move(probe));
  return handle;
}

}  // namespace antcrew
