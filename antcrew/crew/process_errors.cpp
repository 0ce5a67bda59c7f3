#include "antcrew/crew/process_errors.hpp"

#include <cstring>

#include "antcrew/base/units.hpp"

namespace antcrew {

using namespace base_layer;
namespace {

std::string held(Range range) {
  if (range.empty()) return "holding no range";
  return "holding " + std::to_string(range.first) + " … " + std::to_string(range.last - 1);
}

std::string end_in_words(const ProcessDied::Facts& facts) {
  switch (facts.reason) {
    case ProcessDied::Reason::deadline:
      return "had not ended after " + duration_text(facts.deadline_s) + " and was killed";
    case ProcessDied::Reason::exit:
      return "ended itself with exit code " + std::to_string(facts.number);
    case ProcessDied::Reason::unknown:
      return "ended, how is not known";
    case ProcessDied::Reason::signal:
      break;
  }
  return "died of signal " + std::to_string(facts.number) + " (" + ::strsignal(facts.number) + ")";
}

const char* advice(const ProcessDied::Facts& facts) {
  if (facts.reason == ProcessDied::Reason::deadline)
    return "raise ProcessOptions::deadline_s, or find what it waits for";
  if (facts.reason == ProcessDied::Reason::exit) return "a body must return, not exit";
  if (facts.reason == ProcessDied::Reason::unknown)
    return "let the program's handler of SIGCHLD wait for its own children only, and it is told";
  if (facts.number == 9) return "somebody killed it, or the system had no memory left";
  return "run that range by itself in a debugger, or set ProcessOptions::retries if the fault passes";
}

std::string where(const ProcessDied::Facts& facts) {
  return facts.crew + ", worker " + std::to_string(facts.worker);
}

std::string in_words(const ProcessDied::Facts& facts) {
  std::string text = "its process " + end_in_words(facts) + ", " + held(facts.range);
  if (facts.tries > 1) text += ", at try " + std::to_string(facts.tries);
  return text;
}

}  // namespace

ProcessDied::ProcessDied(const Facts& facts)
    : Error(Kind::could_not_run, facts.reason == Reason::deadline ? "crew.deadline" : "crew.process_died",
            in_words(facts), where(facts), advice(facts)),
      facts_(facts) {}

WorkerThrew::WorkerThrew(const std::string& crew, int worker, Range range, std::string type, std::string text)
    : Error(Kind::could_not_run, "crew.worker_threw",
            "it threw " + type + (text.empty() ? "" : ": " + text) + ", " + held(range),
            crew + ", worker " + std::to_string(worker), ""),
      worker_(worker),
      range_(range),
      type_(std::move(type)),
      text_(std::move(text)) {}

}  // namespace antcrew
