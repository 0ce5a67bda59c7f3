// Describing a study of work that changes its input: sorting, time steps on a grid.
//
//   InPlaceStudy silt("Silt after a tide", make_grid, step_all, &Grid::depth, within(1e-9));
//   silt.variant<ThreadCrew>("rows split evenly", [](Grid& grid, auto& crew) { … });
//
// Baseline and variants get a fresh copy of the input each time, made before the clock starts; the answer is read from
// the copy by the given member or function. A copy that was worked on is assigned the input for the next call where its
// type can be assigned, so that memory that is there already need not be asked for again.
#pragma once

#include <concepts>
#include <string>
#include <type_traits>
#include <utility>
#include <vector>

#include "antcrew/study/answer_text.hpp"
#include "antcrew/study/internal/calling.hpp"
#include "antcrew/study/internal/kept_answers.hpp"
#include "antcrew/study/layer.hpp"
#include "antcrew/study/study_base.hpp"

namespace antcrew {

namespace internal {

// What `read`, a member or a function, gives of the work (as std::invoke, which takes <functional>).
template <class Read, class Work>
decltype(auto) answer_in(const Read& read, const Work& work) {
  if constexpr (std::is_member_object_pointer_v<Read>) {
    return (work.*read);
  } else if constexpr (std::is_member_function_pointer_v<Read>) {
    return (work.*read)();
  } else {
    return read(work);
  }
}

template <class Work, class Read, class Agreement>
class InPlaceSession final : public Session {
 public:
  InPlaceSession(StartedBody call, const Read& read, const Agreement& agreement)
      : Session(std::move(call)), read_(read), agreement_(agreement) {}

  void prepare(const Anything& input, std::size_t calls) override {
    const Work& fresh = *static_cast<const Work*>(input.get());
    if constexpr (std::is_copy_assignable_v<Work>) {
      if (used_.size() > calls) used_.erase(used_.begin() + static_cast<std::ptrdiff_t>(calls), used_.end());
      for (Work& copy : used_) copy = fresh;
      copies_ = std::move(used_);
      used_.clear();
    } else {
      copies_.clear();
    }
    copies_.reserve(calls);
    while (copies_.size() < calls) copies_.push_back(fresh);
  }
  std::int64_t call_ns(const Anything&, std::size_t) override {
    return call_.timed(copies_.data(), nullptr, copies_.size());
  }
  std::size_t kept() const override { return copies_.size(); }
  Difference compare(const Anything& reference, std::size_t k) const override {
    return difference_of(agreement_, answer_in(read_, *static_cast<const Work*>(reference.get())),
                         answer_in(read_, copies_[k]));
  }
  Anything take_answer() override {
    Anything last = anything(new Work(std::move(copies_.back())));
    copies_.clear();
    return last;
  }
  std::string in_short(std::size_t k) const override { return AnswerText::of(answer_in(read_, copies_[k])); }
  std::string objection(const Anything& reference) const override {
    return objection_of(agreement_, answer_in(read_, *static_cast<const Work*>(reference.get())));
  }
  void drop_answers() override {
    used_ = std::move(copies_);
    copies_.clear();
  }

 private:
  const Read& read_;
  const Agreement& agreement_;
  std::vector<Work> copies_;
  std::vector<Work> used_;  // by the calls before
};

}  // namespace internal

template <class Make, class Baseline, class Read, class Agreement>
class InPlaceStudy : public StudyBase {
 public:
  using Work = internal::InputOf<Make>;
  static_assert(std::is_copy_constructible_v<Work>,
                "in-place work is copied before each call: its type must be copyable");
  static_assert(internal::answers_input<Baseline, Work>,
                "the baseline cannot be called with the work that the maker returns: it takes it by reference, and "
                "changes it");

  // read: a member or function that gives the answer from a worked-on copy.
  InPlaceStudy(std::string title, Make make, Baseline baseline, Read read, Agreement agreement)
      : StudyBase(std::move(title), internal::agreement_in_words(agreement), internal::mistake_of(agreement)),
        make_(std::move(make)),
        baseline_(std::move(baseline)),
        read_(std::move(read)),
        agreement_(std::move(agreement)) {}

  // body(work, crew); what it returns is not looked at. Name and crew together must be its own.
  template <class Crew, class Body>
  VariantHandle variant(std::string name, const CrewOptions& options, Body body) {
    if constexpr (internal::is_body_for<Body, Work, Crew>()) {
      return add(std::move(name), options, study_layer::anything(new Body(std::move(body))), calls_of<Crew, Body>);
    } else {
      return VariantHandle(*this, 0);
    }
  }
  template <class Crew, class Body>
  VariantHandle variant(std::string name, Body body) {
    return variant<Crew>(std::move(name), CrewOptions{}, std::move(body));
  }

  // The body as a variant for each crew that can run it, of all crews or of those named: on_every_crew<TaskCrew, …>. A
  // body that not every crew can run says so by a requires-clause. Returns the handles, in that order.
  template <class... Crews, class Body>
  std::vector<VariantHandle> on_every_crew(const std::string& name, const Body& body) {
    using List = std::conditional_t<sizeof...(Crews) == 0, EveryCrew, CrewList<Crews...>>;
    std::vector<VariantHandle> handles;
    internal::for_crews_that_run<Body, Work>(List(), [&]<class Crew>(std::type_identity<Crew>) {
      handles.push_back(this->template variant<Crew>(name, body));
    });
    return handles;
  }

  // So many different inputs for each point: the maker takes a const StudyPoint& and draws from at.seed, 0 while
  // exploring. The blocks of a confirmation take them in turn, and a winner that depends on the input is told.
  void inputs(int count) {
    static_assert(std::is_invocable_v<const Make&, const StudyPoint&>,
                  "several inputs need a maker that takes a const StudyPoint& and draws from at.seed");
    set_inputs(count);
  }

  study_layer::Anything make_input(const StudyPoint& at) const override {
    return study_layer::anything(new Work(internal::input_at(make_, at)));
  }
  internal::Owned<study_layer::Session> open_baseline() const override {
    return session_of(*this, {&timed_baseline, &baseline_});
  }

  InPlaceStudy(const InPlaceStudy&) = delete;
  InPlaceStudy& operator=(const InPlaceStudy&) = delete;

 private:
  static std::int64_t timed_baseline(const void* baseline, void*, const void* copies, void*, std::size_t calls) {
    const Baseline& call = *static_cast<const Baseline*>(baseline);
    return internal::timed_copies(static_cast<Work*>(const_cast<void*>(copies)), calls,
                                  [&](Work& work) { call(work); });
  }
  static internal::Owned<study_layer::Session> session_of(const StudyBase& study, internal::StartedBody call) {
    const auto& its = static_cast<const InPlaceStudy&>(study);
    return internal::Owned<study_layer::Session>(
        new internal::InPlaceSession<Work, Read, Agreement>(std::move(call), its.read_, its.agreement_));
  }
  template <class Crew, class Body>
  static constexpr BodyCalls calls_of{&internal::crew_kind<Crew>, &internal::timed_in_place<Work, Crew, Body>,
                                      &session_of};

  Make make_;
  Baseline baseline_;
  Read read_;
  Agreement agreement_;
};

}  // namespace antcrew
