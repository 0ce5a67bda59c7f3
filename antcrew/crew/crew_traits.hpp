// What kinds of crews can do, for code that works with any of them.
//
//   if constexpr (shares_memory<Crew>) …   // ThreadCrew, TaskCrew: a body's writes are seen by the caller
//
#pragma once

namespace antcrew {

// Workers are threads of the calling process: bodies see the caller's memory and write to it, and a crew can be held
// for several calls. Of others (processes, ranks) answers travel, and nothing else.
template <class Crew>
inline constexpr bool shares_memory = requires(Crew& crew) {
  crew.hold();
};

}  // namespace antcrew
