#include "antcrew/base/error.hpp"

#include "antcrew/base/printable.hpp"

namespace antcrew {
namespace {

std::string sentence(const std::string& what, const std::string& where, const std::string& advice) {
  std::string text = where.empty() ? what : where + ": " + what;
  if (!advice.empty()) text += "; " + advice;
  return base_layer::printable(text);
}

}  // namespace

Error::Error(Kind kind, std::string id, const std::string& what, const std::string& where, const std::string& advice)
    : std::runtime_error(sentence(what, where, advice)), kind_(kind), id_(std::move(id)) {}

namespace base_layer {

void bad_input(std::string id, const std::string& where, const std::string& what, const std::string& advice) {
  throw Error(Error::Kind::bad_input, std::move(id), what, where, advice);
}

void could_not_run(std::string id, const std::string& where, const std::string& what, const std::string& advice) {
  throw Error(Error::Kind::could_not_run, std::move(id), what, where, advice);
}

}  // namespace base_layer

}  // namespace antcrew
