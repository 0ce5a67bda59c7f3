#include <dirent.h>
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <cstdlib>
#include <vector>

#include "antcrew/crew/internal/processes/passing.hpp"
#include "antcrew/crew/internal/processes/process_team.hpp"
#include "antcrew/crew/internal/processes/worker_side.hpp"
#include "antcrew/crew/worker.hpp"
#include "antcrew/log/phase.hpp"
#include "antcrew/machine/limits.hpp"
#include "antcrew/machine/parking.hpp"

namespace antcrew::internal {
namespace {

// A dead worker is noticed at the next of these looks; a living one wakes the parent itself.
constexpr std::int64_t look_for_the_dead_ns = 5'000'000;

// A sleeping worker whose parent has ended is mostly told by a signal; where the system refuses that, it looks.
constexpr std::int64_t look_for_the_parent_ns = 2'000'000'000;

constinit pid_t parent_of_this_worker = 0;

// The kernel sends it when the thread that forked this process ends: only the process's end matters.
void on_end_of_parent(int) {
  if (::getppid() != parent_of_this_worker) ::_exit(0);
}

void end_with_parent(pid_t parent) {
  parent_of_this_worker = parent;
  struct sigaction action {};
  action.sa_handler = on_end_of_parent;
  action.sa_flags = SA_RESTART;
  const int number = SIGRTMAX - 1;
  ::sigaction(number, &action, nullptr);
  sigset_t just_it;
  sigemptyset(&just_it);
  sigaddset(&just_it, number);
  ::sigprocmask(SIG_UNBLOCK, &just_it, nullptr);
  ::prctl(PR_SET_PDEATHSIG, number);
  if (::getppid() != parent) ::_exit(0);
}

// This process stays, and what would close where a program is begun must not be held open by it: the other end of a
// pipe, say. Objects that held these numbers close nothing: here nobody destroys them.
void close_what_is_not_for_children(int but) {
  std::vector<int> open;
  if (DIR* all = ::opendir("/proc/self/fd")) {
    while (const dirent* entry = ::readdir(all)) {
      if (entry->d_name[0] >= '0' && entry->d_name[0] <= '9') open.push_back(std::atoi(entry->d_name));
    }
    std::erase(open, ::dirfd(all));
    ::closedir(all);
  } else {
    const long most = std::min(::sysconf(_SC_OPEN_MAX), 65'536L);
    for (int number = 3; number < most; ++number) open.push_back(number);
  }
  for (const int number : open) {
    const int flags = number == but ? -1 : ::fcntl(number, F_GETFD);
    if (flags >= 0 && (flags & FD_CLOEXEC) != 0) ::close(number);
  }
}

}  // namespace

StandingTeam::StandingTeam(int workers, const CrewOptions& options)
    : ProcessTeam("StandingCrew", workers, options),
      processors_(workers + 1),
      journal_at_start_(newest_journal.load(std::memory_order_relaxed)),
      lanes_at_start_(newest_lanes.load(std::memory_order_relaxed)),
      knows_(static_cast<std::size_t>(workers)) {
  const InFrame starting({Doing::starting, Shortage::none, 0, nullptr, nullptr});
  try {
    for (int worker = 0; worker < workers; ++worker) start(worker);
  } catch (...) {
    for (Worker& worker : workers_) worker.ended = false;
    give_up();
    throw;
  }
}

// No two sleepers are woken on one processor, nor on the caller's where it goes on looking.
void StandingTeam::make_room() noexcept {
  if (workers() > usable_processors_now()) return;
  ProcessorSet taken;
  if (processors_.known()) taken.add(current_processor());
  for (int worker = 0; worker < workers(); ++worker) {
    WakePlacement& placement = memory_.placement(worker);
    const int there = placement.slept_on();
    if (there < 0) continue;
    placement.make_room(taken);
    taken.add(there);
  }
}

StandingTeam::~StandingTeam() {
  if (!own()) return;
  const InFrame ending({Doing::starting, Shortage::none, 0, nullptr, nullptr});
  board().leaving.store(true, std::memory_order_seq_cst);
  board().region.fetch_add(1, std::memory_order_seq_cst);
  wake_all_shared(board().region);
  for (Worker& worker : workers_) {
    worker.socket.close();
    if (worker.pid != 0) reap(worker);
  }
}

void StandingTeam::start(int worker) {
  Worker& one = workers_[static_cast<std::size_t>(worker)];
  auto [mine, theirs] = socket_pair();
  const pid_t parent = ::getpid();
  slot(worker).ended.store(region_, std::memory_order_relaxed);
  slot(worker).part.store(Part::none, std::memory_order_relaxed);
  if (fork_worker(worker) == 0) {
    end_with_parent(parent);
    close_what_is_not_for_children(theirs.get());
    become_worker(worker);
    serve(worker, std::move(theirs));
  }
  watch_end(one);
  one.socket = std::move(mine);
  one.parcels = slot(worker).parcels.load(std::memory_order_relaxed);
  one.ended = true;
  knows_[static_cast<std::size_t>(worker)].clear();
}

void StandingTeam::serve(int worker, Descriptor socket) {
  WorkerSide side(memory_, worker, socket.get(), true);
  Board& on = board();
  WorkerSlot& mine = slot(worker);
  for (std::uint32_t seen = region_;;) {
    const auto changed = [&] { return on.region.load(std::memory_order_acquire) != seen; };
    if (!(processors_.known() && looked(changed))) {
      processors_.look_again();
      WakePlacement& placement = memory_.placement(worker);
      placement.lie_down();
      while (on.region.load(std::memory_order_seq_cst) == seen) {
        sleep_while_shared(on.region, seen, look_for_the_parent_ns);
        if (::getppid() != parent_of_this_worker) ::_exit(0);  // also where the signal comes late, or not at all
      }
      placement.get_up();
    }
    if (on.leaving.load(std::memory_order_seq_cst)) break;
    seen = on.region.load(std::memory_order_acquire);
    open_journal.store(on.order.journal, std::memory_order_relaxed);
    side.do_part();
    // What was written is seen by whoever sees this; in one order with the parent's going to sleep.
    mine.ended.store(seen, std::memory_order_seq_cst);
    on.events.fetch_add(1, std::memory_order_seq_cst);
    if (on.parent_sleeps.load(std::memory_order_seq_cst)) wake_all_shared(on.events);
  }
  if (used_scratch()) drop_own_scratch();
  ::_exit(0);
}

// Those that died, or were given up, in an earlier call.
void StandingTeam::repair() {
  for (int worker = 0; worker < workers(); ++worker) {
    if (workers_[static_cast<std::size_t>(worker)].pid == 0) start(worker);
  }
}

bool StandingTeam::send_arguments(int worker) {
  const Packer& arguments = *board().order.arguments;
  auto& knows = knows_[static_cast<std::size_t>(worker)];
  Worker& to = workers_[static_cast<std::size_t>(worker)];
  const int socket = to.socket.get();
  // It may be stopped, or busy for ever; where there is no deadline that is waited for.
  struct UntilDeadline final : Patience {
    UntilDeadline(const StandingTeam& its_team, const Worker& its_worker) : team(its_team), worker(its_worker) {}
    bool for_room(int its_socket) noexcept override {
      pollfd room{its_socket, POLLOUT, 0};
      const std::int64_t left = team.left_ns();
      const std::int64_t look = left < 0 ? look_for_the_dead_ns : std::min(left, look_for_the_dead_ns);
      ::poll(&room, 1, static_cast<int>(look / 1'000'000) + 1);
      return !team.overdue() && !has_ended(worker);
    }
    const StandingTeam& team;
    const Worker& worker;
  } patient(*this, to);
  std::vector<CommonMemory*> fresh;
  for (const auto& array : arguments.commons()) {
    if (knows.emplace(array->serial, true).second) fresh.push_back(array.get());
    told_[array->serial] = array;
  }
  std::vector<std::uint64_t> gone;
  for (const auto& [serial, known] : knows) {
    if (told_.count(serial) == 0 || told_[serial].expired()) gone.push_back(serial);
  }
  for (const std::uint64_t serial : gone) knows.erase(serial);
  const std::size_t small = arguments.small().size();
  const ArgumentHead head{fresh.size(), gone.size(), small, arguments.bytes() - small};
  parent_moved_.bytes += arguments.bytes();
  if (!send_blocks(socket, {{&head, sizeof head}}, -1, &patient)) return false;
  for (const CommonMemory* array : fresh) {
    const PassedArray passed{array->serial, array->mapping.bytes()};
    if (!send_blocks(socket, {{&passed, sizeof passed}}, array->file.get(), &patient)) return false;
  }
  std::vector<Packer::Block> blocks{{gone.data(), gone.size() * sizeof(std::uint64_t)},
                                    {arguments.small().data(), small}};
  blocks.insert(blocks.end(), arguments.large().begin(), arguments.large().end());
  return send_blocks(socket, blocks, -1, &patient);
}

// Arguments go through the sockets when they are long, and when a worker has an array to learn of or to forget.
void StandingTeam::post() {
  RegionOrder& order = board().order;
  const Packer& arguments = *order.arguments;
  const bool forgets = std::any_of(told_.begin(), told_.end(), [](const auto& told) { return told.second.expired(); });
  bool learns = false;
  for (const auto& knows : knows_) {
    for (const auto& array : arguments.commons()) learns = learns || knows.count(array->serial) == 0;
  }
  order.arguments_sent = forgets || learns || arguments.bytes() > argument_room || !arguments.large().empty();
  order.argument_bytes = arguments.small().size();
  // One that was made after the workers began is not where they could write to.
  if (order.journal != journal_at_start_) order.journal = nullptr;
  if (order.lanes != lanes_at_start_) order.lanes = nullptr;
  if (!order.arguments_sent) std::copy(arguments.small().begin(), arguments.small().end(), board().arguments.begin());
  for (Worker& worker : workers_) worker.ended = false;
  board().region.store(++region_, std::memory_order_seq_cst);
  make_room();
  wake_all_shared(board().region);
  if (!order.arguments_sent) return;
  for (int worker = 0; worker < workers(); ++worker) send_arguments(worker);  // one that is gone is noticed below
  std::erase_if(told_, [](const auto& told) { return told.second.expired(); });
}

// Whether the worker has ended its part, or is gone.
bool StandingTeam::take_news(int worker, Sink& sink) {
  Worker& one = workers_[static_cast<std::size_t>(worker)];
  WorkerSlot& told = slot(worker);
  const bool ended = told.ended.load(std::memory_order_seq_cst) == region_;
  while (told.parcels.load(std::memory_order_seq_cst) != one.parcels) {
    ++one.parcels;
    if (receive_parcel(worker, sink)) continue;
    if (overdue()) return false;
    note_end(worker, reap(one));
    return true;
  }
  if (!ended) return false;
  one.ended = true;
  if (told.part.load(std::memory_order_acquire) == Part::done) take_letter(worker, sink);
  return true;
}

void StandingTeam::look_for_the_dead(Sink& sink) {
  for (int worker = 0; worker < workers(); ++worker) {
    Worker& one = workers_[static_cast<std::size_t>(worker)];
    if (one.ended || one.pid == 0) continue;
    if (!has_ended(one) || take_news(worker, sink)) continue;
    note_end(worker, reap(one));
  }
}

void StandingTeam::region(int, Sink& sink) {
  repair();
  post();
  const auto all_ended = [&] {
    bool all = true;
    for (int worker = 0; worker < workers(); ++worker) {
      if (!workers_[static_cast<std::size_t>(worker)].ended) all = take_news(worker, sink) && all;
    }
    return all;
  };
  const auto over = [&] { return all_ended() || (died_ && !may_go_on()); };
  if (processors_.known() && looked(over)) return;
  while (!over()) {
    board().parent_sleeps.store(true, std::memory_order_seq_cst);
    const std::uint32_t seen = board().events.load(std::memory_order_seq_cst);
    if (!over()) {
      const std::int64_t left = left_ns();
      sleep_while_shared(board().events, seen, left < 0 ? look_for_the_dead_ns : std::min(left, look_for_the_dead_ns));
    }
    board().parent_sleeps.store(false, std::memory_order_relaxed);
    look_for_the_dead(sink);
    if (overdue() && !over()) {
      note_deadline();
      return;
    }
  }
}

void StandingTeam::give_up() noexcept {
  for (Worker& worker : workers_) {
    if (worker.pid == 0 || worker.ended) continue;
    kill(worker);
    reap(worker);
    worker.socket.close();
  }
}

}  // namespace antcrew::internal
