// What was read around timed calls, laid down in a trial: figures of a call are means over all of them.
#pragma once

#include "antcrew/log/journal.hpp"
#include "antcrew/machine/leftover_work.hpp"
#include "antcrew/machine/usage.hpp"
#include "antcrew/record/forward.hpp"
#include "antcrew/study/layer.hpp"

namespace antcrew::internal {

void add_usage(Usage& sum, const Usage& more);
void keep_usage(Trial& trial, const Usage& used);
// Answers of a batch are kept until they were compared; a program that uses them one by one has one.
void keep_peak(Trial& trial, std::uint64_t peak_bytes, std::uint64_t kept_bytes);
void keep_leftover(Trial& trial, const Leftover& left);
void note_processor(Trial& trial);
void keep_journal(Trial& trial, const internal::Journal& journal);

}  // namespace antcrew::internal
