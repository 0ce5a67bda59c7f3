#include <poll.h>
#include <signal.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <tuple>

#include "antcrew/crew/internal/processes/passing.hpp"
#include "antcrew/crew/internal/processes/process_team.hpp"
#include "antcrew/crew/internal/processes/worker_side.hpp"
#include "antcrew/crew/worker.hpp"

namespace antcrew::internal {

ForkedTeam::ForkedTeam(int workers, const CrewOptions& options) : ProcessTeam("ProcessCrew", workers, options) {}

void ForkedTeam::fork_one(int worker) {
  Worker& one = workers_[static_cast<std::size_t>(worker)];
  if (!one.socket.is_open()) std::tie(one.socket, one.worker_side) = socket_pair();
  const pid_t parent = ::getpid();
  if (fork_worker(worker) != 0) return;
  // The caller waits in this very thread, so its end is the end of the call.
  ::prctl(PR_SET_PDEATHSIG, SIGKILL);
  if (::getppid() != parent) ::_exit(0);
  become_worker(worker);
  WorkerSide(memory_, worker, one.worker_side.get(), false).do_part();
  if (used_scratch()) drop_own_scratch();
  ::_exit(0);
}

void ForkedTeam::region(int count, Sink& sink) {
  for (int worker = 0; worker < count; ++worker) fork_one(worker);
  wait_and_take(count, sink);
  after_fork_.mark();
}

// As long as no other child of this process has ended, there is no cheaper way. Returns how many still run.
int ForkedTeam::wait_for_letters(int count, Sink& sink) {
  int running = count;
  while (running > 0) {
    siginfo_t ended{};
    if (::waitid(P_ALL, 0, &ended, WEXITED | WNOWAIT) != 0) {
      if (errno == EINTR) continue;
      break;
    }
    int worker = 0;
    while (worker < count && workers_[static_cast<std::size_t>(worker)].pid != ended.si_pid) ++worker;
    if (worker == count) break;
    take_end(worker, sink);
    --running;
    if (died_ && !may_go_on()) break;
  }
  return running;
}

void ForkedTeam::wait_and_take(int count, Sink& sink) {
  int running = count;
  if (board().order.only_letters && left_ns() < 0 && !may_be_stopped()) running = wait_for_letters(count, sink);
  if (died_ && !may_go_on()) return give_up();
  if (running == 0) return;
  for (Worker& worker : workers_) watch_end(worker);
  std::vector<pollfd> watched(static_cast<std::size_t>(count) * 2);
  while (running > 0) {
    for (std::size_t k = 0; k < static_cast<std::size_t>(count); ++k) {
      const Worker& worker = workers_[k];
      watched[2 * k] = {worker.ended ? -1 : worker.socket.get(), POLLIN, 0};
      watched[2 * k + 1] = {worker.ended ? -1 : worker.process.get(), POLLIN, 0};
    }
    const auto must_ask = [](const Worker& worker) { return !worker.ended && !worker.process.is_open(); };
    const bool asks = std::any_of(workers_.begin(), workers_.begin() + count, must_ask);
    ::poll(watched.data(), watched.size(), poll_limit(asks));
    look_at_stop();
    for (std::size_t k = 0; asks && k < static_cast<std::size_t>(count); ++k) {
      if (must_ask(workers_[k]) && has_ended(workers_[k])) watched[2 * k + 1].revents = POLLIN;
    }
    if (overdue()) {
      note_deadline();
      return give_up();
    }
    for (int k = 0; k < count; ++k) {
      const auto at = static_cast<std::size_t>(k) * 2;
      if (look_at(k, watched[at].revents, watched[at + 1].revents, sink)) --running;
    }
    if (died_ && !may_go_on()) return give_up();
  }
}

// Whether the worker has ended. What it sent is taken in first.
bool ForkedTeam::look_at(int worker, short socket_events, short process_events, Sink& sink) {
  Worker& one = workers_[static_cast<std::size_t>(worker)];
  if (one.ended) return false;
  if ((socket_events & POLLIN) != 0 && receive_parcel(worker, sink)) return false;
  if ((socket_events & POLLIN) == 0 && process_events == 0) return false;
  if (process_events == 0 && !overdue()) {
    wait_for_end(one);  // it died inside a parcel, perhaps just now
  }
  if (overdue()) return false;
  take_end(worker, sink);
  return true;
}

void ForkedTeam::take_end(int worker, Sink& sink) {
  Worker& one = workers_[static_cast<std::size_t>(worker)];
  const int status = reap(one);
  const Part part = slot(worker).part.load(std::memory_order_acquire);
  if (part == Part::done && (status == 0 || status == taken_notice_of)) {
    take_letter(worker, sink);
  } else if (part != Part::threw) {
    note_end(worker, status);
    one.socket.close();  // with what is left of a parcel
    one.worker_side.close();
  }
}

void ForkedTeam::give_up() noexcept {
  for (Worker& worker : workers_) {
    if (worker.pid == 0) continue;
    kill(worker);
    reap(worker);
    worker.socket.close();
    worker.worker_side.close();
  }
}

}  // namespace antcrew::internal
