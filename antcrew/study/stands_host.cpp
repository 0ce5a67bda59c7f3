#include "antcrew/study/stands_host.hpp"

#include <fmt/format.h>
#include <signal.h>
#include <sys/mman.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <fstream>

#include "antcrew/base/error.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/limits.hpp"
#include "antcrew/machine/refill.hpp"
#include "antcrew/machine/usage.hpp"
#include "antcrew/study/internal/block_process.hpp"
#include "antcrew/study/internal/messages.hpp"

namespace antcrew::study_layer {
namespace {

constexpr double look_every_s = 0.05;
constexpr double late_look_s = 1.0;           // after the one before
constexpr double limit_of_baseline_s = 3600;  // nothing is known yet to judge it by
constexpr double limit_factor = 30;
constexpr double least_limit_s = 10;
constexpr double off_clock_s = 10;  // a stand looks for work left running for some seconds, and compares answers

double oom_kills() {
  std::ifstream file("/proc/vmstat");
  std::string name;
  double value = 0;
  while (file >> name >> value) {
    if (name == "oom_kill") return value;
  }
  return 0;
}

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
  const internal::BlockOrder order{study_, at_, cells_, limits_, boards_, own_inputs};
  const pid_t parent = ::getpid();
  block_pid_ = ::fork();
  if (block_pid_ < 0) {
    could_not_run("study.fork", "study", std::string("no process for a block (") + std::strerror(errno) + ")",
                  "raise the limit of processes (ulimit -u) or free some memory");
  }
  if (block_pid_ == 0) {
    mine.close();
    if (::getppid() != parent) ::_exit(0);
    internal::serve_block(std::move(theirs), order);
  }
  block_ = std::move(mine);
}

double StandsHost::call_limit_s() const noexcept {
  return limits_.call_s > 0 ? limits_.call_s : std::max(least_limit_s, limit_factor * reference_s_);
}

// Limits count looks, not a clock that may jump while nobody looks.
StandsHost::Waited StandsHost::wait(internal::Channel& channel, StandBoard& board, double limit_s) {
  struct NoProgress {};
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
    waited.message = channel.receive(look_every_s, [&] {
      look();
      if (limits_.stop && limits_.stop()) throw Stopped{};
      const std::uint64_t now = board.progress.load();
      looks = now == progress ? looks + 1 : 0;
      progress = now;
      const double allowed_s = in_user_code(stage_of(board)) ? limit_s : limit_s + off_clock_s;
      if (looks * look_every_s > allowed_s) throw NoProgress{};
    });
    look();
  } catch (const NoProgress&) {
    waited.timed_out = true;
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
  return waited.timed_out ? timed_out(board, limit_s, 0) : how_it_ended(status, board, 0);
}

std::optional<Fault> StandsHost::open(const Point& at, const std::vector<CellSpec>& cells, BlockFacts& facts) {
  close();
  at_ = at;
  cells_ = cells;
  stands_.resize(cells.size());
  map_boards(cells.size() + 1);
  oom_kills_ = oom_kills();
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
  const auto answer = wait(block_, board, std::max(60.0, 20 * call_limit_s())).message;
  if (!answer) {
    could_not_run("study.block", "study '" + study_.title() + "'",
                  "the process that holds the input was ended from outside",
                  "check the system's log for lack of memory, and try again");
  }
  return *answer;
}

bool StandsHost::ensure_stand(std::size_t cell) {
  Stand& stand = stands_[cell];
  if (stand.pid > 0) return true;
  boards_[cell].signal.store(0);
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

Fault StandsHost::timed_out(const StandBoard& board, double limit_s, int round) const {
  Fault fault{Fault::Kind::timed_out, round,
              fmt::format("no end after {} {}; the limit is {} (--call-limit)", duration_text(limit_s),
                          name_of(stage_of(board)),
                          limits_.call_s > 0 ? "as asked" : "30 times the baseline's time, at least 10 s")};
  fault.evidence = {{"limit_s", limit_s}};
  return fault;
}

Fault StandsHost::how_it_ended(int status, const StandBoard& board, int round) const {
  const char* when = name_of(stage_of(board));
  if (!WIFSIGNALED(status)) {
    return {Fault::Kind::crashed,
            round,
            fmt::format("its process ended itself with exit code {} {}", WEXITSTATUS(status), when),
            {{"exit_code", WEXITSTATUS(status)}}};
  }
  const int number = WTERMSIG(status);
  Fault fault{Fault::Kind::crashed, round, {}, {{"signal", number}}};
  if (number == SIGKILL && oom_kills() > oom_kills_) {
    fault.kind = Fault::Kind::out_of_memory;
    fault.text = fmt::format("killed by the system for lack of memory {}", when);
  } else if (number == SIGSEGV && board.signal.load() == 0) {
    const std::uint64_t stack = read_limits().stack_bytes;
    fault.text = fmt::format(
        "stack overflow (signal 11) {}; stacks here are {}: raise `ulimit -s`, for workers of a crew "
        "CrewOptions::stack_bytes, or recurse less deeply",
        when, bytes_text(stack));
    fault.evidence["stack_limit_bytes"] = static_cast<double>(stack);
  } else if (number == SIGKILL) {
    fault.text = fmt::format("killed from outside (signal 9) {}", when);
  } else {
    fault.text = fmt::format("signal {} ({}) {}", number, ::strsignal(number), when);
    if (number == SIGSEGV || number == SIGBUS) fault.text += fmt::format(", address {:#x}", board.address.load());
  }
  return fault;
}

void StandsHost::ask_stand(Stand& stand, const VisitOrder& order) {
  if (stand.stopped) ::kill(-stand.pid, SIGCONT);
  stand.channel.send(internal::to_message(order));
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
  ask_stand(stand, order);
  const Waited waited = wait(stand.channel, boards_[cell], call_limit_s());
  const double others_s = cpu_s_of(block_pid_) + static_cast<double>(process_cpu_ns()) * 1e-9 - others_before_s;
  if (!waited.message) {
    const int status = end_stand(stand);
    visit.seen.faults.push_back(waited.timed_out ? timed_out(boards_[cell], call_limit_s(), order.round)
                                                 : how_it_ended(status, boards_[cell], order.round));
    visit.over = true;
    return visit;
  }
  const bool finished = !order.keep;
  if (finished) {  // the block ends it while its message is read here
    block_.send("finish " + std::to_string(stand.pid));
    stand = Stand();
  }
  visit = internal::visit_from_message(*waited.message);
  visit.neighbours_cpu_s = others_s;
  if (fresh) visit.renewing_s += forking_s;
  if (waited.paused && visit.dropped == Visit::Dropped::no) {
    visit.dropped = Visit::Dropped::paused;
    visit.seen.trials.clear();
  }
  if (finished) return visit;
  if (visit.replace || visit.over) {
    end_stand(stand);
  } else {
    stand.stopped = ::kill(-stand.pid, SIGSTOP) == 0;
  }
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
