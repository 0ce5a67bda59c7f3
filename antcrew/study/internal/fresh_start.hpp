// A block in a program that was started anew, so that the layout of its memory is drawn again: the forked input process
// becomes a new start of this program, with the arguments that it had. study_main() finds out and serves the block.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "antcrew/study/channel.hpp"
#include "antcrew/study/internal/input_process.hpp"
#include "antcrew/study/layer.hpp"
#include "antcrew/study/study_base.hpp"

namespace antcrew::internal {

// What the new start serves; the first message to it.
struct ServeBlock {
  static constexpr const char* called = "serve a block";
  std::string study;  // hash of its title
  Point at;
  std::uint64_t seed = 0;  // Point::seed, which records leave out
  std::vector<int> variants;
  std::vector<int> workers;
  std::vector<int> pins;
  double call_s = 0;
  std::uint64_t memory_bytes = 0;
  double budget_s = 0;
  std::string launcher;
  bool own_inputs = false;
  double read_speed = 0;
  std::uint64_t delays = 0;
  static void each(auto&& f, auto& m) {
    f("study", m.study), f("at", m.at), f("seed", m.seed), f("variants", m.variants), f("workers", m.workers),
        f("pins", m.pins), f("call_s", m.call_s), f("memory_bytes", m.memory_bytes), f("budget_s", m.budget_s),
        f("launcher", m.launcher), f("own_inputs", m.own_inputs), f("read_speed", m.read_speed), f("delays", m.delays);
  }
};

// From the new start, before it makes the input.
struct FreshStarted {
  static constexpr const char* called = "started anew";
  std::string trouble;  // why it cannot serve the block, in words; empty = it does
  static void each(auto&& f, auto& m) { f("trouble", m.trouble); }
};

// Why a new start of the program would not come to this study, or would have the same layout of memory, in words; empty
// = it would do both.
std::string why_not_afresh(const StudyBase& study);
// Called by study_main(), before anything else is done with the arguments.
void remember_start(int argc, char** argv, const std::vector<const StudyBase*>& studies);

std::string block_order(const InputOrder& order);
// The reply to it; throws BadMessage.
FreshStarted fresh_started_from(const std::string& message);

// In the forked process; does not return. `boards` is the file that they are mapped from.
[[noreturn]] void become_fresh_start(Channel coordinator, const InputOrder& order, int boards);

}  // namespace antcrew::internal
