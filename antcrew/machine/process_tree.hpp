// Processes below this one: how they are begun fit to be ended, and how all of them are ended.
//
// For hosts that run other people's code. Linux only; any thread may call these.
#pragma once

#include <sys/types.h>

#include <functional>
#include <vector>

#include "antcrew/machine/layer.hpp"

namespace antcrew::machine_layer {

// In a process that was just forked: signals do what they usually do, and none is held back.
void default_signals();
// Ends with its parent. The parent may be gone already: then this process ends at once.
void end_with_parent(pid_t parent);
// This process and what it begins leave no core file.
void no_core_file();
// Processes below whose parent ends come to this process, so that it can wait for them and end them.
void adopt_orphans();

// Whether the process is one of these, or below one; as far as can be seen.
bool is_at_or_below(pid_t process, const std::vector<pid_t>& roots);

// Whether any process is below this one, ended or not.
bool nobody_below();

// Ends every living process below this one but for those that `spare` says yes to, and waits for those of them that
// are its children, until one that is spared has ended. What a process begins while others are being ended is ended,
// too: it is looked again, a bounded number of times. Returns how many were ended.
int end_all_below(const std::function<bool(pid_t)>& spare = {});

}  // namespace antcrew::machine_layer
