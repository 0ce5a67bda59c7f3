// Describing a study: an input for each size, the sequential baseline, and the variants that are to beat it.
//
//   Study tides("Tide heights", make_soundings, heights, within(1e-9));   // title, input, baseline, agreement
//   tides.sizes({10'000, 1'000'000});
//   tides.variant<ThreadCrew>("split evenly", [](const auto& in, auto& crew) { … return heights; });
//   tides.variant<Workers>("by hand", [](const auto& in, Workers workers) { … });
//   return study_main(argc, argv, tides);
//
// The input maker takes a size or a StudyPoint. Every variant sees the very same input, as const, and must return the
// answer; its type may differ from the baseline's if the agreement can compare the two. Answers may be move-only.
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

template <class Reference, class Answer, class Agreement>
class AnswerSession final : public Session {
 public:
  AnswerSession(StartedBody call, const Agreement& agreement) : Session(std::move(call)), agreement_(agreement) {}

  void prepare(const Anything&, std::size_t calls) override { answers_.make_room(calls); }
  std::int64_t call_ns(const Anything& input, std::size_t calls) override {
    return call_.timed(input.get(), &answers_, calls);
  }
  std::size_t kept() const override { return answers_.size(); }
  Difference compare(const Anything& reference, std::size_t k) const override {
    return difference_of(agreement_, *static_cast<const Reference*>(reference.get()), answers_[k]);
  }
  Anything take_answer() override { return anything(new Answer(answers_.take_last())); }
  std::string in_short(std::size_t k) const override { return AnswerText::of(answers_[k]); }
  std::string objection(const Anything& reference) const override {
    return objection_of(agreement_, *static_cast<const Reference*>(reference.get()));
  }
  void drop_answers() override { answers_.drop(); }

 private:
  KeptAnswers<Answer> answers_;
  const Agreement& agreement_;
};

}  // namespace internal

template <class Make, class Baseline, class Agreement>
class Study : public StudyBase {
 public:
  using Input = internal::InputOf<Make>;
  static_assert(internal::answers_input<Baseline, const Input>,
                "the baseline cannot be called with the input that the maker returns, as const: let it take const T&, "
                "and use an InPlaceStudy for work that changes its input");
  using Answer = typename internal::AnswerOf<Baseline, Input>::Type;
  static_assert(!std::is_invocable_v<const Baseline&, const Input&> || !std::is_same_v<Answer, internal::NoAnswer>,
                "the baseline returns nothing: it must return its answer, so that it can be compared");

  Study(std::string title, Make make, Baseline baseline, Agreement agreement)
      : StudyBase(std::move(title), internal::agreement_in_words(agreement), internal::mistake_of(agreement)),
        make_(std::move(make)),
        baseline_(std::move(baseline)),
        agreement_(std::move(agreement)) {}

  // Without an agreement answers are compared exactly, which floating-point answers must ask for in so many words.
  Study(std::string title, Make make, Baseline baseline)
      : Study(std::move(title), std::move(make), std::move(baseline), Agreement()) {
    static_assert(!internal::is_floating_answer<Answer>::value,
                  "floating-point answers need an agreement: within(tolerance) or exactly()");
  }

  // body(input, crew) -> answer. Name and crew together must be its own.
  template <class Crew, class Body>
  VariantHandle variant(std::string name, const CrewOptions& options, Body body) {
    return add(std::move(name), options, study_layer::anything(new Body(std::move(body))), calls_of<Crew, Body>);
  }
  template <class Crew, class Body>
  VariantHandle variant(std::string name, Body body) {
    return variant<Crew>(std::move(name), CrewOptions{}, std::move(body));
  }

  // The body as a variant for each crew that can run it, of ThreadCrew and TaskCrew or of those named, such as
  // on_every_crew<ThreadCrew, ProcessCrew> for a body that only returns. One that not every crew can run says so by a
  // requires-clause. Returns the handles, in that order.
  template <class... Crews, class Body>
  std::vector<VariantHandle> on_every_crew(const std::string& name, const Body& body) {
    using List = std::conditional_t<sizeof...(Crews) == 0, EveryCrew, CrewList<Crews...>>;
    std::vector<VariantHandle> handles;
    internal::for_crews_that_run<Body, const Input>(List(), [&]<class Crew>(std::type_identity<Crew>) {
      handles.push_back(this->template variant<Crew>(name, body));
    });
    return handles;
  }

  // A variant that on purpose leaves out a part of `of`, to price that part: its answer is not compared, and it is
  // never ranked.
  template <class Crew, class Body>
  VariantHandle probe(std::string name, VariantHandle of, Body body) {
    return add_probe(std::move(name), of, study_layer::anything(new Body(std::move(body))), calls_of<Crew, Body>);
  }

  // So many different inputs for each point: the maker takes a const StudyPoint& and draws from at.seed, 0 while
  // exploring. The blocks of a confirmation take them in turn, and a winner that depends on the input is told.
  void inputs(int count) {
    static_assert(std::is_invocable_v<const Make&, const StudyPoint&>,
                  "several inputs need a maker that takes a const StudyPoint& and draws from at.seed");
    set_inputs(count);
  }

  study_layer::Anything make_input(const StudyPoint& at) const override {
    return study_layer::anything(new Input(internal::input_at(make_, at)));
  }
  internal::Owned<study_layer::Session> open_baseline() const override {
    if constexpr (std::is_same_v<Answer, internal::NoAnswer> || !internal::can_compare<Agreement, Answer, Answer>()) {
      return nullptr;
    } else {
      return session_of<Answer>(*this, {&timed_baseline, &baseline_});
    }
  }

  // Variants refer to the study they were added to.
  Study(const Study&) = delete;
  Study& operator=(const Study&) = delete;

 private:
  static std::int64_t timed_baseline(const void* baseline, void*, const void* input, void* answers, std::size_t calls) {
    const Baseline& call = *static_cast<const Baseline*>(baseline);
    const Input* in = static_cast<const Input*>(input);
    return static_cast<internal::KeptAnswers<Answer>*>(answers)->timed(
        calls, [&]() -> decltype(auto) { return call(*internal::unknown(in)); });
  }
  template <class VariantAnswer>
  static internal::Owned<study_layer::Session> session_of(const StudyBase& study, internal::StartedBody call) {
    const Agreement& agreement = static_cast<const Study&>(study).agreement_;
    return internal::Owned<study_layer::Session>(
        new internal::AnswerSession<Answer, VariantAnswer, Agreement>(std::move(call), agreement));
  }
  template <class Crew, class Body>
  static constexpr BodyCalls body_calls() {
    if constexpr (answers<Crew, Body>()) {
      using VariantAnswer = std::decay_t<std::invoke_result_t<const Body&, const Input&, Crew&>>;
      return {&internal::crew_kind<Crew>, &internal::timed_answers<Input, VariantAnswer, Crew, Body>,
              &session_of<VariantAnswer>};
    } else {
      return {};
    }
  }
  template <class Crew, class Body>
  static constexpr BodyCalls calls_of = body_calls<Crew, Body>();

  // What the body returns can be compared with the baseline's answer; or a static assertion says why not.
  template <class Crew, class Body>
  static constexpr bool answers() {
    if constexpr (internal::is_body_for<Body, const Input, Crew>()) {
      using VariantAnswer = std::decay_t<std::invoke_result_t<const Body&, const Input&, Crew&>>;
      constexpr bool value = !std::is_void_v<VariantAnswer>;
      static_assert(value,
                    "the body of a variant returns nothing: it must return its answer, so that it can be compared");
      if constexpr (value && !std::is_same_v<Answer, internal::NoAnswer>)
        return internal::can_compare<Agreement, Answer, VariantAnswer>();
    }
    return false;
  }

  Make make_;
  Baseline baseline_;
  Agreement agreement_;
};

template <class Make, class Baseline, class Agreement>
Study(std::string, Make, Baseline, Agreement) -> Study<Make, Baseline, Agreement>;
template <class Make, class Baseline>
Study(std::string, Make, Baseline) -> Study<Make, Baseline, Exactly>;

}  // namespace antcrew
