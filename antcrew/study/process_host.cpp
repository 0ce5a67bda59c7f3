#include "antcrew/study/process_host.hpp"

#include <fmt/format.h>
#include <signal.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <fstream>

#include "antcrew/base/bad_message.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/limits.hpp"
#include "antcrew/machine/refill.hpp"
#include "antcrew/machine/usage.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/study/internal/exit_reason.hpp"
#include "antcrew/study/internal/fresh_start.hpp"
#include "antcrew/study/internal/input_process.hpp"
#include "antcrew/study/internal/protocol.hpp"
#include "antcrew/study/visit_faults.hpp"

namespace antcrew::study_layer {
namespace {

constexpr double look_every_s = 0.05;
constexpr double limit_of_baseline_s = 3600;  // nothing is known yet to judge it by
constexpr double still_ending_s = 10;         // once its channel is closed
constexpr double off_clock_s = 10;  // a cell process looks for work left running for some seconds, and compares answers

bool in_user_code(Stage stage) {
  return stage == Stage::calling || stage == Stage::making_input || stage == Stage::baseline;
}

Stage stage_of(const ProcessBoard& board) {
  return static_cast<Stage>(board.stage.load(std::memory_order_relaxed));
}

}  // namespace

ProcessHost::ProcessHost(const StudyBase& study, HostLimits limits) : study_(study), limits_(std::move(limits)) {
  read_speed();  // once, before anything is forked
}

ProcessHost::~ProcessHost() {
  close();
}

void ProcessHost::map_boards(std::size_t count) {
  const std::size_t bytes = count * sizeof(ProcessBoard);
  // A file, so that a new start of the program can map them; where the system has none, nothing is started anew.
  boards_file_ = ::memfd_create("antcrew boards", MFD_CLOEXEC);
  if (boards_file_ >= 0 && ::ftruncate(boards_file_, static_cast<off_t>(bytes)) != 0)
    ::close(std::exchange(boards_file_, -1));
  const int kind = boards_file_ >= 0 ? MAP_SHARED : MAP_SHARED | MAP_ANONYMOUS;
  void* memory = ::mmap(nullptr, bytes, PROT_READ | PROT_WRITE, kind, boards_file_, 0);
  if (memory == MAP_FAILED) could_not_run("study.memory", "study", "no memory for the run itself", "free some memory");
  boards_ = static_cast<ProcessBoard*>(memory);
  board_count_ = count;
}

void ProcessHost::unmap_boards() noexcept {
  if (boards_ != nullptr) ::munmap(static_cast<void*>(boards_), board_count_ * sizeof(ProcessBoard));
  boards_ = nullptr;
  if (boards_file_ >= 0) ::close(std::exchange(boards_file_, -1));
}

void ProcessHost::start_input_process(bool own_inputs, bool afresh) {
  const internal::InputOrder order{
      study_, at_, cells_, limits_, boards_, own_inputs, limits_.let_print ? -1 : prints_.descriptor()};
  const pid_t parent = ::getpid();
  input_process_ = internal::ServerProcess("study", "a block", [&](internal::Channel run) {
    ::prctl(PR_SET_PDEATHSIG, SIGKILL);
    if (::getppid() != parent) ::_exit(0);
    if (afresh) internal::become_fresh_start(std::move(run), order, boards_file_);
    internal::serve_input(std::move(run), order);
  });
  if (afresh) input_process_.send(internal::block_order(order));
}

// Why the program does not serve blocks when it is started anew, in words; empty = it does.
std::string ProcessHost::wait_for_fresh_start() {
  constexpr double longest_start_s = 60;
  const Waited waited = wait(input_process_, boards_[cells_.size()], longest_start_s);
  try {
    if (waited.message) return internal::fresh_started_from(*waited.message).trouble;
  } catch (const std::exception& error) {
    return std::string("the program was not understood: ") + error.what();
  }
  const std::string last = prints_.last_line();
  return fmt::format("the program {}{}",
                     waited.timed_out() ? "did not come to study_main() in a minute" : "ended before study_main()",
                     last.empty() ? "" : ": " + last);
}

double HostLimits::of_call(double reference_s) const noexcept {
  if (call_s > 0) return call_s;
  constexpr double least_s = 3;
  const double thirty = 30 * reference_s;
  const double allowed = budget_s > 0 ? std::min(thirty, budget_s / 20) : thirty;
  return std::max({least_s, 3 * reference_s, allowed});
}

std::string HostLimits::of_call_in_words(double reference_s) const {
  if (call_s > 0) return "as asked";
  const double limit_s = of_call(reference_s);
  if (limit_s >= 30 * reference_s) return "30 times the baseline's time, at least 3 s";
  return limit_s > std::max(3.0, 3 * reference_s) ? "a twentieth of the budget"
                                                  : "3 times the baseline's time, at least 3 s";
}

double ProcessHost::call_limit_s() const noexcept {
  return limits_.of_call(reference_s_);
}

ProcessHost::Waited ProcessHost::wait(internal::ServerProcess& process, ProcessBoard& board, double limit_s,
                                      internal::Sampler* sampler) {
  std::uint64_t progress = board.progress.load();
  int looks = 0;
  internal::ServerProcess::Waiting waiting;
  waiting.stop = limits_.stop;
  waiting.over = [&] {
    prints_.look();
    const std::uint64_t now = board.progress.load();
    looks = now == progress ? looks + 1 : 0;
    progress = now;
    const double allowed_s = in_user_code(stage_of(board)) ? limit_s : limit_s + off_clock_s;
    return looks * look_every_s > allowed_s;
  };
  if (sampler != nullptr) waiting.sample = [sampler] { return sampler->look(); };
  return {process.hear(waiting)};
}

std::optional<Fault> ProcessHost::wait_for_input(BlockFacts& facts) {
  ProcessBoard& board = boards_[cells_.size()];
  const double limit_s = limits_.call_s > 0 ? limits_.call_s : limit_of_baseline_s;
  const Waited waited = wait(input_process_, board, limit_s);
  if (!waited.message) {
    const int status = input_process_.end(waited.timed_out() ? 0 : still_ending_s);
    return waited.timed_out()
               ? internal::timed_out(board, limit_s,
                                     limits_.call_s > 0 ? "as asked" : "an hour, as nothing is known of it yet", 0)
               : internal::exit_reason({status, oom_kills_, prints_.last_line()}, board, 0);
  }
  try {
    auto made = std::get<internal::InputMade>(internal::input_reply_from(*waited.message));
    facts.make_input_s = made.facts.make_input_s;
    facts.reference_s = made.facts.reference_s;
    facts.input_bytes = made.facts.input_bytes;
    facts.refill_s = made.facts.refill_s;
    return std::move(made.fault);
  } catch (const std::exception& error) {
    input_process_.end(0);
    return Fault{Fault::Kind::crashed, 0,
                 std::string("the process that holds the input was not understood: ") + error.what()};
  }
}

std::optional<Fault> ProcessHost::open(const Point& at, const std::vector<CellSpec>& cells, BlockFacts& facts) {
  close();
  at_ = at;
  cells_ = cells;
  processes_.clear();
  processes_.resize(cells.size());
  map_boards(cells.size() + 1);
  oom_kills_ = internal::oom_kills();
  prints_.begin();
  if (facts.afresh && not_afresh_.empty()) not_afresh_ = internal::why_not_afresh(study_);
  if (facts.afresh && not_afresh_.empty() && boards_file_ < 0) not_afresh_ = "the system refused a file in memory";
  facts.afresh = facts.afresh && not_afresh_.empty();
  facts.not_afresh = not_afresh_;
  std::optional<Fault> fault;
  if (facts.afresh) fault = open_afresh(facts);
  if (!facts.afresh) {
    start_input_process(false, false);
    fault = wait_for_input(facts);
  }
  reference_s_ = facts.reference_s;
  if (fault && fault->kind == Fault::Kind::threads_left) {
    input_process_.end(0);
    start_input_process(true, facts.afresh);
    if (facts.afresh) wait_for_fresh_start();
    facts.own_inputs = true;
  }
  return fault;
}

// What the program cannot do when it is started anew says nothing about its baseline: the block is forked then.
std::optional<Fault> ProcessHost::open_afresh(BlockFacts& facts) {
  start_input_process(false, true);
  std::string trouble = wait_for_fresh_start();
  std::optional<Fault> fault;
  if (trouble.empty()) fault = wait_for_input(facts);
  if (fault && fault->kind != Fault::Kind::threads_left) trouble = fault->text;
  if (trouble.empty()) return fault;
  input_process_.end(0);
  fork_from_now_on(trouble);
  facts.afresh = false;
  facts.not_afresh = not_afresh_;
  return std::nullopt;
}

template <class Reply>
Reply ProcessHost::ask_input_process(const internal::InputRequest& request) {
  try {
    input_process_.send(internal::to_message(request));
    const auto answer = wait(input_process_, boards_[cells_.size()], std::max(60.0, 20 * call_limit_s())).message;
    if (!answer) lose_block();
    internal::InputReply reply = internal::input_reply_from(*answer);
    if (auto* wanted = std::get_if<Reply>(&reply)) return std::move(*wanted);
    const auto* refused = std::get_if<internal::NotUnderstood>(&reply);
    lose_block(refused != nullptr ? refused->why : "it gave the answer to another question");
  } catch (const internal::BadMessage& error) {
    lose_block(error.what());
  }
}

// Its cell processes end with it.
void ProcessHost::lose_block(const std::string& trouble) {
  const int status = input_process_.end(0);
  Fault fault = trouble.empty()
                    ? internal::exit_reason({status, oom_kills_, prints_.last_line()}, boards_[cells_.size()], 0)
                    : Fault{Fault::Kind::crashed, 0, trouble};
  fault.text = "the process that holds the input is gone, and what was measured at this point with it: " + fault.text;
  close();
  throw BlockLost{std::move(fault)};
}

bool ProcessHost::ensure_process(std::size_t cell) {
  if (processes_[cell].running()) return true;
  boards_[cell].signal.store(0);
  boards_[cell].terminated.store(0);
  const pid_t pid = ask_input_process<internal::CellStarted>(internal::StartCell{cell}).process;
  processes_[cell] = internal::ServerProcess(pid, input_process_.take_passed());
  return pid > 0;
}

int ProcessHost::end_process(std::size_t cell) {
  const pid_t pid = std::exchange(processes_[cell], {}).pid();
  return ask_input_process<internal::CellsEnded>(internal::EndCells{{pid}}).status;
}

ProcessHost::Waited ProcessHost::order_visit(std::size_t cell, const VisitOrder& order, internal::Sampler* sampler) {
  prints_.begin();
  processes_[cell].go_on();
  processes_[cell].send(internal::to_message(internal::CellRequest(order)));
  return wait(processes_[cell], boards_[cell], call_limit_s(), sampler);
}

Fault ProcessHost::why_no_answer(std::size_t cell, const Waited& waited, int round) {
  // Its files are closed before it counts as ended.
  const pid_t pid = processes_[cell].pid();
  bool ended = waited.timed_out() || has_ended(pid);
  for (int looks = 0; looks < 100 && !ended; ++looks) {
    ::usleep(1000);
    ended = has_ended(pid);
  }
  const int status = end_process(cell);
  if (!waited.trouble.empty()) return internal::not_understood(waited.trouble, round);
  if (!ended) {
    return {Fault::Kind::crashed, round,
            fmt::format("its process closed its connection to the run {}: a body may close only what it has opened",
                        name_of(stage_of(boards_[cell])))};
  }
  return waited.timed_out()
             ? internal::timed_out(boards_[cell], call_limit_s(), limits_.of_call_in_words(reference_s_), round)
             : internal::exit_reason({status, oom_kills_, prints_.last_line()}, boards_[cell], round);
}

void ProcessHost::keep_prints(Visit& visit, bool fresh) const {
  const std::uint64_t bytes = prints_.bytes();
  if (bytes == 0) return;
  visit.seen.printed = prints_.first_lines();
  for (Trial& trial : visit.seen.trials) {
    const std::size_t calls = trial.calls + static_cast<std::size_t>(trial.settling_calls) + (fresh && !trial.first);
    trial.printed_bytes = static_cast<double>(bytes) / static_cast<double>(calls);
  }
}

void ProcessHost::tell_returned_children(std::size_t cell, int round, Visit& visit) {
  const int children = boards_[cell].returned_children.exchange(0);
  if (children == 0) return;
  visit.seen.faults.push_back(
      {Fault::Kind::crashed,
       round,
       fmt::format("{} that the body forked came back from it, into the code that called it, "
                   "and {} ended there: let a child end by _exit()",
                   children == 1 ? "a process" : fmt::format("{} processes", children), children == 1 ? "was" : "were"),
       {{"returned_children", children}}});
  visit.over = true;
}

Visit ProcessHost::visit(std::size_t cell, const VisitOrder& order) {
  Visit visit;
  const std::int64_t began = now_ns();
  const bool fresh = !processes_[cell].running();
  if (!ensure_process(cell)) {
    visit.seen.faults.push_back(
        {Fault::Kind::out_of_memory, order.round, "the system refused a process for this cell"});
    visit.over = true;
    return visit;
  }
  const double forking_s = static_cast<double>(now_ns() - began) * 1e-9;
  const auto neighbours_s = [&] {
    return cpu_s_of(input_process_.pid()) + static_cast<double>(process_cpu_ns()) * 1e-9;
  };
  const double others_before_s = neighbours_s();
  const Waited waited = order_visit(cell, order);
  const double others_s = neighbours_s() - others_before_s;
  if (!waited.message) {
    visit.seen.faults.push_back(why_no_answer(cell, waited, order.round));
    visit.over = true;
    tell_returned_children(cell, order.round, visit);
    return visit;
  }
  const bool finished = !order.keep;
  if (finished) {  // the input process ends it while its message is read here
    const pid_t pid = std::exchange(processes_[cell], {}).pid();
    input_process_.send(internal::to_message(internal::InputRequest(internal::EndCells{{pid}, false})));
  }
  visit = internal::visit_from(*waited.message, order.round);
  visit.neighbours_cpu_s = others_s;
  if (fresh) visit.renewing_s += forking_s;
  if (waited.paused && visit.dropped == Visit::Dropped::no) {
    visit.dropped = Visit::Dropped::paused;
    visit.seen.trials.clear();
  }
  keep_prints(visit, fresh);
  tell_returned_children(cell, order.round, visit);
  if (finished) return visit;
  if (visit.replace || visit.over) {
    end_process(cell);
  } else {
    processes_[cell].pause();
  }
  return visit;
}

Visit ProcessHost::check(std::size_t cell, std::size_t other_size) {
  Visit visit;
  if (!ensure_process(cell)) {
    visit.seen.check = CheckFacts{0, false, "the system refused a process for it"};
    return visit;
  }
  VisitOrder order;
  order.check = true;
  order.other_size = other_size;
  const Waited waited = order_visit(cell, order);
  if (!waited.message) {
    visit.seen.check = CheckFacts{0, false, why_no_answer(cell, waited, 0).text};
    return visit;
  }
  end_process(cell);
  Visit told = internal::visit_from(*waited.message, 0);
  visit.seen.check = std::move(told.seen.check);
  visit.seen.faults = std::move(told.seen.faults);
  boards_[cell].returned_children.store(0);
  return visit;
}

// All at once: the input process looks for what they left behind a single time.
void ProcessHost::renew() {
  internal::EndCells ending;
  for (internal::ServerProcess& process : processes_) {
    if (process.running()) ending.processes.push_back(std::exchange(process, {}).pid());
  }
  if (!ending.processes.empty()) ask_input_process<internal::CellsEnded>(std::move(ending));
}

std::optional<double> ProcessHost::crowd(int copies) {
  const double time_s = ask_input_process<internal::CrowdTimed>(internal::TimeCrowd{copies}).time_s;
  return time_s > 0 ? std::optional(time_s) : std::nullopt;
}

// The input process ends what hangs below it once its channel is closed; if it does not, it is ended too.
void ProcessHost::close() {
  for (const internal::ServerProcess& process : processes_) {
    if (process.running()) ::kill(-process.pid(), SIGKILL);
  }
  processes_.clear();
  input_process_.end(2);
  unmap_boards();
}

}  // namespace antcrew::study_layer
