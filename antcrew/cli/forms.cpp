#include "antcrew/cli/forms.hpp"

#include <algorithm>
#include <iterator>

#include "antcrew/base/error.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/report/derived_json.hpp"
#include "antcrew/report/table.hpp"

namespace antcrew::cli_layer {
namespace {

struct Form {
  const char* name;
  std::string (*render)(const Analysed&, const Look& look);
};
constexpr Form forms[] = {
    {"table", table_text},
    {"json", [](const Analysed& study, const Look&) { return derived_json(study); }},
};

const Form* form_called(const std::string& name) {
  const auto* found =
      std::find_if(std::begin(forms), std::end(forms), [&](const Form& form) { return form.name == name; });
  return found == std::end(forms) ? nullptr : found;
}

}  // namespace

std::string form_names() {
  std::vector<std::string> names;
  for (const Form& form : forms) names.emplace_back(form.name);
  return joined(names);
}

void check_form(const std::string& form) {
  if (form_called(form) == nullptr)
    bad_input("cli.form", "--as", "no form '" + form + "'", "choose from " + form_names());
}

std::string rendered(const Record& record, const std::string& form, const Look& look) {
  check_form(form);
  return form_called(form)->render(analyse(record), look);
}

}  // namespace antcrew::cli_layer
