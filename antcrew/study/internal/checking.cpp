#include "antcrew/study/internal/checking.hpp"

#include <fmt/format.h>

#include "antcrew/record/record.hpp"
#include "antcrew/study/visit_faults.hpp"

namespace antcrew::internal {
namespace {

class Checking {
 public:
  Checking(const StudyBase& study, const CellSpec& spec, ProcessBoard* board)
      : study_(study), spec_(spec), board_(board) {}

  // Another input and the right answer to it. False, with the reason in `trouble`, when there is none: a study need not
  // have been written for every size.
  bool make_other(const Point& at, std::size_t size, std::string& trouble) {
    Point other = at;
    other.size = size;
    tell(board_, Stage::making_input);
    auto fault = caught([&] { other_input_ = study_.make_input(other); }, 0, "the input maker");
    tell(board_, Stage::baseline);
    if (!fault) fault = caught([&] { other_answer_ = answer_of_baseline(other_input_); }, 0, "the baseline");
    if (fault) trouble = fmt::format("with an input of size {}: {}", size, fault->text);
    return !fault;
  }

  void start() {
    const auto variant = static_cast<std::size_t>(spec_.variant);
    session_ = study_.open_variant(variant, spec_.workers, study_.crew_options(variant));
  }

  void call(const Anything& input) {
    tell(board_, Stage::calling);
    session_->prepare(input, 1);
    session_->call_ns(input, 1);
    tell(board_, Stage::comparing);
  }

  std::optional<Fault> other_answer_is_wrong(std::size_t size, const Anything& own_answer) const {
    const Difference difference = session_->compare(other_answer_, 0);
    if (difference.agree) return std::nullopt;
    if (session_->compare(own_answer, 0).agree) {
      return Fault{Fault::Kind::remembered,
                   0,
                   fmt::format("called with another input, of size {}, it gave the answer to the input before", size),
                   {{"other_size", static_cast<double>(size)}}};
    }
    return Fault{Fault::Kind::wrong_answer,
                 0,
                 fmt::format("right with this input, wrong with one of size {}: {}", size, in_words(difference)),
                 {{"other_size", static_cast<double>(size)}}};
  }

  void drop() { session_->drop_answers(); }
  const Anything& other_input() const noexcept { return other_input_; }

  std::optional<Fault> own_input_has_changed(const Anything& input, const Anything& answer) const {
    tell(board_, Stage::baseline);
    const auto baseline = study_.open_baseline();
    baseline->prepare(input, 1);
    baseline->call_ns(input, 1);
    const Difference difference = baseline->compare(answer, 0);
    if (difference.agree) return std::nullopt;
    return Fault{Fault::Kind::changed_input, 0,
                 "after its call the baseline had another answer to the same input: " + in_words(difference)};
  }

 private:
  Anything answer_of_baseline(const Anything& input) const {
    const auto baseline = study_.open_baseline();
    baseline->prepare(input, 1);
    baseline->call_ns(input, 1);
    return baseline->take_answer();
  }

  const StudyBase& study_;
  const CellSpec& spec_;
  ProcessBoard* board_;
  internal::Owned<Session> session_;
  Anything other_input_;
  Anything other_answer_;
};

}  // namespace

Visit check_cell(const StudyBase& study, const CellSpec& spec, const Point& at, std::size_t other_size,
                 const Anything& input, const Anything& reference_answer, ProcessBoard* board) {
  Visit visit;
  CheckFacts& facts = visit.seen.check.emplace();
  const auto keep = [&](std::optional<Fault> fault) {
    if (fault) visit.seen.faults.push_back(std::move(*fault));
  };
  Checking checking(study, spec, board);
  const bool other = other_size > 0 && checking.make_other(at, other_size, facts.trouble);
  const auto on_own = caught(
      [&] {
        checking.start();
        checking.call(input);
        checking.drop();
      },
      0);
  if (on_own) {  // its timed calls did not: what is wrong with this one is for the reader
    facts.trouble = on_own->text;
    return visit;
  }
  if (other) {
    const auto thrown = caught(
        [&] {
          checking.call(checking.other_input());
          keep(checking.other_answer_is_wrong(other_size, reference_answer));
          facts.other_size = other_size;
          checking.drop();
        },
        0);
    if (thrown) facts.trouble = fmt::format("with an input of size {}: {}", other_size, thrown->text);
  }
  const auto failed = caught(
      [&] {
        keep(checking.own_input_has_changed(input, reference_answer));
        facts.own_input = true;
      },
      0, "the baseline");
  if (failed) facts.trouble = failed->text;
  tell(board, Stage::idle);
  return visit;
}

}  // namespace antcrew::internal
