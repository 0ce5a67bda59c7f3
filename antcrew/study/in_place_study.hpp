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
#include <functional>
#include <memory>
#include <string>
#include <type_traits>
#include <utility>
#include <vector>

#include "antcrew/study/answer_text.hpp"
#include "antcrew/study/internal/calling.hpp"
#include "antcrew/study/internal/kept_answers.hpp"
#include "antcrew/study/study_base.hpp"

namespace antcrew {

namespace internal {

template <class Work, class Call, class Read, class Agreement>
class InPlaceSession : public Session {
 public:
  InPlaceSession(Call call, const Read& read, const Agreement& agreement)
      : call_(std::move(call)), read_(read), agreement_(agreement) {}

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
    const int depth = fork_depth();
    const std::int64_t start = now_ns();
    for (Work& copy : copies_) {
      call_(*unknown(&copy));
      keep_alive(&copy);
      end_if_returned_child(depth);
    }
    return now_ns() - start;
  }
  std::size_t kept() const override { return copies_.size(); }
  Difference compare(const Anything& reference, std::size_t k) const override {
    return difference_of(agreement_, std::invoke(read_, *static_cast<const Work*>(reference.get())),
                         std::invoke(read_, copies_[k]));
  }
  Anything take_answer() override {
    auto last = std::make_shared<Work>(std::move(copies_.back()));
    copies_.clear();
    return last;
  }
  std::string in_short(std::size_t k) const override { return AnswerText::of(std::invoke(read_, copies_[k])); }
  std::string objection(const Anything& reference) const override {
    return objection_of(agreement_, std::invoke(read_, *static_cast<const Work*>(reference.get())));
  }
  void drop_answers() override {
    used_ = std::move(copies_);
    copies_.clear();
  }
  std::optional<CrewFacts> crew_facts() const override { return facts_of(call_); }

 private:
  Call call_;
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
      using Call = internal::CallWithCrew<Crew, Body>;
      auto open = [this, body = std::make_shared<const Body>(std::move(body))](int workers,
                                                                               const CrewOptions& granted) {
        return session(Call{CrewTraits<Crew>::start(workers, granted), *body});
      };
      return add({std::move(name), CrewTraits<Crew>::name, options, std::move(open)});
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

  study_layer::Anything make_input(const StudyPoint& at) const override {
    return std::make_shared<Work>(internal::input_at(make_, at));
  }
  std::unique_ptr<study_layer::Session> open_baseline() const override {
    return session([this](Work& work) { baseline_(work); });
  }

  InPlaceStudy(const InPlaceStudy&) = delete;
  InPlaceStudy& operator=(const InPlaceStudy&) = delete;

 private:
  template <class Call>
  std::unique_ptr<study_layer::Session> session(Call call) const {
    return std::make_unique<internal::InPlaceSession<Work, Call, Read, Agreement>>(std::move(call), read_, agreement_);
  }

  Make make_;
  Baseline baseline_;
  Read read_;
  Agreement agreement_;
};

}  // namespace antcrew
