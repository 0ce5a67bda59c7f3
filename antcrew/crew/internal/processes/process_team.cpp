#include "antcrew/crew/internal/processes/process_team.hpp"

#include <poll.h>
#include <signal.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <utility>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/internal/processes/passing.hpp"
#include "antcrew/crew/worker.hpp"
#include "antcrew/log/phase.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/processors.hpp"
#include "antcrew/machine/topology.hpp"
#include "antcrew/machine/usage.hpp"

namespace antcrew::internal {
namespace {

// The team that this process is a worker of.
constinit const ProcessTeam* serving = nullptr;

struct WorkerIsGone {};

class AddingSeconds {
 public:
  explicit AddingSeconds(double& sum_s) noexcept : sum_s_(sum_s), start_ns_(now_ns()) {}
  ~AddingSeconds() { sum_s_ += static_cast<double>(now_ns() - start_ns_) * 1e-9; }
  AddingSeconds(const AddingSeconds&) = delete;
  AddingSeconds& operator=(const AddingSeconds&) = delete;

 private:
  double& sum_s_;
  std::int64_t start_ns_;
};

// Keeps account of what has arrived.
class Accounting : public Sink {
 public:
  Accounting(Sink& sink, std::vector<Range>& delivered) : sink_(sink), delivered_(delivered) {}
  void take(Parcel& parcel) override {
    sink_.take(parcel);
    delivered_.insert(delivered_.end(), parcel.ranges.begin(), parcel.ranges.end());
  }

 private:
  Sink& sink_;
  std::vector<Range>& delivered_;
};

void limit_memory(std::size_t more) {
  rlimit data{};
  if (more == 0 || ::getrlimit(RLIMIT_DATA, &data) != 0) return;
  data.rlim_cur = std::min<rlim_t>(data.rlim_cur, virtual_data_bytes() + more);
  ::setrlimit(RLIMIT_DATA, &data);
}

// Asked for, and within what this process may use; each worker pins itself when it begins.
void choose_processors(int workers, CrewFacts& facts) {
  if (facts.asked.pin == Pin::off) return;
  const auto order = processor_order(facts.asked.pin == Pin::near ? Nearness::near : Nearness::apart);
  if (order.empty()) return;
  const ProcessorSet allowed = own_processors();
  if (allowed.empty()) facts.refused.push_back("keeping workers on processors");
  for (int worker = 0; worker < workers; ++worker) {
    const int cpu = order[static_cast<std::size_t>(worker) % order.size()];
    const bool granted = allowed.has(cpu);
    facts.asked_processors.push_back(cpu);
    facts.granted_processors.push_back(granted ? cpu : -1);
  }
}

}  // namespace

// Reads what a worker sends, as long as it lives.
class Inbox : public BlockSource {
 public:
  explicit Inbox(ProcessTeam& team, int worker)
      : team_(team), worker_(team.workers_[static_cast<std::size_t>(worker)]) {}

  void read(void* to, std::size_t bytes) override { read_with(to, bytes, nullptr); }
  void read_with(void* to, std::size_t bytes, Descriptor* file) {
    team_.parent_moved_.bytes += bytes;
    for (char* at = static_cast<char*>(to); bytes > 0;) {
      const std::ptrdiff_t got = receive_some(worker_.socket.get(), at, bytes, file);
      if (got < 0) throw WorkerIsGone();
      if (got == 0) wait();
      at += got;
      bytes -= static_cast<std::size_t>(got);
    }
  }
  std::shared_ptr<CommonMemory> common(std::uint64_t, std::size_t) override { refuse_common_result(); }

 private:
  // What a worker sent before it died is still there to be read.
  void wait() {
    pollfd both[2] = {{worker_.socket.get(), POLLIN, 0}, {worker_.process.get(), POLLIN, 0}};
    const bool asks = !worker_.process.is_open();
    ::poll(both, 2, team_.poll_limit(asks));
    if (both[0].revents == 0 && (both[1].revents != 0 || (asks && team_.has_ended(worker_)))) throw WorkerIsGone();
    if (team_.overdue()) throw WorkerIsGone();
  }

  ProcessTeam& team_;
  ProcessTeam::Worker& worker_;
};

ProcessTeam::ProcessTeam(const char* crew, int workers, const CrewOptions& options)
    : crew_(crew),
      facts_{options, {}, {}, 0, {}},
      memory_(checked_workers(workers, crew)),
      workers_(static_cast<std::size_t>(workers)) {
  check_options_of_processes(options, crew);
  choose_processors(workers, facts_);
  can_hand_over_ = files_can_be_sealed();
  if (!can_hand_over_) facts_.refused.push_back("files in memory: results are copied");
  int signal = 0;
  if (::prctl(PR_GET_PDEATHSIG, &signal) != 0) {
    facts_.refused.push_back("telling workers of their caller's end: should it be killed, they end their part first");
  }
  prepare_scratch();
}

bool ProcessTeam::inside() const noexcept {
  return serving == this;
}

void ProcessTeam::place(const RegionOrder& order) {
  Board& on = board();
  on.order = order;
  on.order.journal = open_journal.load(std::memory_order_relaxed);
  on.cancelled.store(false, std::memory_order_relaxed);
  on.redo_count = 0;
  on.redo_next.store(0, std::memory_order_relaxed);
  const std::size_t units = (order.n + order.unit - 1) / order.unit;
  ::new (on.handout_room.data()) Handout(units, order.split, workers(), memory_.shares());
}

// How a worker ended is told by the kernel only to a process that does not refuse to be told.
void ProcessTeam::refuse_if_ends_are_ignored() const {
  struct sigaction set {};
  if (::sigaction(SIGCHLD, nullptr, &set) != 0) return;
  if (set.sa_handler != SIG_IGN && (set.sa_flags & SA_NOCLDWAIT) == 0) return;
  could_not_run("crew.children", crew_, "this program ignores SIGCHLD, so it is not told how a worker ended",
                "set SIGCHLD to SIG_DFL or to a handler of your own before the call");
}

void ProcessTeam::run(RegionOrder order, Sink& sink, const AnyStopToken& stop) {
  if (order.n == 0) return;
  refuse_if_inherited(made_at_, crew_);
  refuse_if_ends_are_ignored();
  if (busy_.exchange(true, std::memory_order_acquire)) {
    could_not_run("crew.busy", crew_, "another thread's call is under way on this crew",
                  "give each calling thread a crew of its own");
  }
  struct Free {
    ProcessTeam& team;
    ~Free() {
      team.give_up();
      team.stop_ = nullptr;
      team.busy_.store(false, std::memory_order_release);
    }
  } const free{*this};
  after_fork_.settle();
  const double deadline_s = facts_.asked.processes.deadline_s;
  deadline_ns_ = deadline_s > 0 ? now_ns() + static_cast<std::int64_t>(deadline_s * 1e9) : 0;
  delivered_.clear();
  tries_ = 1;
  Accounting accounting(sink, delivered_);
  const OuterRegion logged(order.n, Sharing::processes, workers(), crew_, forks_each_time());
  order.lanes = logged.book();
  order.region = logged.number();
  const LaneHandOver handed_over(logged);
  place(order);
  stop_ = stop.stop_possible() ? &stop : nullptr;
  look_at_stop();
  const std::size_t units = (order.n + order.unit - 1) / order.unit;
  for (int count = static_cast<int>(std::min<std::size_t>(units, static_cast<std::size_t>(workers())));;) {
    died_.reset();
    for (int worker = 0; worker < workers(); ++worker) slot(worker).part.store(Part::none, std::memory_order_relaxed);
    region(count, accounting);
    throw_first_exception();
    if (died_ && (died_->reason == ProcessDied::Reason::deadline || !may_go_on())) throw ProcessDied(*died_);
    if (stop.stop_requested()) return;
    const std::vector<Range> lost = missing(order.n);
    if (lost.empty()) return;
    if (died_) ++tries_;
    board().redo_count = std::min(lost.size(), most_redone);
    std::copy_n(lost.begin(), board().redo_count, board().redo.begin());
    board().redo_next.store(0, std::memory_order_relaxed);
    count = static_cast<int>(std::min<std::size_t>(board().redo_count, static_cast<std::size_t>(workers())));
  }
}

// What nobody has sent, in order.
std::vector<Range> ProcessTeam::missing(std::size_t n) {
  std::sort(delivered_.begin(), delivered_.end(), [](const Range& a, const Range& b) { return a.first < b.first; });
  std::vector<Range> gaps;
  std::size_t at = 0;
  for (const Range& range : delivered_) {
    if (range.first > at) gaps.push_back({at, range.first});
    at = std::max(at, range.last);
  }
  if (at < n) gaps.push_back({at, n});
  return gaps;
}

void ProcessTeam::throw_first_exception() {
  for (int worker = 0; worker < workers(); ++worker) {
    const WorkerSlot& told = slot(worker);
    if (told.part.load(std::memory_order_acquire) != Part::threw) continue;
    throw WorkerThrew(crew_, worker, {told.first.load(), told.last.load()}, told.type.data(), told.text.data());
  }
}

pid_t ProcessTeam::fork_worker(int worker) {
  Worker& made = workers_[static_cast<std::size_t>(worker)];
  const std::int64_t start = now_ns();
  const pid_t child = ::fork();
  if (child == 0) return 0;
  const int fault = errno;
  fork_ns_ += now_ns() - start;
  ++forks_;
  if (child < 0) {
    could_not_run("crew.start", std::string(crew_) + ", worker " + std::to_string(worker),
                  std::string("the system refused to fork a process (") + std::strerror(fault) + ")",
                  "use fewer workers, free some memory, or raise the limit of processes (ulimit -u)");
  }
  made.pid = child;
  made.ended = false;
  return child;
}

void ProcessTeam::watch_end(Worker& worker) {
  if (worker.process.is_open() || worker.pid == 0) return;
  worker.process = Descriptor(static_cast<int>(::syscall(SYS_pidfd_open, worker.pid, 0)));
  if (worker.process.is_open() || (errno != EMFILE && errno != ENFILE)) return;
  could_not_run("crew.start", crew_, std::string("no descriptor for a worker's process (") + std::strerror(errno) + ")",
                "raise the limit of open files (ulimit -n)");
}

// No child of this number: the program itself has taken notice of its end, in a handler of SIGCHLD perhaps.
bool ProcessTeam::has_ended(const Worker& worker) noexcept {
  siginfo_t info{};
  if (::waitid(P_PID, static_cast<id_t>(worker.pid), &info, WEXITED | WNOHANG | WNOWAIT) != 0) return errno == ECHILD;
  return info.si_pid != 0;
}

// Through its descriptor, or while it is known to be a child: its number may be somebody else's by now.
void ProcessTeam::kill(const Worker& worker) noexcept {
  if (worker.pid == 0) return;
  if (worker.process.is_open() && ::syscall(SYS_pidfd_send_signal, worker.process.get(), SIGKILL, nullptr, 0) == 0)
    return;
  if (!has_ended(worker)) ::kill(worker.pid, SIGKILL);
}

void ProcessTeam::wait_for_end(const Worker& worker) noexcept {
  siginfo_t info{};
  while (::waitid(P_PID, static_cast<id_t>(worker.pid), &info, WEXITED | WNOWAIT) != 0 && errno == EINTR) {
  }
}

int ProcessTeam::poll_limit(bool asks) const noexcept {
  constexpr std::int64_t between_questions_ns = 2'000'000;
  std::int64_t left = left_ns();
  if (asks || stop_ != nullptr) left = left < 0 ? between_questions_ns : std::min(left, between_questions_ns);
  return left < 0 ? -1 : static_cast<int>(left / 1'000'000) + 1;
}

bool ProcessTeam::look_at_stop() noexcept {
  if (stop_ == nullptr || !stop_->stop_requested()) return false;
  board().cancelled.store(true, std::memory_order_relaxed);
  return true;
}

void ProcessTeam::become_worker(int worker) {
  serving = this;
  current_worker_number = worker;
  adopt_scratch();
  limit_memory(facts_.asked.processes.memory_bytes);
  if (facts_.granted_processors.empty()) return;
  ProcessorSet one;
  one.add(facts_.granted_processors[static_cast<std::size_t>(worker)]);
  if (one.empty()) return;
  static const ProcessorSet own = own_processors();
  remember_own_processors(&own);
  keep_on(0, one);
}

bool ProcessTeam::receive_parcel(int worker, Sink& sink) {
  const Phase phase(taking_data);
  const InFrame moving({Doing::moving, Shortage::none, board().order.region, nullptr, nullptr});
  const AddingSeconds adding(parent_moved_.seconds);
  Inbox inbox(*this, worker);
  try {
    ParcelHead head;
    Parcel parcel;
    inbox.read_with(&head, sizeof head, &parcel.file);
    parcel.ranges.resize(head.ranges);
    inbox.read(parcel.ranges.data(), head.ranges * sizeof(Range));
    if (head.in_file) {
      const Mapping content(parcel.file, head.large_bytes, Pages::small, Access::read);
      parent_moved_.bytes += head.large_bytes;
      take_from_memory(static_cast<const char*>(content.address()), head.large_bytes, sink);
      return true;
    }
    parcel.small.resize(head.small_bytes);
    inbox.read(parcel.small.data(), head.small_bytes);
    parcel.large = &inbox;
    sink.take(parcel);
    return true;
  } catch (const WorkerIsGone&) {
    return false;
  }
}

void ProcessTeam::take_letter(int worker, Sink& sink) {
  WorkerSlot& from = slot(worker);
  const std::size_t bytes = std::exchange(from.letter_bytes, 0);
  if (bytes == 0) return;
  parent_moved_.bytes += bytes;
  take_from_memory(from.letter.data(), bytes, sink);
}

int ProcessTeam::reap(Worker& worker) noexcept {
  int status = 0;
  pid_t waited = 0;
  while ((waited = ::waitpid(worker.pid, &status, 0)) < 0 && errno == EINTR) {
  }
  if (waited < 0) status = taken_notice_of;
  const bool died = status == taken_notice_of || !WIFEXITED(status) || WEXITSTATUS(status) != 0;
  const auto number = static_cast<int>(&worker - workers_.data());
  if (died || slot(number).used_scratch.load(std::memory_order_relaxed)) remove_scratch_of(worker.pid);
  worker.pid = 0;
  worker.process.close();
  worker.ended = true;
  return status;
}

void ProcessTeam::note_end(int worker, int status) {
  if (died_) return;
  ProcessDied::Facts facts;
  facts.crew = crew_;
  facts.worker = worker;
  facts.range = {slot(worker).first.load(), slot(worker).last.load()};
  facts.reason = status == taken_notice_of ? ProcessDied::Reason::unknown
                 : WIFSIGNALED(status)     ? ProcessDied::Reason::signal
                                           : ProcessDied::Reason::exit;
  facts.number = status == taken_notice_of ? 0 : WIFSIGNALED(status) ? WTERMSIG(status) : WEXITSTATUS(status);
  facts.tries = tries_;
  died_ = facts;
}

// Of the first worker that has not ended.
void ProcessTeam::note_deadline() {
  for (int worker = 0; worker < workers(); ++worker) {
    if (workers_[static_cast<std::size_t>(worker)].ended) continue;
    died_.reset();
    note_end(worker, SIGKILL);
    died_->reason = ProcessDied::Reason::deadline;
    died_->deadline_s = facts_.asked.processes.deadline_s;
    return;
  }
}

std::int64_t ProcessTeam::left_ns() const noexcept {
  return deadline_ns_ == 0 ? -1 : std::max<std::int64_t>(deadline_ns_ - now_ns(), 0);
}
bool ProcessTeam::overdue() const noexcept {
  return deadline_ns_ != 0 && now_ns() >= deadline_ns_;
}

MovedData ProcessTeam::moved() const {
  MovedData moved;
  auto& memory = const_cast<BoardMemory&>(memory_);
  for (int worker = 0; worker < workers(); ++worker) {
    const WorkerSlot& told = memory.slot(worker);
    moved.workers.push_back({told.moved_bytes, static_cast<double>(told.moved_ns) * 1e-9});
  }
  moved.parent = parent_moved_;
  moved.forks = forks_;
  moved.fork_s = static_cast<double>(fork_ns_) * 1e-9;
  moved.faults_after_fork = after_fork_.faults();
  moved.after_fork_s = static_cast<double>(moved.faults_after_fork) * fault_cost_s();
  return moved;
}

}  // namespace antcrew::internal
