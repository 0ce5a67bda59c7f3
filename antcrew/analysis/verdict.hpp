// What the analysis makes of a cell's faults and trials.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>

#include "antcrew/analysis/layer.hpp"
#include "antcrew/record/forward.hpp"

namespace antcrew::analysis_layer {

// The first that applies. Only `holds` is ranked.
enum class Verdict {
  crashed,
  out_of_memory,
  timed_out,
  threw,
  wrong_answer,
  left_work,
  remembered,
  changed_input,
  changed_program,
  idle_workers,
  not_measured,
  too_few_rounds,
  too_noisy,
  holds
};

const char* name_of(Verdict verdict) noexcept;

struct Judgement {
  Verdict verdict = Verdict::holds;
  std::string evidence;      // one line; empty for `holds`
  double spins_after_s = 0;  // other threads stay busy after a call, the same at every size: no fault
};

// Everything but `too_few_rounds` and `too_noisy`, which need the interval. The whole record is looked at: a cell is
// compared with its baseline and with its siblings at other sizes.
Judgement judge(const Record& record, const Cell& cell);

// Medians over a cell's trials, 0 without any.
double median_of(const Cell& cell, double Trial::*field);
std::optional<double> median_cpu_s(const Cell& cell);
// Over the trials that know it; none where none does.
std::optional<double> median_where_known(const Cell& cell,
                                         const std::function<std::optional<double>(const Trial&)>& field);
// Of a count, a call.
std::optional<double> median_a_call(const Cell& cell, std::optional<std::int64_t> Trial::*count);

}  // namespace antcrew::analysis_layer
