// Calling what a study was given: input makers by size or point, bodies with their crew.
#pragma once

#include <concepts>
#include <memory>
#include <optional>
#include <type_traits>
#include <utility>

#include "antcrew/study/crew_traits.hpp"

namespace antcrew::internal {

template <class Make>
decltype(auto) input_at(const Make& make, const Point& at) {
  if constexpr (std::invocable<const Make&, const Point&>) {
    return make(at);
  } else {
    return make(at.size);
  }
}

template <class Make>
using InputOf = std::decay_t<decltype(input_at(std::declval<const Make&>(), std::declval<const Point&>()))>;

template <class Crew, class Body>
struct CallWithCrew {
  std::unique_ptr<Crew> crew;
  const Body& body;

  template <class Input>
  auto operator()(Input& in) {
    return body(in, *crew);
  }
  std::optional<CrewFacts> facts() const { return CrewTraits<Crew>::facts(*crew); }
};

// Of a call's crew, where it has one.
template <class Call>
std::optional<CrewFacts> facts_of(const Call& call) {
  if constexpr (requires { call.facts(); }) {
    return call.facts();
  } else {
    return std::nullopt;
  }
}

}  // namespace antcrew::internal
