#include "antcrew/study/stands_host.hpp"

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

#include "antcrew/base/error.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/limits.hpp"
#include "antcrew/machine/refill.hpp"
#include "antcrew/machine/usage.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/study/internal/block_process.hpp"
#include "antcrew/study/internal/exit_reason.hpp"
#include "antcrew/study/internal/messages.hpp"
#include "antcrew/study/visit_faults.hpp"

namespace antcrew::study_layer {
namespace {

constexpr double look_every_s = 0.05;
constexpr double late_look_s = 1.0;           // after the one before
constexpr double limit_of_baseline_s = 3600;  // nothing is known yet to judge it by
constexpr double off_clock_s = 10;  // a stand looks for work left running for some seconds, and compares answers

bool in_user_code(Stage stage) {
  return stage == Stage::calling || stage == Stage::making_input || stage == Stage::baseline;
}

Stage stage_of(const StandBoard& board) {
  return static_cast<Stage>(board.stage.load(std::memory_order_relaxed));
}

}  // namespace

StandsHost::StandsHost(const StudyBase& study, HostLimits limits) : study_(study), limits_(std::move(limits)) {
  read_speed();  // once, before anything is forked
}

StandsHost::~StandsHost() {
  close();
}

void StandsHost::map_boards(std::size_t count) {
  void* memory = ::mmap(nullptr, count * sizeof(StandBoard), PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
  if (memory == MAP_FAILED) could_not_run("study.memory", "study", "no memory for the run itself", "free some memory");
  boards_ = static_cast<StandBoard*>(memory);
  board_count_ = count;
}

void StandsHost::unmap_boards() noexcept {
  if (boards_ != nullptr) ::munmap(static_cast<void*>(boards_), board_count_ * sizeof(StandBoard));
  boards_ = nullptr;
}

void StandsHost::start_block(bool own_inputs) {
  auto [mine, theirs] = internal::Channel::pair();
  const internal::BlockOrder order{
      study_, at_, cells_, limits_, boards_, own_inputs, limits_.let_print ? -1 : prints_.descriptor()};
  const pid_t parent = ::getpid();
  std::fflush(nullptr);  // or the block would print it again
  block_pid_ = ::fork();
  if (block_pid_ < 0) {
    could_not_run("study.fork", "study", std::string("no process for a block (") + std::strerror(errno) + ")",
                  "raise the limit of processes (ulimit -u) or free some memory");
  }
  if (block_pid_ == 0) {
    ::prctl(PR_SET_PDEATHSIG, SIGKILL);
    if (::getppid() != parent) ::_exit(0);
    mine.close();
    internal::serve_block(std::move(theirs), order);
  }
  block_ = std::move(mine);
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

double StandsHost::call_limit_s() const noexcept {
  return limits_.of_call(reference_s_);
}

// Limits count looks, not a clock that may jump while nobody looks.
// One whose process has ended is not waited for, though a child of it may keep the channel open.
StandsHost::Waited StandsHost::wait(internal::Channel& channel, StandBoard& board, double limit_s, pid_t process,
                                    internal::Sampler* sampler) {
  struct NoProgress {};
  struct Ended {};
  bool ended = false;
  std::uint64_t progress = board.progress.load();
  int looks = 0;
  std::int64_t looked_ns = now_ns();
  Waited waited;
  const auto look = [&] {
    const std::int64_t now = now_ns();
    waited.paused = waited.paused || static_cast<double>(now - looked_ns) * 1e-9 > late_look_s;
    looked_ns = now;
  };
  try {
    const auto idle = [&] {
      look();
      prints_.look();
      if (limits_.stop && limits_.stop()) throw Stopped{};
      if (ended) throw Ended{};  // and there was time enough for a last message
      ended = process > 0 && has_ended(process);
      const std::uint64_t now = board.progress.load();
      looks = now == progress ? looks + 1 : 0;
      progress = now;
      const double allowed_s = in_user_code(stage_of(board)) ? limit_s : limit_s + off_clock_s;
      if (looks * look_every_s > allowed_s) throw NoProgress{};
    };
    if (sampler == nullptr) {
      waited.message = channel.receive(look_every_s, idle);
    } else {
      waited.message = channel.receive_looking([&] {
        if (static_cast<double>(now_ns() - looked_ns) * 1e-9 >= look_every_s) idle();
        return sampler->look();
      });
    }
    look();
  } catch (const NoProgress&) {
    waited.timed_out = true;
  } catch (const Ended&) {
  }
  return waited;
}

std::optional<Fault> StandsHost::wait_for_input(BlockFacts& facts) {
  StandBoard& board = boards_[cells_.size()];
  const double limit_s = limits_.call_s > 0 ? limits_.call_s : limit_of_baseline_s;
  const Waited waited = wait(block_, board, limit_s);
  if (waited.message) return internal::made_from_message(*waited.message, facts);
  if (waited.timed_out) {
    ::kill(-block_pid_, SIGKILL);
    ::kill(block_pid_, SIGKILL);
  }
  int status = 0;
  while (::waitpid(block_pid_, &status, 0) < 0 && errno == EINTR) {
  }
  block_pid_ = 0;
  return waited.timed_out
             ? internal::timed_out(board, limit_s,
                                   limits_.call_s > 0 ? "as asked" : "an hour, as nothing is known of it yet", 0)
             : internal::exit_reason({status, oom_kills_, prints_.last_line()}, board, 0);
}

std::optional<Fault> StandsHost::open(const Point& at, const std::vector<CellSpec>& cells, BlockFacts& facts) {
  close();
  at_ = at;
  cells_ = cells;
  stands_.resize(cells.size());
  map_boards(cells.size() + 1);
  oom_kills_ = internal::oom_kills();
  prints_.begin();
  start_block(false);
  auto fault = wait_for_input(facts);
  reference_s_ = facts.reference_s;
  if (fault && fault->kind == Fault::Kind::threads_left) {
    ::kill(-block_pid_, SIGKILL);
    ::kill(block_pid_, SIGKILL);
    ::waitpid(block_pid_, nullptr, 0);
    start_block(true);
    facts.own_inputs = true;
  }
  return fault;
}

std::string StandsHost::ask_block(const std::string& request) {
  block_.send(request);
  StandBoard& board = boards_[cells_.size()];
  const auto answer = wait(block_, board, std::max(60.0, 20 * call_limit_s()), block_pid_).message;
  if (!answer) lose_block();
  return *answer;
}

// Its stands end with it.
void StandsHost::lose_block() {
  int status = 0;
  ::kill(-block_pid_, SIGKILL);
  ::kill(block_pid_, SIGKILL);
  while (::waitpid(block_pid_, &status, 0) < 0 && errno == EINTR) {
  }
  block_pid_ = 0;
  Fault fault = internal::exit_reason({status, oom_kills_, prints_.last_line()}, boards_[cells_.size()], 0);
  fault.text = "the process that holds the input is gone, and what was measured at this point with it: " + fault.text;
  close();
  throw BlockLost{std::move(fault)};
}

bool StandsHost::ensure_stand(std::size_t cell) {
  Stand& stand = stands_[cell];
  if (stand.pid > 0) return true;
  boards_[cell].signal.store(0);
  boards_[cell].terminated.store(0);
  const std::string answer = ask_block("stand " + std::to_string(cell));
  stand.pid = std::atoi(answer.c_str());
  stand.channel = block_.take_passed();
  return stand.pid > 0;
}

int StandsHost::end_stand(Stand& stand) {
  const int status = std::atoi(ask_block("end " + std::to_string(stand.pid)).c_str());
  stand = Stand();
  return status;
}

void StandsHost::ask_stand(Stand& stand, const VisitOrder& order) {
  if (stand.stopped) ::kill(-stand.pid, SIGCONT);
  stand.channel.send(internal::to_message(order));
}

Fault StandsHost::why_no_answer(std::size_t cell, const Waited& waited, int round) {
  // Its files are closed before it counts as ended.
  bool ended = waited.timed_out || has_ended(stands_[cell].pid);
  for (int looks = 0; looks < 100 && !ended; ++looks) {
    ::usleep(1000);
    ended = has_ended(stands_[cell].pid);
  }
  const int status = end_stand(stands_[cell]);
  if (!ended) {
    return {Fault::Kind::crashed, round,
            fmt::format("its process closed its connection to the run {}: a body may close only what it has opened",
                        name_of(stage_of(boards_[cell])))};
  }
  return waited.timed_out
             ? internal::timed_out(boards_[cell], call_limit_s(), limits_.of_call_in_words(reference_s_), round)
             : internal::exit_reason({status, oom_kills_, prints_.last_line()}, boards_[cell], round);
}

void StandsHost::keep_prints(Visit& visit, bool fresh) const {
  const std::uint64_t bytes = prints_.bytes();
  if (bytes == 0) return;
  visit.seen.printed = prints_.first_lines();
  for (Trial& trial : visit.seen.trials) {
    const std::size_t calls = trial.calls + static_cast<std::size_t>(trial.settling_calls) + (fresh && !trial.first);
    trial.printed_bytes = static_cast<double>(bytes) / static_cast<double>(calls);
  }
}

void StandsHost::tell_returned_children(std::size_t cell, int round, Visit& visit) {
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

Visit StandsHost::visit(std::size_t cell, const VisitOrder& order) {
  Visit visit;
  const std::int64_t began = now_ns();
  const bool fresh = stands_[cell].pid == 0;
  if (!ensure_stand(cell)) {
    visit.seen.faults.push_back(
        {Fault::Kind::out_of_memory, order.round, "the system refused a process for this cell"});
    visit.over = true;
    return visit;
  }
  Stand& stand = stands_[cell];
  const double forking_s = static_cast<double>(now_ns() - began) * 1e-9;
  const double others_before_s = cpu_s_of(block_pid_) + static_cast<double>(process_cpu_ns()) * 1e-9;
  prints_.begin();
  ask_stand(stand, order);
  const Waited waited = wait(stand.channel, boards_[cell], call_limit_s(), stand.pid);
  const double others_s = cpu_s_of(block_pid_) + static_cast<double>(process_cpu_ns()) * 1e-9 - others_before_s;
  if (!waited.message) {
    visit.seen.faults.push_back(why_no_answer(cell, waited, order.round));
    visit.over = true;
    tell_returned_children(cell, order.round, visit);
    return visit;
  }
  const bool finished = !order.keep;
  if (finished) {  // the block ends it while its message is read here
    block_.send("finish " + std::to_string(stand.pid));
    stand = Stand();
  }
  visit = internal::read_visit(*waited.message, order.round);
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
    end_stand(stand);
  } else {
    stand.stopped = ::kill(-stand.pid, SIGSTOP) == 0;
  }
  return visit;
}

Visit StandsHost::check(std::size_t cell, std::size_t other_size) {
  Visit visit;
  if (!ensure_stand(cell)) {
    visit.seen.check = CheckFacts{0, false, "the system refused a process for it"};
    return visit;
  }
  Stand& stand = stands_[cell];
  prints_.begin();
  VisitOrder order;
  order.check = true;
  order.other_size = other_size;
  ask_stand(stand, order);
  const Waited waited = wait(stand.channel, boards_[cell], call_limit_s(), stand.pid);
  if (!waited.message) {
    visit.seen.check = CheckFacts{0, false, why_no_answer(cell, waited, 0).text};
    return visit;
  }
  end_stand(stand);
  Visit told = internal::read_visit(*waited.message, 0);
  visit.seen.check = std::move(told.seen.check);
  visit.seen.faults = std::move(told.seen.faults);
  boards_[cell].returned_children.store(0);
  return visit;
}

// All at once: the block looks for what they left behind a single time.
void StandsHost::renew() {
  std::string pids;
  for (Stand& stand : stands_) {
    if (stand.pid == 0) continue;
    pids += " " + std::to_string(stand.pid);
    stand = Stand();
  }
  if (!pids.empty()) ask_block("end" + pids);
}

std::optional<double> StandsHost::crowd(int copies) {
  const std::string answer = ask_block("crowd " + std::to_string(copies));
  if (answer == "none") return std::nullopt;
  return std::strtod(answer.c_str(), nullptr);
}

// The block ends what hangs below it once its channel is closed; if it does not, it is ended too.
void StandsHost::close() {
  for (Stand& stand : stands_) {
    if (stand.pid > 0) ::kill(-stand.pid, SIGKILL);
  }
  stands_.clear();
  block_.close();
  if (block_pid_ > 0) {
    int waited = 0;
    for (int looks = 0; looks < 2000 && waited == 0; ++looks) {
      waited = ::waitpid(block_pid_, nullptr, WNOHANG);
      if (waited == 0) ::usleep(1000);
    }
    if (waited == 0) {
      ::kill(-block_pid_, SIGKILL);
      ::kill(block_pid_, SIGKILL);
      ::waitpid(block_pid_, nullptr, 0);
    }
  }
  block_pid_ = 0;
  unmap_boards();
}

}  // namespace antcrew::study_layer
