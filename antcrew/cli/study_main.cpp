#include "antcrew/cli/study_main.hpp"

#include <fmt/format.h>

#include <optional>

#include "antcrew/base/error.hpp"
#include "antcrew/cli/exit.hpp"
#include "antcrew/cli/forms.hpp"
#include "antcrew/cli/run_study.hpp"
#include "antcrew/cli/study_options.hpp"
#include "antcrew/record/json.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/report/race_text.hpp"
#include "antcrew/report/text.hpp"
#include "antcrew/study/find_races.hpp"
#include "antcrew/study/fresh_start.hpp"
#include "antcrew/study/launched.hpp"
#include "antcrew/study/run.hpp"

namespace antcrew::cli_layer {
namespace {

void print_list(const std::vector<const StudyBase*>& studies, const FormChoice& form) {
  if (form.form == "json") {
    Json all = Json::array();
    for (const StudyBase* study : studies) {
      Json variants = Json::array();
      for (const VariantOutline& variant : study->variants())
        variants.push_back({{"variant", variant.name}, {"crew", variant.crew}});
      all.push_back({{"title", study->title()}, {"variants", std::move(variants)}});
    }
    return put_out(Json{{"studies", std::move(all)}}.dump(2) + "\n", form.to);
  }
  for (std::size_t i = 0; i < studies.size(); ++i) {
    fmt::print("{}. {}\n", i + 1, studies[i]->title());
    for (const VariantOutline& variant : studies[i]->variants()) fmt::print("   {}\n", variant.key());
  }
}

int run_one(const StudyBase& study, const StudyOptions& options, std::size_t studies, const FileBuild& build) {
  if (options.find_races) {
    const RaceReport report = find_races(study, plan_of(options), asked_to_end);
    const bool json = options.form.form == "json";
    put_out(json ? race_json(report) : race_text(report, output_look().width), options.form.to);
    return report.faults.empty() ? exit_done : exit_answer_is_no;
  }
  const auto run_it = [&](const Plan& plan, const RunHooks& hooks, const Record* begun, const std::string&) {
    return begun != nullptr ? run_on(study, *begun, plan, hooks, build) : run(study, plan, hooks, build);
  };
  return run_study({&study, run_it}, options, studies);
}

int parse_and_run(int argc, char** argv, const std::vector<const StudyBase*>& studies, const FileBuild& build) {
  const auto parsed =
      parse_study_options(argc, argv,
                          "Times rewrites of sequential code against their baseline: " + studies.front()->title() +
                              (studies.size() > 1 ? " …" : ""));
  if (!parsed) return exit_done;
  const StudyOptions& options = *parsed;
  check_form(options.form);
  for (const StudyBase* study : studies) study->check_description();
  if (options.dry_run) return print_list(studies, options.form), exit_done;
  const auto chosen = chosen_studies(studies, options.studies);
  const Plan plan = plan_of(options);
  if (!options.resume.empty() && chosen.size() > 1) {
    bad_input("cli.option", "--resume", "this program has several studies", "choose the record's own with --study");
  }
  for (const StudyBase* study : chosen) {
    decide(*study, plan, usable_processors_now());  // bad input is found before the first second is spent
    record_path(options, *study, chosen.size());
  }
  end_on_signals();
  int worst = exit_done;
  for (const StudyBase* study : chosen) {
    if (asked_to_end()) break;
    worst = exit_of_several(worst, run_one(*study, options, chosen.size(), build));
  }
  return worst;
}

}  // namespace

}  // namespace antcrew::cli_layer

namespace antcrew {

using namespace base_layer;

int study_main(int argc, char** argv, const StudyBase* const* studies, std::size_t count, const FileBuild& build) {
  return study_main(argc, argv, std::vector<const StudyBase*>(studies, studies + count), build);
}

int study_main(int argc, char** argv, const std::vector<const StudyBase*>& studies, const FileBuild& build) {
  using namespace cli_layer;
  serve_fresh_start(argc, argv, studies);
  std::optional<int> launched;
  const int served = guarded(program_name(argv[0]), [&] {
    launched = serve_launched(argc, argv, studies);
    return launched.value_or(exit_done);
  });
  if (launched || served != exit_done) return served;
  return guarded(program_name(argv[0]), [&] { return parse_and_run(argc, argv, studies, build); });
}

}  // namespace antcrew
