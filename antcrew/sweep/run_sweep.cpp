#include "antcrew/sweep/run_sweep.hpp"

#include <fmt/format.h>

#include <functional>
#include <sstream>

#include "antcrew/base/printable.hpp"
#include "antcrew/machine/limits.hpp"
#include "antcrew/record/json.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/study/run_loop.hpp"
#include "antcrew/sweep/commands_host.hpp"
#include "antcrew/sweep/internal/program_files.hpp"

namespace antcrew::sweep_layer {
namespace {

// What the study itself sets, not what happens to be set.
std::map<std::string, std::string> environment_set_by(const CommandStudy& study) {
  std::map<std::string, std::string> all = study.parts().baseline.environment;
  for (std::size_t i = 0; i < study.variants().size(); ++i) {
    for (const auto& [name, value] : study.runnable(i).environment) {
      const auto shared = all.find(name);
      if (shared == all.end() || shared->second != value) all[name + " of " + study.variants()[i].name] = value;
    }
  }
  std::map<std::string, std::string> fit;
  for (const auto& [name, value] : all) fit[printable(name, 200)] = printable(value, 1000);
  return fit;
}

std::string line_of(const CommandStudy& study, const Runnable& of, const std::string& name, const Place& place) {
  std::string at = place.at.size > 0 ? fmt::format(", size {}", place.at.size) : "";
  for (const auto& [dimension, value] : place.at.dimensions) at += ", " + dimension + " " + value.text();
  std::string text = fmt::format("{}, {} worker{}{}:\n    ", printable(name, 60), place.workers,
                                 place.workers == 1 ? "" : "s", printable(at));
  if (of.command.shell.empty()) {
    text += in_words(words_of(study, of, of.command, place)) + "\n";
  } else {
    const Words launcher = words_of(study, of, {}, place);
    text += (launcher.empty() ? "" : in_words(launcher) + " ") + "/bin/sh -c, the text:\n";
    std::istringstream lines(of.command.shell);
    for (std::string line; std::getline(lines, line);)
      if (!line.empty()) text += "      " + printable(line) + "\n";
  }
  if (const std::string input = text_of(study, of, of.input, place); !input.empty())
    text += "    reads " + printable(input) + "\n";
  for (const auto& [variable, value] : of.environment)
    text += "    with " + printable(variable) + "=" + printable(text_of(study, of, value, place)) + "\n";
  return text;
}

}  // namespace

Record run_sweep(const CommandStudy& study, const Plan& plan, const RunHooks& hooks, const std::string& kept_under,
                 const Record* begun) {
  Record fresh;
  fresh.commands = true;
  const internal::ProgramFiles files(study);
  fresh.files = files.facts();
  fresh.environment = environment_set_by(study);
  fresh.build.program_hash = files.hash();
  const HostLimits limits{plan.call_limit_s, plan.memory_limit_bytes, hooks.stop, false, plan.budget_s};
  return run_hosted([&] { return std::make_unique<CommandsHost>(study, limits, kept_under); }, study, plan, hooks,
                    std::move(fresh), begun);
}

namespace {

// Of each command that a plan would run, baseline first.
void for_each_command(const CommandStudy& study, const Plan& plan,
                      const std::function<void(const Runnable& of, const std::string& name, const Place& place)>& use) {
  const Grid grid = decide(study, plan, usable_processors_now());
  for (const Point& point : grid.points) {
    use(study.parts().baseline, "baseline", {1, point, "FOLDER"});
    for (const std::size_t variant : grid.variants) {
      const VariantOutline& outline = study.variants()[variant];
      for (const int workers : grid.workers_of(outline, point))
        use(study.runnable(variant), outline.key(), {workers, point, "FOLDER"});
    }
  }
}

}  // namespace

std::string commands_in_words(const CommandStudy& study, const Plan& plan) {
  std::string text;
  for_each_command(study, plan, [&](const Runnable& of, const std::string& name, const Place& place) {
    text += line_of(study, of, name, place);
  });
  return text;
}

std::string commands_json(const CommandStudy& study, const Plan& plan) {
  Json commands = Json::array();
  for_each_command(study, plan, [&](const Runnable& of, const std::string& name, const Place& place) {
    Json one = {{"variant", name}, {"workers", place.workers}, {"size", place.at.size}};
    Json words = Json::array();
    for (const std::string& word : words_of(study, of, of.command, place)) words.push_back(printable(word));
    one["words"] = std::move(words);
    if (!of.command.shell.empty()) one["shell"] = of.command.shell;
    one["input"] = printable(text_of(study, of, of.input, place));
    commands.push_back(std::move(one));
  });
  return Json{{"title", study.title()}, {"commands", std::move(commands)}}.dump(2) + "\n";
}

}  // namespace antcrew::sweep_layer
