// What the processes of a study say to each other: the run asks the input process, which starts, ends and reaps cell
// processes, and asks each cell process for visits. All messages there are, as plain structs; packed.hpp is their form.
#pragma once

#include <sys/types.h>

#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "antcrew/record/record.hpp"
#include "antcrew/study/layer.hpp"
#include "antcrew/study/visit.hpp"

namespace antcrew::internal {

// To the input process.
struct StartCell {
  static constexpr const char* called = "start a cell process";
  std::size_t cell = 0;
  static void each(auto&& f, auto& m) { f("cell", m.cell); }
};
struct EndCells {
  static constexpr const char* called = "end cell processes";  // and everything below them
  std::vector<pid_t> processes;
  bool tell = true;  // answer once they are gone
  static void each(auto&& f, auto& m) { f("processes", m.processes), f("tell", m.tell); }
};
struct TimeCrowd {
  static constexpr const char* called = "time a crowd";  // of copies of the baseline, all at once
  int copies = 0;
  static void each(auto&& f, auto& m) { f("copies", m.copies); }
};
using InputRequest = std::variant<StartCell, EndCells, TimeCrowd>;

// From it.
struct InputMade {
  static constexpr const char* called = "input made";  // unasked, before all else
  BlockFacts facts;
  std::optional<Fault> fault;
  static void each(auto&& f, auto& m) { f("facts", m.facts), f("fault", m.fault); }
};
struct CellStarted {
  static constexpr const char* called = "cell process started";  // its channel comes beside
  pid_t process = 0;                                             // 0 = the system refused one
  static void each(auto&& f, auto& m) { f("process", m.process); }
};
struct CellsEnded {
  static constexpr const char* called = "cell processes ended";
  int status = 0;  // of the last, as waitpid() tells it
  static void each(auto&& f, auto& m) { f("status", m.status); }
};
struct CrowdTimed {
  static constexpr const char* called = "crowd timed";
  double time_s = 0;  // of the median copy; 0 = could not be tried
  static void each(auto&& f, auto& m) { f("time_s", m.time_s); }
};
struct NotUnderstood {
  static constexpr const char* called = "not understood";
  std::string why;
  static void each(auto&& f, auto& m) { f("why", m.why); }
};
using InputReply = std::variant<InputMade, CellStarted, CellsEnded, CrowdTimed, NotUnderstood>;

// To and from a cell process.
using CellRequest = std::variant<VisitOrder>;
using CellReply = std::variant<Visit, NotUnderstood>;

std::string to_message(const InputRequest& request);
std::string to_message(const InputReply& reply);
std::string to_message(const CellRequest& request);
std::string to_message(const CellReply& reply);
// Throw BadMessage.
InputRequest input_request_from(const std::string& message);
InputReply input_reply_from(const std::string& message);
VisitOrder visit_order_from(const std::string& message);

// What comes from a cell process may be damaged by its user code: that is its fault, and ends nothing but its cell.
Visit visit_from(const std::string& message, int round);
Fault not_understood(const std::string& trouble, int round);

}  // namespace antcrew::internal
