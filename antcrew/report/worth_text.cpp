#include "antcrew/report/worth_text.hpp"

#include <fmt/format.h>

#include <cmath>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/record/json.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {
namespace {

std::string choice_in_words(int workers) {
  return workers == 1 ? "the sequential version" : fmt::format("{} workers", workers);
}

std::string steps_in_words(const std::vector<Worth::Step>& steps) {
  std::string text;
  for (const Worth::Step& step : steps)
    text += fmt::format("{}{} from {} on", text.empty() ? "" : ", ", choice_in_words(step.workers),
                        count_text(step.from_size));
  return text.empty() ? "the sequential version" : text;
}

std::string bounds_in_words(const Crossover& c) {
  switch (c.kind) {
    case Crossover::Kind::everywhere:
      return "significantly faster at every size tried";
    case Crossover::Kind::nowhere:
      return "not faster at any size tried (significant)";
    case Crossover::Kind::between:
      return fmt::format(
          "between {} and {}",
          c.size.low <= 0 ? "below the smallest" : count_text(static_cast<std::uint64_t>(std::llround(c.size.low))),
          count_text(static_cast<std::uint64_t>(std::llround(c.size.high))));
    case Crossover::Kind::open:
      break;
  }
  return c.sure_from > 0 ? fmt::format("inconclusive; seen from {} on", count_text(c.sure_from)) : "inconclusive";
}

}  // namespace

std::string worth_text(const Analysed& study, const Worth& worth) {
  const std::string name = fmt::format("\"{}\" ({})", printable(worth.of->cell->variant, 60), worth.of->cell->crew);
  std::string text;
  if (worth.steps.empty() && !worth.faulty.empty()) {
    text = fmt::format("{} is no advice with more than one worker.\n", name);
  } else if (worth.steps.empty()) {
    text = fmt::format("{} pays at no size tried, {} to {}: the sequential version it is.\n", name,
                       count_text(worth.smallest), count_text(worth.largest));
  } else if (worth.steps.front().workers > 1) {
    text = fmt::format("{} pays from size {} on, with {}.\n", name, count_text(worth.steps.front().from_size),
                       choice_in_words(worth.steps.front().workers));
  }
  for (std::size_t k = 1; k < worth.steps.size(); ++k)
    text += fmt::format("  from {} on: {}\n", count_text(worth.steps[k].from_size),
                        choice_in_words(worth.steps[k].workers));
  for (const Worth::Limited& fewer : worth.with_fewer)
    text += fmt::format("With {} processors at most: {}.\n", fewer.most, steps_in_words(fewer.steps));
  if (worth.crossover && !worth.steps.empty())
    text += fmt::format("Where {} begin to be faster: {} (95 %).\n", choice_in_words(worth.steps.back().workers),
                        bounds_in_words(*worth.crossover));
  if (!worth.steps.empty() && worth.smallest == worth.steps.front().from_size)
    text += fmt::format("Smaller sizes than {} were not tried: there the sequential version is taken.\n",
                        count_text(worth.smallest));
  text += fmt::format("At the sizes tried this choice is at most {:.1f} % slower than the better one, by medians.\n",
                      100 * (worth.most_regret - 1));
  for (const CellFigures* cell : worth.faulty)
    text += fmt::format("With {} it is no advice: \"{}\" at {}.\n", choice_in_words(cell->cell->workers),
                        name_of(cell->verdict), point_in_words(study.record->points[cell->cell->point]));
  if (worth.unsure > 0)
    text += fmt::format(
        "At {} of the sizes noise leaves open which is the better one: measure again, with a larger --budget or on an "
        "idle machine.\n",
        worth.unsure);
  if (worth.crossover && worth.crossover->size_to_add > 0)
    text += fmt::format("Size {} would tell more.\n", count_text(worth.crossover->size_to_add));
  text += fmt::format("Measured in \"{}\", {}; it holds on this machine and for this build.\n",
                      printable(study.record->title, 60), study.record->created.substr(0, 10));
  return text;
}

std::string worth_rule(const Analysed& study, const Worth& worth) {
  const Record& record = *study.record;
  const auto listed = [](const std::vector<Worth::Step>& steps) {
    Json list = Json::array();
    for (const Worth::Step& step : steps) list.push_back({{"from_size", step.from_size}, {"workers", step.workers}});
    return list;
  };
  Json with_fewer = Json::array();
  for (const Worth::Limited& fewer : worth.with_fewer)
    with_fewer.push_back({{"most_workers", fewer.most}, {"steps", listed(fewer.steps)}});
  const auto bound = [](double value) { return std::isfinite(value) ? Json(value) : Json(nullptr); };
  const Json json = {{"format", "antcrew-rule"},
                     {"version", 1},
                     {"title", record.title},
                     {"measured", record.created},
                     {"variant", worth.of->cell->variant},
                     {"crew", worth.of->cell->crew},
                     {"processor", record.machine.processor},
                     {"usable_processors", record.machine.usable_processors()},
                     {"compiler", record.build.compiler},
                     {"flags", record.build.flags},
                     {"optimised", record.build.optimised},
                     {"sizes_tried", {worth.smallest, worth.largest}},
                     {"faster_from_low", worth.crossover ? bound(worth.crossover->size.low) : Json(nullptr)},
                     {"faster_from_high", worth.crossover ? bound(worth.crossover->size.high) : Json(nullptr)},
                     {"steps", listed(worth.steps)},
                     {"with_fewer", with_fewer}};
  return json.dump(1) + "\n";
}

}  // namespace antcrew::report_layer
