#include "antcrew/study/visit_faults.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <new>

#include "antcrew/base/printable.hpp"
#include "antcrew/base/type_name.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/crew/process_errors.hpp"
#include "antcrew/record/record.hpp"

namespace antcrew::study_layer {
namespace {

// A call that used less CPU than this share of the baseline's, while others used as much after it, did not wait.
constexpr double too_little_inside = 0.5;
constexpr double much_afterwards = 0.3;
constexpr double least_judged_cpu_s = 1e-3;

constexpr std::size_t longest_text = 300;  // columns

Fault threw(int round, const std::string& during, const std::string& what) {
  return {Fault::Kind::threw, round, printable(during.empty() ? what : during + " threw " + what, longest_text)};
}

std::string counted(int count, const char* one, const char* many) {
  return fmt::format("{} {}", count, count == 1 ? one : many);
}

}  // namespace

const char* name_of(Stage stage) noexcept {
  switch (stage) {
    case Stage::starting:
      return "while starting its crew";
    case Stage::making_input:
      return "while making the input";
    case Stage::baseline:
      return "in the baseline's first call";
    case Stage::calling:
      return "in a call";
    case Stage::comparing:
      return "while answers were compared";
    case Stage::idle:
      break;
  }
  return "between calls";
}

std::optional<Fault> caught(const std::function<void()>& work, int round, const std::string& during) {
  try {
    work();
    return std::nullopt;
  } catch (const std::bad_alloc&) {
    return Fault{Fault::Kind::out_of_memory, round,
                 (during.empty() ? "" : during + ": ") + "an allocation was refused (std::bad_alloc)"};
  } catch (const WorkerThrew& error) {
    if (error.out_of_memory()) return Fault{Fault::Kind::out_of_memory, round, error.what()};
    return threw(round, during, error.what());
  } catch (const ProcessDied& died) {
    const bool overran = died.reason() == ProcessDied::Reason::deadline;
    return Fault{overran ? Fault::Kind::timed_out : Fault::Kind::crashed, round, died.what()};
  } catch (...) {
    const Thrown thrown = current_thrown();
    return threw(round, during, thrown.text.empty() ? thrown.type : thrown.type + ": " + thrown.text);
  }
}

void tell(ProcessBoard* board, Stage stage) noexcept {
  if (board == nullptr) return;
  board->stage.store(static_cast<int>(stage), std::memory_order_relaxed);
  board->progress.fetch_add(1, std::memory_order_relaxed);
}

}  // namespace antcrew::study_layer

namespace antcrew::internal {

bool did_not_wait(double inside_cpu_s, const Leftover& left, const Reference& reference, bool first_call) {
  if (left.certain()) return true;
  if (left.still_running && (left.processes_begun > 0 || (left.threads_begun > 0 && !first_call))) return true;
  return reference.cpu_s > least_judged_cpu_s && inside_cpu_s < too_little_inside * reference.cpu_s &&
         left.cpu_s > much_afterwards * reference.cpu_s;
}

std::string in_words(const Difference& difference) {
  constexpr double like_rounding = 1e-6;
  const double scale = std::max(1.0, std::fabs(difference.expected));
  const bool small = difference.numeric && difference.text.empty() && !difference.whole_numbers &&
                     std::isfinite(difference.largest) && difference.largest < like_rounding * scale;
  if (!small) return difference.in_words();
  const double enough = std::pow(10.0, std::ceil(std::log10(difference.largest / scale * 2)));
  return difference.in_words() +
         fmt::format(
             ", as adding up in another order may do: if that is right, let the study compare with within({:.0e})",
             enough);
}

Fault left_work(int round, double wall_s, const Leftover& left) {
  std::string text =
      fmt::format("the call returned after {}, its work went on for {}{} more, {} of CPU time", duration_text(wall_s),
                  left.still_running ? "at least " : "", duration_text(left.went_on_s), duration_text(left.cpu_s));
  if (left.threads_ended > 0) text += ", in " + counted(left.threads_ended, "thread", "threads") + " that ended later";
  if (left.processes_ended > 0)
    text += ", in " + counted(left.processes_ended, "process", "processes") + " that ended later";
  if (left.still_running && left.processes_begun > 0)
    text += ", in " + counted(left.processes_begun, "process", "processes");
  Fault fault{Fault::Kind::left_work, round, text};
  fault.evidence = {{"call_s", wall_s},
                    {"went_on_s", left.went_on_s},
                    {"went_on_cpu_s", left.cpu_s},
                    {"threads_ended", left.threads_ended},
                    {"processes_ended", left.processes_ended}};
  return fault;
}

LaneSums not_metered(const Fault& fault) {
  LaneSums sums;
  sums.lanes = 1;
  sums.withheld = std::string("the instrumented run ended differently from the timed ones: ") + name_of(fault.kind) +
                  (fault.text.empty() ? "" : ", " + fault.text);
  return sums;
}

}  // namespace antcrew::internal
