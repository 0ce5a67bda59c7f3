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
    if constexpr (requires { CrewTraits<Crew>::end_call(*crew); }) {
      return called_to_the_end(in);
    } else {
      return body(in, *crew);
    }
  }
  std::optional<CrewFacts> facts() const { return CrewTraits<Crew>::facts(*crew); }

 private:
  template <class Input>
  auto called_to_the_end(Input& in) {
    if constexpr (std::is_void_v<decltype(body(in, *crew))>) {
      body(in, *crew);
      CrewTraits<Crew>::end_call(*crew);
    } else {
      auto answer = body(in, *crew);
      CrewTraits<Crew>::end_call(*crew);
      return answer;
    }
  }
};

// add(std::type_identity<Crew>) for each crew of the list on which the body can be called.
template <class Body, class In, class Add, class... Crews>
void for_crews_that_run(CrewList<Crews...>, const Add& add) {
  const auto one = [&]<class Crew>(std::type_identity<Crew> crew) {
    if constexpr (std::invocable<const Body&, In&, Crew&>) add(crew);
  };
  (one(std::type_identity<Crews>()), ...);
}

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
