// What may be asked of a loop of threads, by name.
#pragma once

#include <cstddef>
#include <optional>

#include "antcrew/base/enough.hpp"
#include "antcrew/crew/grain.hpp"
#include "antcrew/crew/loop_progress.hpp"
#include "antcrew/crew/split.hpp"

namespace antcrew::internal {

// How a loop is run, where it is not as usual, by name: crew.each(n, body, {.split = …, .stop = token}).
template <class How>
struct LoopOptions;
template <>
struct LoopOptions<Split> {
  std::optional<Split> split = {};  // none = as the loop says
  AnyStopToken stop = {};
  double deadline_s = 0;  // from the call on, 0 = none: what has not begun then is not begun; an Error follows
  int at_most = 0;        // workers; 0 = all
  LoopProgress* progress = nullptr;  // told how far it is
  const std::optional<Split>& how() const noexcept { return split; }
  static std::size_t piece(Split how, std::size_t, int) noexcept {
    return how.kind() == Split::Kind::even ? 0 : how.items();
  }
};
template <>
struct LoopOptions<Grain> {
  std::optional<Grain> grain = {};
  AnyStopToken stop = {};
  double deadline_s = 0;
  int at_most = 0;
  LoopProgress* progress = nullptr;
  const std::optional<Grain>& how() const noexcept { return grain; }
  static std::size_t piece(Grain how, std::size_t n, int workers) noexcept { return how.of(n, workers); }
};
template <class How>
inline constinit const LoopOptions<How> as_usual{};

}  // namespace antcrew::internal
