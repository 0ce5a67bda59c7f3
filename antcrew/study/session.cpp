#include "antcrew/study/session.hpp"

namespace antcrew {

std::optional<CrewFacts> internal::StartedBody::crew_facts() const {
  std::optional<CrewFacts> facts;
  if (kind_ != nullptr) kind_->facts(crew_, facts);
  return facts;
}

void internal::keep_facts(const CrewFacts& facts, std::optional<CrewFacts>& into) {
  into = facts;
}

void internal::keep_facts(const std::optional<CrewFacts>& facts, std::optional<CrewFacts>& into) {
  into = facts;
}

study_layer::Session::~Session() = default;

}  // namespace antcrew
