// Whether the answers of commands are their own, and the baseline's; also with another size.
#include <fmt/format.h>

#include <new>

#include "antcrew/base/printable.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/study/visit_faults.hpp"
#include "antcrew/sweep/answers.hpp"
#include "antcrew/sweep/commands_host.hpp"

namespace antcrew::sweep_layer {

using internal::TrialRun;

std::string CommandsHost::foreign(const std::string& answer, const internal::TrialFolder& place) const {
  const AnswerRule& rule = study_.parts().answer;
  if (rule.from != AnswerRule::From::file || rule.gathered()) return {};
  const std::string why = internal::not_its_own(answer, place.folder());
  return why.empty() ? why
                     : printable(rule.file, 60) + " is " + why + ": let it write a file of its own into its folder";
}

std::optional<Fault> CommandsHost::differs(const std::string& got_file, const std::string& expected_file,
                                           const internal::TrialFolder& place, int round) try {
  const AnswerRule& rule = study_.parts().answer;
  if (rule.from == AnswerRule::From::none) return std::nullopt;
  std::string expected, got;
  if (const std::string why = foreign(got_file, place); !why.empty())
    return Fault{Fault::Kind::wrong_answer, round, "its answer " + why};
  if (!internal::read_file(got_file, most_answer_bytes, got)) {
    return Fault{Fault::Kind::wrong_answer, round,
                 rule.from == AnswerRule::From::file ? "it left no file " + rule.file + " in its folder"
                                                     : "what it printed is longer than an answer may be"};
  }
  if (rule.how == AnswerRule::How::command) {
    int code = -1;
    auto fault = trials_.run_beside(setting_, study_.parts().baseline, rule.decides, 1, place, "comparing the answers",
                                    {expected_file, got_file}, &code);
    if (fault) fault->round = round;
    if (fault || code == 0) return fault;
    return Fault{Fault::Kind::wrong_answer, round, "the study's own command says that the answers differ"};
  }
  internal::read_file(expected_file, most_answer_bytes, expected);
  const Difference difference = compare_answers(rule, expected, got);
  if (difference.agree) return std::nullopt;
  std::string text = got.empty() && rule.from == AnswerRule::From::output ? std::string("it printed nothing")
                                                                          : internal::in_words(difference);
  return Fault{Fault::Kind::wrong_answer, round, printable(text, 400)};
} catch (const std::bad_alloc&) {
  return Fault{Fault::Kind::out_of_memory, round, "there was not enough memory to compare its answer"};
}

std::optional<Fault> CommandsHost::compared(const CellSpec& cell, TrialRun& trial, int round, std::string* in_short,
                                            double& took_s) {
  const std::int64_t began = now_ns();
  auto fault = trials_.gather(setting_, runnable(cell), cell.workers, round, trial);
  if (!fault) fault = differs(trial.answer, reference_->answer, trial.place, round);
  took_s = seconds_since(began);
  if (in_short == nullptr || study_.parts().answer.from == AnswerRule::From::none) return fault;
  try {
    std::string answer;
    if (internal::read_file(trial.answer, most_answer_bytes, answer)) *in_short = answer_in_short(answer);
  } catch (const std::bad_alloc&) {
    *in_short = "too long for the memory there is";
  }
  return fault;
}

std::optional<Fault> CommandsHost::reference_again(std::string& trouble) {
  TrialRun again = run(CellSpec(), 0);
  if (!again.fault) again.fault = trials_.gather(setting_, study_.parts().baseline, 1, 0, again);
  if (again.fault) {
    trouble = "the baseline: " + again.fault->text;
    return std::nullopt;
  }
  auto fault = differs(again.answer, reference_->answer, again.place, 0);
  if (fault) {
    fault->kind = Fault::Kind::changed_input;
    fault->text = "after its trials the baseline had another answer to the same input: " + fault->text;
  }
  return fault;
}

// With another size of the study's own, since a command need not take every size.
Visit CommandsHost::check(std::size_t index, std::size_t other_size) {
  const CellSpec& cell = cells_[index];
  Visit visit;
  CheckFacts& facts = visit.seen.check.emplace();
  if (study_.parts().answer.from == AnswerRule::From::none) {
    facts.trouble = "answers are not compared in this study";
    return visit;
  }
  const auto& sizes = study_.sizes();
  try {
    if (setting_.at.size > 0 && std::find(sizes.begin(), sizes.end(), other_size) != sizes.end()) {
      internal::TrialSetting other = setting_;
      other.at.size = other_size;
      TrialRun right = trials_.run(other, study_.parts().baseline, 1, 0);
      TrialRun its = trials_.run(other, runnable(cell), cell.workers, 0);
      if (!right.fault) right.fault = trials_.gather(other, study_.parts().baseline, 1, 0, right);
      if (!its.fault) its.fault = trials_.gather(other, runnable(cell), cell.workers, 0, its);
      if (right.fault || its.fault) {
        facts.trouble = fmt::format("with size {}: {}", other_size, (right.fault ? right : its).fault->text);
      } else if (auto wrong = differs(its.answer, right.answer, its.place, 0)) {
        const bool old = !differs(its.answer, reference_->answer, its.place, 0);
        wrong->kind = old ? Fault::Kind::remembered : Fault::Kind::wrong_answer;
        wrong->text =
            old ? fmt::format("called with another size, {}, it gave the answer to the one before", other_size)
                : fmt::format("right with this size, wrong with {}: {}", other_size, wrong->text);
        wrong->evidence = {{"other_size", static_cast<double>(other_size)}};
        visit.seen.faults.push_back(*wrong);
        facts.other_size = other_size;
      } else {
        facts.other_size = other_size;
      }
    }
    std::string trouble;
    if (auto fault = reference_again(trouble)) visit.seen.faults.push_back(*fault);
    facts.own_input = trouble.empty();
    if (!trouble.empty()) facts.trouble = trouble;
  } catch (const Error& error) {
    facts.trouble = printable(error.what(), 300);
  }
  return visit;
}

}  // namespace antcrew::sweep_layer
