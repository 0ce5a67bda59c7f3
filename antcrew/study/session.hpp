// One variant made ready at one worker count: its crew is started, and it can be called and its answers compared.
//
// What the run loop sees of a user's typed code. Not thread-safe; one session belongs to one cell process.
#pragma once

#include <cstddef>
#include <cstdint>
#include <optional>

#include "antcrew/crew/crew_options.hpp"
#include "antcrew/study/agreement.hpp"
#include "antcrew/study/anything.hpp"
#include "antcrew/study/layer.hpp"
#include "antcrew/study/started_body.hpp"

namespace antcrew::study_layer {

class Session {
 public:
  explicit Session(internal::StartedBody call) noexcept : call_(std::move(call)) {}
  Session(const Session&) = delete;
  Session& operator=(const Session&) = delete;
  virtual ~Session();

  // Makes room, and copies of in-place work, for so many calls: off the clock, before call_ns().
  virtual void prepare(const Anything& input, std::size_t calls) = 0;

  // Calls the variant `calls` times in a row on the same input, as prepared; the time of them all. Answers are kept
  // until drop_answers(). Whatever the variant throws comes through.
  virtual std::int64_t call_ns(const Anything& input, std::size_t calls) = 0;

  // How many answers are kept, and one of them compared with the reference.
  virtual std::size_t kept() const = 0;
  virtual Difference compare(const Anything& reference, std::size_t k) const = 0;

  // One of the kept answers in short, for people.
  virtual std::string in_short(std::size_t) const { return {}; }

  // Why the agreement would take any answer for right, measured by this reference, in words; empty when it would not.
  virtual std::string objection(const Anything&) const { return {}; }

  // The answer of the last call, as a reference for others; for baselines.
  virtual Anything take_answer() = 0;

  virtual void drop_answers() = 0;

  // Nothing for a variant without a crew.
  std::optional<CrewFacts> crew_facts() const { return call_.crew_facts(); }

 protected:
  internal::StartedBody call_;
};

}  // namespace antcrew::study_layer
