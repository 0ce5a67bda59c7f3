// What a command answered, and whether it is the baseline's answer.
#pragma once

#include <string>

#include "antcrew/study/agreement.hpp"
#include "antcrew/sweep/command_study.hpp"
#include "antcrew/sweep/layer.hpp"

namespace antcrew::sweep_layer {

// By a rule other than a command of the study's. Pure.
Difference compare_answers(const AnswerRule& rule, const std::string& expected, const std::string& got);

// In one line, for people.
std::string answer_in_short(const std::string& answer);

// Why any answer would be taken for this one; empty = none.
std::string objection_to(const AnswerRule& rule, const std::string& expected);

}  // namespace antcrew::sweep_layer
