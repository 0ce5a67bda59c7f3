// What a study's file says of a command and of how answers are compared.
#pragma once

#include "antcrew/sweep/command_study.hpp"
#include "antcrew/sweep/layer.hpp"
#include "antcrew/sweep/toml_table.hpp"

namespace antcrew::internal {

// Throws Error (sweep.type) for one without a program.
Command command_of(const Words& words, const std::string& where);

// The table [answer]. Throws Error (sweep.key, sweep.type).
AnswerRule answer_rule(TomlTable& table);

}  // namespace antcrew::internal
