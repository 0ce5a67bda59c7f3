// What may be asked of a loop of threads, by name.
#pragma once

#include <cstddef>
#include <type_traits>

#include "antcrew/base/enough.hpp"
#include "antcrew/crew/grain.hpp"
#include "antcrew/crew/loop_progress.hpp"
#include "antcrew/crew/split.hpp"

namespace antcrew::internal {

// A split or grain, or none. Not std::optional, of which g++ 12 says in its callers' builds that it may be
// uninitialised.
template <class How>
class HowAsked {
 public:
  constexpr HowAsked() noexcept : how_(anything()) {}
  constexpr HowAsked(How how) noexcept : how_(how), given_(true) {}
  constexpr How value_or(How usual) const noexcept { return given_ ? how_ : usual; }

 private:
  static constexpr How anything() noexcept {
    if constexpr (std::is_default_constructible_v<How>) {
      return How{};
    } else {
      return How::even();
    }
  }
  How how_;
  bool given_ = false;
};

// How a loop is run, where it is not as usual, by name: crew.each(n, body, {.split = …, .stop = token}).
template <class How>
struct LoopOptions;
template <>
struct LoopOptions<Split> {
  HowAsked<Split> split = {};  // none = as the loop says
  AnyStopToken stop = {};
  double deadline_s = 0;  // from the call on, 0 = none: what has not begun then is not begun; an Error follows
  int at_most = 0;        // workers; 0 = all
  LoopProgress* progress = nullptr;  // told how far it is
  const HowAsked<Split>& how() const noexcept { return split; }
  static std::size_t piece(Split how, std::size_t, int) noexcept {
    return how.kind() == Split::Kind::even ? 0 : how.items();
  }
};
template <>
struct LoopOptions<Grain> {
  HowAsked<Grain> grain = {};
  AnyStopToken stop = {};
  double deadline_s = 0;
  int at_most = 0;
  LoopProgress* progress = nullptr;
  const HowAsked<Grain>& how() const noexcept { return grain; }
  static std::size_t piece(Grain how, std::size_t n, int workers) noexcept { return how.of(n, workers); }
};
template <class How>
inline constinit const LoopOptions<How> as_usual{};

}  // namespace antcrew::internal
