// What coordinator, block process and stands say to each other, as text.
#pragma once

#include <optional>
#include <string>

#include "antcrew/study/local_host.hpp"
#include "antcrew/study/visit.hpp"

namespace antcrew::internal {

std::string to_message(const VisitOrder& order);
VisitOrder order_from_message(const std::string& message);

// What is not a cell in numbers, then the cell as JSON.
std::string to_message(const Visit& visit);
Visit visit_from_message(const std::string& message);
// The same of what came from a stand.
Visit read_visit(const std::string& message, int round);

// What a block tells when its input is made, and how to read it.
std::string to_message(const MadeBlock& made, const BlockFacts& facts);
std::optional<Fault> made_from_message(const std::string& message, BlockFacts& facts);

}  // namespace antcrew::internal
