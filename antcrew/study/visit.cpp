#include "antcrew/study/visit.hpp"

#include <cxxabi.h>

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <functional>
#include <typeinfo>

#include "antcrew/machine/clock.hpp"

namespace antcrew {
namespace {

// A trial lasts this long at least: a thousand times what reading the clock costs. Shorter calls are repeated.
constexpr double shortest_trial_ns = 200'000;
constexpr double most_calls = 1'000'000;

constexpr double settled_within = 0.02;
constexpr double long_call_ns = 1e9;      // one settling call is enough for these
constexpr int most_settling_trials = 10;  // on a machine that never comes to rest
constexpr double longest_settling_ns = 5e8;

std::string type_name(const std::type_info& type) {
  int status = 0;
  char* readable = abi::__cxa_demangle(type.name(), nullptr, nullptr, &status);
  std::string name = status == 0 ? readable : type.name();
  std::free(readable);
  return name;
}

Fault threw(int round, const std::string& during, const std::string& what) {
  return {Fault::Kind::threw, round, during.empty() ? what : during + " threw " + what};
}

std::size_t calls_for(double call_ns) {
  if (call_ns >= shortest_trial_ns) return 1;
  return static_cast<std::size_t>(std::clamp(std::ceil(shortest_trial_ns / std::max(call_ns, 0.1)), 1.0, most_calls));
}

struct Settled {
  double first_ns = 0;
  double total_ns = 0;
  int calls = 0;
  std::size_t calls_each = 1;
};

// Calls until two in a row agree, so that caches, clock frequency and the crew are as they are in steady use.
Settled settle(Session& session, const Anything& input) {
  Settled s;
  const auto call = [&] {
    const double ns = static_cast<double>(session.call_ns(input, s.calls_each));
    session.drop_answers();
    s.total_ns += ns;
    s.calls += static_cast<int>(s.calls_each);
    return ns / static_cast<double>(s.calls_each);
  };
  double last = s.first_ns = call();
  if (last > long_call_ns) return s;
  s.calls_each = calls_for(last);
  for (int trials = 1; trials < most_settling_trials; ++trials) {
    const double now = call();
    const bool agree = std::fabs(now - last) <= settled_within * std::min(now, last);
    last = now;
    s.calls_each = calls_for(now);
    if (agree || s.total_ns > longest_settling_ns) break;
  }
  return s;
}

}  // namespace

std::optional<Fault> caught(const std::function<void()>& work, int round, const std::string& during) {
  try {
    work();
    return std::nullopt;
  } catch (const std::exception& error) {
    return threw(round, during, type_name(typeid(error)) + ": " + error.what());
  } catch (...) {
    const std::type_info* type = abi::__cxa_current_exception_type();
    return threw(round, during, type == nullptr ? "something unknown" : type_name(*type));
  }
}

Visit settle_and_time(Session& session, const Anything& input, const Anything& reference, int round) {
  const Settled settled = settle(session, input);
  const double calls = static_cast<double>(settled.calls_each);
  const std::int64_t cpu_before = process_cpu_ns();
  const double wall_ns = static_cast<double>(session.call_ns(input, settled.calls_each));
  const double cpu_ns = static_cast<double>(process_cpu_ns() - cpu_before);

  Visit visit;
  Trial trial;
  trial.round = round;
  trial.wall_s = wall_ns / calls * 1e-9;
  trial.calls = settled.calls_each;
  trial.visited_s = settled.first_ns * 1e-9;
  trial.settling_calls = settled.calls;
  trial.settling_s = settled.total_ns * 1e-9;
  trial.cpu_s = cpu_ns / calls * 1e-9;
  const Difference difference = session.compare(reference);
  session.drop_answers();
  if (!difference.agree) {
    trial.agreed = false;
    Fault fault{Fault::Kind::wrong_answer, round, difference.in_words()};
    fault.evidence = {{"differing", static_cast<double>(difference.differing)},
                      {"compared", static_cast<double>(difference.compared)}};
    if (difference.numeric && std::isfinite(difference.largest))
      fault.evidence["largest_difference"] = difference.largest;
    visit.faults.push_back(std::move(fault));
  }
  visit.trial = trial;
  return visit;
}

}  // namespace antcrew
