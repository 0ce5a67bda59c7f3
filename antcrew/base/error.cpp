#include "antcrew/base/error.hpp"

namespace antcrew {
namespace {

// Names and texts from outside may hold line breaks; an error stays one line.
std::string one_line(std::string text) {
  for (char& c : text) {
    if (c == '\n' || c == '\r' || c == '\t') c = ' ';
  }
  return text;
}

std::string sentence(const std::string& what, const std::string& where, const std::string& advice) {
  std::string text = where.empty() ? what : where + ": " + what;
  if (!advice.empty()) text += "; " + advice;
  return one_line(std::move(text));
}

}  // namespace

Error::Error(Kind kind, std::string id, const std::string& what, const std::string& where, const std::string& advice)
    : std::runtime_error(sentence(what, where, advice)), kind_(kind), id_(std::move(id)) {}

void bad_input(std::string id, const std::string& where, const std::string& what, const std::string& advice) {
  throw Error(Error::Kind::bad_input, std::move(id), what, where, advice);
}

void could_not_run(std::string id, const std::string& where, const std::string& what, const std::string& advice) {
  throw Error(Error::Kind::could_not_run, std::move(id), what, where, advice);
}

}  // namespace antcrew
