// Simulations on all processors there are: no test waits for one of them.
#pragma once

#include <cstddef>

#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/machine/limits.hpp"

namespace test {

// fn(k) for k of 0 … n-1, in order. fn asserts nothing itself.
template <class Fn>
auto shared_out(std::size_t n, Fn&& fn) {
  antcrew::ThreadCrew crew(antcrew::machine_layer::usable_processors_now());
  return crew.collect(n, antcrew::Split::chunks(1), fn);
}

}  // namespace test
