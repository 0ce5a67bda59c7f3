// A cell whose workers a launcher begins: LAUNCHER PROGRAM, in place of calling a body in the process that was forked.
//
// That process passes messages on between the run and the one of the launched processes that leads, which must be on
// this machine: they meet in a folder that only this user can open, by a socket and a file that holds the board. So the
// run sees a cell process like any other, and whatever ends that one ends the launcher, too.
#pragma once

#include <cstdint>
#include <string>

#include "antcrew/record/record.hpp"
#include "antcrew/study/channel.hpp"
#include "antcrew/study/internal/input_process.hpp"
#include "antcrew/study/layer.hpp"

namespace antcrew::internal {

// What the launched program is told by its command line.
inline constexpr const char* launched_flag = "--serve-launched-cell";

// To the process that leads.
struct ServeCell {
  static constexpr const char* called = "serve a launched cell";
  std::size_t variant = 0;
  int workers = 1;  // that is, processes
  Pin pin = Pin::off;
  Point at;
  std::int64_t begun_ns = 0;  // when the launcher was
  std::uint64_t delays = 0;   // seed of random delays; 0 = none
  std::uint64_t input_seed = 0;
  static void each(auto&& f, auto& m) {
    f("variant", m.variant), f("workers", m.workers), f("pin", m.pin), f("at", m.at), f("begun_ns", m.begun_ns),
        f("delays", m.delays), f("input_seed", m.input_seed);
  }
};

// In the process that was forked for the cell.
[[noreturn]] void serve_by_launcher(Channel run, const InputOrder& order, std::size_t cell);

}  // namespace antcrew::internal
