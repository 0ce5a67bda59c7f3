#include "antcrew/study/internal/messages.hpp"

#include <fmt/format.h>

#include <cstdlib>
#include <exception>

#include "antcrew/base/printable.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/record/record_json.hpp"

namespace antcrew::internal {

// The first visit of a block, so to speak: its times travel where those of a cold start do.
std::string to_message(const MadeBlock& made, const BlockFacts& facts) {
  Visit told;
  if (made.fault) told.seen.faults.push_back(*made.fault);
  told.seen.cold_s = {facts.make_input_s, facts.reference_s, static_cast<double>(facts.input_bytes), facts.refill_s};
  return to_message(told);
}

std::string to_message(const VisitOrder& order) {
  return fmt::format("{} {} {} {} {} {} {} {}", order.round, order.since_ns, order.keep ? 1 : 0, order.memory ? 1 : 0,
                     order.check ? 1 : 0, order.other_size, order.metered, order.looked_at ? 1 : 0);
}

VisitOrder order_from_message(const std::string& message) {
  VisitOrder order;
  char* at = nullptr;
  order.round = static_cast<int>(std::strtol(message.c_str(), &at, 10));
  order.since_ns = std::strtoll(at, &at, 10);
  order.keep = std::strtol(at, &at, 10) != 0;
  order.memory = std::strtol(at, &at, 10) != 0;
  order.check = std::strtol(at, &at, 10) != 0;
  order.other_size = std::strtoull(at, &at, 10);
  order.metered = static_cast<int>(std::strtol(at, &at, 10));
  order.looked_at = std::strtol(at, &at, 10) != 0;
  return order;
}

std::string to_message(const Visit& visit) {
  return fmt::format("{} {} {} {:.9g} {}\n{}", visit.over ? 1 : 0, visit.replace ? 1 : 0,
                     static_cast<int>(visit.dropped), visit.renewing_s, visit.began_ns, to_json(visit.seen));
}

Visit visit_from_message(const std::string& message) {
  Visit visit;
  char* at = nullptr;
  visit.over = std::strtol(message.c_str(), &at, 10) != 0;
  visit.replace = std::strtol(at, &at, 10) != 0;
  visit.dropped = static_cast<Visit::Dropped>(std::strtol(at, &at, 10));
  visit.renewing_s = std::strtod(at, &at);
  visit.began_ns = std::strtoll(at, &at, 10);
  const std::size_t line = message.find('\n');
  visit.seen = cell_from_json(message.substr(line + 1), "a stand's message");
  return visit;
}

// What a stand sends may be damaged by its user code: that is its fault, and ends nothing but its cell.
Visit read_visit(const std::string& message, int round) {
  try {
    return visit_from_message(message);
  } catch (const std::exception& error) {
    Visit visit;
    visit.seen.faults.push_back(
        {Fault::Kind::crashed, round,
         fmt::format("its process sent what cannot be read ({}): did a child of it come back, or "
                     "did it write to files that were not its own?",
                     printable(error.what(), 120))});
    visit.over = true;
    return visit;
  }
}

std::optional<Fault> made_from_message(const std::string& message, BlockFacts& facts) {
  const Visit told = visit_from_message(message);
  facts.make_input_s = told.seen.cold_s.at(0);
  facts.reference_s = told.seen.cold_s.at(1);
  facts.input_bytes = static_cast<std::uint64_t>(told.seen.cold_s.at(2));
  facts.refill_s = told.seen.cold_s.at(3);
  if (told.seen.faults.empty()) return std::nullopt;
  return told.seen.faults.front();
}

}  // namespace antcrew::internal
