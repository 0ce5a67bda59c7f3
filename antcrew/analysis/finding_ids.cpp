#include "antcrew/analysis/finding_ids.hpp"

#include <algorithm>

#include "antcrew/analysis/ledger.hpp"

namespace antcrew::analysis_layer {
namespace {

// Of what is no loss.
constexpr const char* others[] = {
    // what the figures mean at all
    "changed-input", "changed-program", "cpu-as-wall", "crashed", "deferred-work", "one-at-a-time", "out-of-memory",
    "remembered", "sanitizer", "superlinear", "threw", "timed-out", "unoptimised", "weak-baseline", "wrong-answer",
    // what is worth knowing
    "busy-afterwards", "cache-step", "coarse-clock", "cold-first-call", "dropped-trials", "empty-command",
    "ended-early", "left-for-a-moment", "many-small-losses", "memory-grows", "more-workers-than-processors",
    "no-more-gain", "noise", "not-pinned", "nothing-wrong", "own-noise", "prints-in-the-clock", "probe",
    "rare-long-calls", "shared-cores", "slow-governor", "throttled", "too-few-rounds", "took-turns", "two-speeds",
    "unlike-processors", "unoptimised-library", "waits-can-overlap"};

std::vector<std::string> listed() {
  std::vector<std::string> ids(std::begin(others), std::end(others));
  for (int cause = 0; cause <= static_cast<int>(Cause::idle_workers); ++cause)
    ids.push_back(id_of(static_cast<Cause>(cause)));
  std::sort(ids.begin(), ids.end());
  return ids;
}

}  // namespace

const std::vector<std::string>& finding_ids() {
  static const std::vector<std::string> ids = listed();
  return ids;
}

bool is_finding_id(const std::string& id) {
  return std::binary_search(finding_ids().begin(), finding_ids().end(), id);
}

}  // namespace antcrew::analysis_layer
