#include "antcrew/sweep/internal/answer_table.hpp"

#include "antcrew/base/error.hpp"
#include "antcrew/sweep/internal/shell_text.hpp"

namespace antcrew::internal {

Command command_of(const Words& words, const std::string& where) {
  if (words.empty() || words.front().empty())
    bad_input("sweep.type", where, "a command without a program", "give its words: [\"sort\", \"tides.txt\"]");
  check_shell_words(words, where);
  return {words, {}, where};
}

AnswerRule answer_rule(TomlTable& table) {
  AnswerRule rule;
  const std::string from = table.choice("from", {"output", "file", "none"});
  rule.more_files = table.words("files");
  const auto file = table.text("file");
  if (!rule.more_files.empty()) {
    if (file || (!from.empty() && from != "file"))
      bad_input("sweep.key", table.where("files"), "two places for an answer",
                "leave 'file' out, and write from = \"file\" or nothing");
    rule.from = AnswerRule::From::file;
    rule.file = rule.more_files.front();
    rule.more_files.erase(rule.more_files.begin());
  } else if (file) {
    rule.file = *file;
    rule.from = AnswerRule::From::file;
    if (file->empty() || (!from.empty() && from != "file"))
      bad_input("sweep.key", table.where("file"), "a file for an answer that is not in one", "write from = \"file\"");
  } else if (from == "file") {
    bad_input("sweep.key", table.where("from"), "an answer in a file without its name",
              "add file = \"heights.txt\": relative names are in the trial's own folder");
  }
  if (from == "none") rule.from = AnswerRule::From::none;
  const Words filter = table.words("filter");
  if (!filter.empty()) rule.filter = command_of(filter, table.where("filter"));
  if (!filter.empty() && from == "none")
    bad_input("sweep.key", table.where("filter"), "a filter for answers that are not compared", "leave it out");
  const std::string how = table.choice("compare", {"exactly", "numbers", "lines", "command"});
  const Words decides = table.words("command");
  if (!decides.empty()) rule.decides = command_of(decides, table.where("command"));
  rule.how = how == "numbers"                       ? AnswerRule::How::numbers
             : how == "lines"                       ? AnswerRule::How::lines
             : how == "command" || !decides.empty() ? AnswerRule::How::command
                                                    : AnswerRule::How::exactly;
  if (rule.how == AnswerRule::How::command && decides.empty())
    bad_input("sweep.key", table.where("compare"), "no command to compare answers with",
              "add command = [\"./same.py\"]: it is given two files, and ends with 0 when they agree");
  if (!how.empty() && how != "command" && !decides.empty())
    bad_input("sweep.key", table.where("command"), "two ways to compare answers", "leave one of them out");
  const auto tolerance = table.number("tolerance");
  if (tolerance && (rule.how != AnswerRule::How::numbers || *tolerance < 0))
    bad_input("sweep.key", table.where("tolerance"), "a tolerance that cannot be used",
              "give zero or more, with compare = \"numbers\"");
  if (rule.how == AnswerRule::How::numbers && !tolerance)
    bad_input("sweep.key", table.where("compare"), "numbers without a tolerance", "add tolerance = 1e-9");
  rule.tolerance = tolerance.value_or(0);
  const auto absolute = table.yes_or_no("absolute");
  rule.absolute = absolute.value_or(false);
  const std::string layout = table.choice("layout", {"lines", "free"});
  rule.free_layout = layout == "free";
  if ((absolute || !layout.empty()) && rule.how != AnswerRule::How::numbers)
    bad_input("sweep.key", table.where(absolute ? "absolute" : "layout"), "it is about numbers",
              "add compare = \"numbers\", or leave it out");
  if (rule.tolerance >= 1 && !rule.absolute)
    bad_input("sweep.key", table.where("tolerance"), "a tolerance as large as the numbers themselves",
              "give less than 1: it is relative above 1; or add absolute = true");
  table.finish();
  return rule;
}

}  // namespace antcrew::internal
