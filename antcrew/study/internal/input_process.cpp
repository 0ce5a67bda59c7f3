#include "antcrew/study/internal/input_process.hpp"

#include <fcntl.h>
#include <sched.h>
#include <signal.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cmath>
#include <cstdio>
#include <cstdlib>

#include "antcrew/analysis/statistics.hpp"
#include "antcrew/base/bad_message.hpp"
#include "antcrew/crew/worker.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/limits.hpp"
#include "antcrew/machine/process_tree.hpp"
#include "antcrew/machine/processors.hpp"
#include "antcrew/machine/topology.hpp"
#include "antcrew/machine/usage.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/study/internal/crash_watch.hpp"
#include "antcrew/study/internal/launched_stand.hpp"
#include "antcrew/study/internal/protocol.hpp"
#include "antcrew/study/internal/serve_visits.hpp"
#include "antcrew/study/local_host.hpp"

namespace antcrew::internal {
namespace {

constexpr int most_copies = 256;
constexpr double crowd_batch_s = 2e-3;
constexpr double long_copy_s = 20e-3;  // one call says enough

void limit_memory(std::uint64_t more) {
  if (sanitized) return;
  rlimit data{};
  if (more == 0 || ::getrlimit(RLIMIT_DATA, &data) != 0) return;
  data.rlim_cur = std::min<rlim_t>(data.rlim_max, virtual_data_bytes() + more);
  ::setrlimit(RLIMIT_DATA, &data);
}

// Where stack and heap begin, to the cache line within a page or two, makes code faster or slower by chance. Every
// cell process draws its own place, so that this averages out.
[[noreturn]] void serve_cell(Channel coordinator, const InputOrder& order, std::size_t cell, MadeBlock made,
                             std::uint64_t memory_bytes) {
  ProcessBoard* board = &order.boards[cell];
  watch_crashes(board);
  limit_memory(memory_bytes);
  if (order.own_inputs) {
    BlockFacts unused;
    made = make_block(order.study, order.at, unused, board);
  }
  const auto place =
      static_cast<std::uint64_t>(now_ns()) * 0x9e3779b97f4a7c15u ^ static_cast<std::uint64_t>(::getpid());
  const std::size_t on_stack = 16 * ((place >> 40) % 512);
  const std::size_t on_heap = 16 * (1 + (place >> 50) % 512);
  auto* stack = static_cast<volatile char*>(__builtin_alloca(on_stack + 16));
  stack[0] = 0;
  void* heap = std::malloc(on_heap);  // stays
  asm volatile("" : : "r"(heap) : "memory");
  serve_visits(coordinator, order.study, order.cells[cell], order.at, board, made);
  ::_exit(0);
}

// Memory that a crowd of copies shares.
struct Crowd {
  std::atomic<int> ready;
  std::atomic<int> done;
  double time_s[most_copies];
};

// Where the worker of that number would be.
void pin_copy(Pin pin, int copy) {
  const auto processors = processor_order(pin == Pin::near ? Nearness::near : Nearness::apart);
  if (processors.empty()) return;
  ProcessorSet one;
  one.add(processors[static_cast<std::size_t>(copy) % processors.size()]);
  keep_on(0, one);
}

[[noreturn]] void serve_copy(const InputOrder& order, const MadeBlock& made, Crowd& crowd, int copy, int copies) {
  no_core_file();
  try {
    if (order.at.pin != Pin::off) pin_copy(order.at.pin, copy);
    const auto session = order.study.open_baseline();
    session->prepare(made.input, 1);
    const double first_s = static_cast<double>(session->call_ns(made.input, 1)) * 1e-9;
    const auto calls =
        static_cast<std::size_t>(std::clamp(std::ceil(crowd_batch_s / std::max(first_s, 1e-9)), 1.0, 1e5));
    const auto batch_s = [&] {
      session->prepare(made.input, calls);
      const double s = static_cast<double>(session->call_ns(made.input, calls)) * 1e-9 / static_cast<double>(calls);
      session->drop_answers();
      return s;
    };
    crowd.ready.fetch_add(1);
    while (crowd.ready.load() < copies) ::sched_yield();
    std::vector<double> times(first_s < long_copy_s ? 3 : 1);
    for (double& time : times) time = batch_s();
    crowd.time_s[copy] = median(std::move(times));
    crowd.done.fetch_add(1);
    while (crowd.done.load() < copies) batch_s();  // keeps the crowd as large as it is meant to be, to the end
  } catch (...) {
    ::_exit(1);  // the baseline's own visits report what it throws
  }
  ::_exit(0);
}

class InputProcess {
 public:
  InputProcess(Channel coordinator, const InputOrder& order) : coordinator_(std::move(coordinator)), order_(order) {}

  [[noreturn]] void serve() {
    if (!order_.own_inputs) make();
    ::prctl(PR_SET_PDEATHSIG, 0);  // from here on the channel tells when the coordinator ends, so that all is cleared
    while (const auto request = coordinator_.receive()) {
      try {
        std::visit([this](const auto& one) { answer(one); }, input_request_from(*request));
      } catch (const BadMessage& error) {
        reply(NotUnderstood{error.what()});
      }
    }
    end_cell_processes(std::vector<pid_t>(processes_));
    ::_exit(0);
  }

 private:
  void make() {
    ProcessBoard* board = &order_.boards[order_.cells.size()];
    watch_crashes(board);
    const int threads_before = thread_count();
    BlockFacts facts;
    made_ = make_block(order_.study, order_.at, facts, board);
    if (!made_.fault && !threads_are_gone(threads_before)) {
      made_.fault = Fault{Fault::Kind::threads_left, 0,
                          "the input maker or the baseline left " + std::to_string(thread_count() - threads_before) +
                              " thread(s) behind, so every cell process made its own input"};
    }
    flush_prints();
    reply(InputMade{facts, made_.fault});
  }

  void reply(const InputReply& told) { coordinator_.send(to_message(told)); }

  void answer(const StartCell& request) { fork_cell_process(request.cell); }
  void answer(const EndCells& request) {
    const int status = end_cell_processes(request.processes);
    if (request.tell) reply(CellsEnded{status});
  }
  void answer(const TimeCrowd& request) { reply(CrowdTimed{crowd_time(request.copies)}); }

  // A thread that was joined may still be on its way out.
  static bool threads_are_gone(int before) {
    for (int looks = 0; looks < 50 && thread_count() > before; ++looks) ::usleep(1000);
    return thread_count() <= before;
  }

  void fork_cell_process(std::size_t cell) {
    auto [mine, theirs] = Channel::pair();
    const std::uint64_t memory_bytes = memory_of_a_cell_process();
    const pid_t parent = ::getpid();
    const pid_t child = ::fork();
    if (child == 0) {
      end_with_parent(parent);
      ::setpgid(0, 0);
      no_core_file();
      mine.close();
      coordinator_.close();
      if (launched(cell)) serve_by_launcher(std::move(theirs), order_, cell);
      serve_cell(std::move(theirs), order_, cell, std::move(made_), memory_bytes);
    }
    if (child < 0) return reply(CellStarted{});
    ::setpgid(child, child);
    processes_.push_back(child);
    if (launched(cell)) launchers_.push_back(child);
    coordinator_.send(to_message(InputReply(CellStarted{child})), mine);
  }

  bool launched(std::size_t cell) const {
    const CellSpec& spec = order_.cells[cell];
    return !spec.baseline() && order_.study.launched(static_cast<std::size_t>(spec.variant)) != nullptr;
  }

  // A launcher is let end by itself, so that it can clear up on every host; not for long.
  void end_launchers(const std::vector<pid_t>& ending) {
    constexpr int longest_ms = 5'000;
    std::vector<pid_t> asked;
    for (const pid_t process : ending) {
      if (std::erase(launchers_, process) == 0) continue;
      ::kill(-process, SIGCONT);
      ::kill(process, SIGTERM);
      asked.push_back(process);
    }
    for (int waited_ms = 0; !asked.empty() && waited_ms < longest_ms; waited_ms += 5) {
      std::erase_if(asked, [](pid_t process) {
        siginfo_t info{};
        return ::waitid(P_PID, static_cast<id_t>(process), &info, WEXITED | WNOHANG | WNOWAIT) != 0 ||
               info.si_pid == process;
      });
      if (!asked.empty()) ::usleep(5'000);
    }
  }

  // Ends cell processes, their process groups, and whatever of them moved elsewhere: as nearest reaper this process
  // inherits those. How the last of them ended.
  int end_cell_processes(const std::vector<pid_t>& ending) {
    int status = 0;
    end_launchers(ending);
    for (const pid_t process : ending) {
      siginfo_t info{};
      const bool ended = ::waitid(P_PID, static_cast<id_t>(process), &info, WEXITED | WNOHANG | WNOWAIT) == 0 &&
                         info.si_pid == process;
      ::kill(-process, SIGKILL);
      if (!ended) ::kill(process, SIGKILL);
    }
    for (const pid_t process : ending) {
      while (::waitpid(process, &status, 0) < 0 && errno == EINTR) {
      }
      processes_.erase(std::remove(processes_.begin(), processes_.end(), process), processes_.end());
      remove_all_scratch_of(process);
    }
    end_all_below([this](pid_t left) { return below_a_cell_process(left); });
    return status;
  }

  // Stands lead process groups of their own, so what belongs to a living one shows its group; what a launcher begins
  // may have others.
  bool below_a_cell_process(pid_t pid) const {
    return std::find(processes_.begin(), processes_.end(), ::getpgid(pid)) != processes_.end() ||
           (!launchers_.empty() && is_at_or_below(pid, launchers_));
  }

  // Beyond what it begins with. Looked up once in a while, since that reads many files.
  std::uint64_t memory_of_a_cell_process() {
    if (order_.limits.memory_bytes > 0 || sanitized) return order_.limits.memory_bytes;
    constexpr std::int64_t stays_ns = 1'000'000'000;
    if (free_bytes_ == 0 || now_ns() - free_seen_ns_ > stays_ns) {
      free_bytes_ = read_limits().available_bytes;
      free_seen_ns_ = now_ns();
    }
    return static_cast<std::uint64_t>(static_cast<double>(free_bytes_) * 0.9);
  }

  // Each copy makes an answer of its own.
  bool crowd_fits(int copies) const {
    return static_cast<double>(made_.bytes_of_a_call) * copies * 1.2 <
           static_cast<double>(read_limits().available_bytes);
  }

  // 0 where it cannot be tried.
  double crowd_time(int copies) {
    if (copies < 1 || copies > most_copies || !crowd_fits(copies)) return 0;
    void* memory = ::mmap(nullptr, sizeof(Crowd), PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
    if (memory == MAP_FAILED) return 0;
    auto* crowd = static_cast<Crowd*>(memory);
    end_with_parent(coordinator_pid_);  // the channel is not looked at meanwhile
    std::vector<pid_t> forked;
    const pid_t parent = ::getpid();
    for (int copy = 0; copy < copies; ++copy) {
      const pid_t child = ::fork();
      if (child == 0) {
        end_with_parent(parent);
        coordinator_.close();
        serve_copy(order_, made_, *crowd, copy, copies);
      }
      if (child > 0) forked.push_back(child);
    }
    bool all_well = static_cast<int>(forked.size()) == copies;
    if (!all_well) {
      for (const pid_t child : forked) ::kill(child, SIGKILL);
    }
    for (std::size_t waited = 0; waited < forked.size(); ++waited) {
      int status = 0;
      while (::waitpid(forked[waited], &status, 0) < 0 && errno == EINTR) {
      }
      if (status == 0) continue;
      all_well = false;  // the others would wait for it
      for (const pid_t child : forked) ::kill(child, SIGKILL);
    }
    ::prctl(PR_SET_PDEATHSIG, 0);
    std::sort(crowd->time_s, crowd->time_s + copies);
    const double middle = (crowd->time_s[(copies - 1) / 2] + crowd->time_s[copies / 2]) / 2;
    ::munmap(memory, sizeof(Crowd));
    return all_well ? middle : 0;
  }

  Channel coordinator_;
  pid_t coordinator_pid_ = ::getppid();
  const InputOrder& order_;
  MadeBlock made_;
  std::vector<pid_t> processes_;
  std::vector<pid_t> launchers_;  // of them, those that pass on what a launched program says
  std::uint64_t free_bytes_ = 0;
  std::int64_t free_seen_ns_ = 0;
};

}  // namespace

void set_streams(int prints) {
  if (const int empty = ::open("/dev/null", O_RDONLY); empty >= 0) {
    ::dup2(empty, STDIN_FILENO);
    if (empty != STDIN_FILENO) ::close(empty);
  }
  if (prints >= 0) ::dup2(prints, STDERR_FILENO);
  ::dup2(STDERR_FILENO, STDOUT_FILENO);
}

void serve_input(Channel coordinator, const InputOrder& order) {
  try {
    default_signals();
    ::setpgid(0, 0);
    no_core_file();
    adopt_orphans();
    set_streams(order.prints);
    InputProcess(std::move(coordinator), order).serve();
  } catch (...) {
  }
  ::_exit(1);  // the coordinator sees that it is gone
}

}  // namespace antcrew::internal
