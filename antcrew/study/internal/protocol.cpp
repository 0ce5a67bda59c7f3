#include "antcrew/study/internal/protocol.hpp"

#include <fmt/format.h>

#include <type_traits>

#include "antcrew/record/packed.hpp"

namespace antcrew::internal {

template <>
inline constexpr const char* message_name<VisitOrder> = "visit a cell";
template <>
inline constexpr const char* message_name<Visit> = "visited";

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, VisitOrder>
void fields(F&& f, R& r) {
  f("round", r.round);
  f("since_ns", r.since_ns);
  f("keep", r.keep);
  f("memory", r.memory);
  f("check", r.check);
  f("other_size", r.other_size);
  f("metered", r.metered);
  f("looked_at", r.looked_at);
  f("one_worker", r.one_worker);
  f("may_be_without", r.may_be_without);
}
template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, Visit>
void fields(F&& f, R& r) {
  f("seen", r.seen);
  f("over", r.over);
  f("replace", r.replace);
  f("renewing_s", r.renewing_s);
  f("began_ns", r.began_ns);
  f("dropped", r.dropped);
}

std::string to_message(const InputRequest& request) {
  return pack(request);
}
std::string to_message(const InputReply& reply) {
  return pack(reply);
}
std::string to_message(const CellRequest& request) {
  return pack(request);
}
std::string to_message(const CellReply& reply) {
  return pack(reply);
}
InputRequest input_request_from(const std::string& message) {
  return unpack<InputRequest>(message);
}
InputReply input_reply_from(const std::string& message) {
  return unpack<InputReply>(message, true);
}
VisitOrder visit_order_from(const std::string& message) {
  return std::get<VisitOrder>(unpack<CellRequest>(message));
}

Fault not_understood(const std::string& trouble, int round) {
  return {
      Fault::Kind::crashed, round,
      fmt::format("its process and the run did not understand each other ({}): did a child of it come back, or did it "
                  "write to files that were not its own?",
                  printable(trouble, 120))};
}

Visit visit_from(const std::string& message, int round) {
  std::string trouble;
  try {
    CellReply reply = unpack<CellReply>(message, true);
    if (Visit* visit = std::get_if<Visit>(&reply)) return std::move(*visit);
    trouble = std::get<NotUnderstood>(reply).why;
  } catch (const BadMessage& error) {
    trouble = error.what();
  }
  Visit visit;
  visit.seen.faults.push_back(not_understood(trouble, round));
  visit.over = true;
  return visit;
}

}  // namespace antcrew::internal
