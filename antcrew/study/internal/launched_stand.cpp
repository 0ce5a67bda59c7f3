#include "antcrew/study/internal/launched_stand.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <poll.h>
#include <signal.h>
#include <sys/mman.h>
#include <sys/socket.h>
#include <sys/un.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <cstring>

#include "antcrew/base/error.hpp"
#include "antcrew/base/hash.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/crew/worker.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/process_tree.hpp"
#include "antcrew/machine/random_delays.hpp"
#include "antcrew/record/packed.hpp"
#include "antcrew/study/internal/crash_watch.hpp"
#include "antcrew/study/internal/launcher.hpp"
#include "antcrew/study/internal/protocol.hpp"
#include "antcrew/study/internal/serve_visits.hpp"
#include "antcrew/study/launched.hpp"

namespace antcrew::internal {
namespace {

constexpr double looks_apart_s = 0.02;
constexpr int longest_start_s = 120;
constexpr int longest_end_ms = 4'000;

using LaunchedRequest = std::variant<ServeCell>;

volatile std::sig_atomic_t asked_to_leave = 0;
void on_leave(int) {
  asked_to_leave = 1;
}

std::string head_of(const std::string& folder) {
  return folder + "/head";
}
std::string board_of(const std::string& folder) {
  return folder + "/board";
}

sockaddr_un address_of(const std::string& path) {
  sockaddr_un address{};
  address.sun_family = AF_UNIX;
  if (path.size() >= sizeof address.sun_path) {
    could_not_run("study.launcher", path, "the folder's name is too long for a socket", "set TMPDIR to a shorter one");
  }
  path.copy(address.sun_path, path.size());
  return address;
}

// Of whoever made the file, for all who map it.
ProcessBoard* mapped_board(const std::string& folder, bool make) {
  const std::string path = board_of(folder);
  const int file = ::open(path.c_str(), O_RDWR | O_CLOEXEC | (make ? O_CREAT | O_EXCL : 0), 0600);
  void* memory = MAP_FAILED;
  if (file >= 0 && (!make || ::ftruncate(file, sizeof(ProcessBoard)) == 0)) {
    memory = ::mmap(nullptr, sizeof(ProcessBoard), PROT_READ | PROT_WRITE, MAP_SHARED, file, 0);
  }
  const int fault = errno;
  if (file >= 0) ::close(file);
  if (memory == MAP_FAILED) {
    could_not_run("study.launched", path, std::strerror(fault),
                  make ? "set TMPDIR to a folder that can be written to"
                       : "let the launcher put the first process on the machine that runs the study");
  }
  return static_cast<ProcessBoard*>(memory);
}

// Passes on what passes between the run and the process that leads the launched ones.
class Relay {
 public:
  Relay(Channel run, const InputOrder& order, std::size_t cell)
      : run_(std::move(run)), order_(order), spec_(order.cells[cell]), board_(order.boards[cell]) {}

  void serve() {
    folder_ = scratch_folder();
    theirs_ = mapped_board(folder_, true);
    listen();
    begun_ns_ = now_ns();
    launch();
    meet();
    while (const auto request = run_.receive(looks_apart_s, [this] { look_at_run(); })) {
      if (!head_.send(*request)) end_as_launcher();
      const auto reply = head_.receive(looks_apart_s, [this] { look_at_board(); });
      look_at_board();
      if (!reply) end_as_launcher();
      if (!run_.send(*reply)) break;
    }
    leave();
  }

 private:
  void listen() {
    const sockaddr_un address = address_of(head_of(folder_));
    listening_ = ::socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0);
    if (listening_ < 0 || ::bind(listening_, reinterpret_cast<const sockaddr*>(&address), sizeof address) != 0 ||
        ::listen(listening_, 1) != 0) {
      could_not_run("study.launcher", folder_, std::strerror(errno), "set TMPDIR to a folder that can be written to");
    }
  }

  void launch() {
    const std::string launcher = order_.limits.launcher.empty() ? usual_launcher() : order_.limits.launcher;
    std::vector<std::string> words = launcher_words(launcher, spec_.workers, order_.at);
    name_ = words.front();
    std::array<char, 4096> program{};
    if (::readlink("/proc/self/exe", program.data(), program.size() - 1) < 0) {
      could_not_run("study.launcher", "/proc/self/exe", std::strerror(errno), "");
    }
    words.insert(words.end(), {program.data(), launched_flag, folder_, text_hash(order_.study.title()),
                               std::to_string(spec_.variant)});
    std::vector<char*> argv;
    for (std::string& word : words) argv.push_back(word.data());
    argv.push_back(nullptr);
    const pid_t parent = ::getpid();
    launched_ = ::fork();
    if (launched_ < 0) could_not_run("study.launcher", name_, std::strerror(errno), "");
    if (launched_ == 0) {
      end_with_parent(parent);
      ::setpgid(0, 0);  // the run stops and continues what waits for its turn; a launcher would tell of it
      default_signals();
      // More ranks than processors are a study's own business; this variable is Open MPI's word for it.
      ::setenv("OMPI_MCA_rmaps_base_oversubscribe", "1", 0);
      ::execvp(argv[0], argv.data());
      ::dprintf(STDERR_FILENO, "%s: %s\n", argv[0], std::strerror(errno));
      ::_exit(127);
    }
  }

  // A launcher may take long on many hosts: the run sees progress as long as it lives and the time is not over.
  void meet() {
    for (int looks = 0;; ++looks) {
      if (asked_to_leave != 0) leave();
      pollfd coming{listening_, POLLIN, 0};
      if (::poll(&coming, 1, 100) > 0) break;
      if (ended()) end_as_launcher();
      if (looks >= longest_start_s * 10) {
        ::dprintf(STDERR_FILENO,
                  "%s began nothing in %d s that came to study_main(): is the program's main the study's, and its "
                  "first process on this machine?\n",
                  name_.c_str(), longest_start_s);
        ::kill(launched_, SIGKILL);
        ::_exit(1);
      }
      board_.progress.fetch_add(1);
    }
    head_ = Channel(::accept4(listening_, nullptr, nullptr, SOCK_CLOEXEC));
    ServeCell order{static_cast<std::size_t>(spec_.variant),
                    processes_for(spec_.workers, order_.at),
                    spec_.pin,
                    order_.at,
                    begun_ns_,
                    delay_seed.load(),
                    order_.at.seed};
    if (!head_.is_open() || !head_.send(pack(LaunchedRequest(order)))) end_as_launcher();
  }

  bool ended() {
    if (has_ended_) return true;
    has_ended_ = ::waitpid(launched_, &status_, WNOHANG) == launched_;
    return has_ended_;
  }
  void look_at_run() {
    if (asked_to_leave != 0) leave();
  }
  void look_at_board() {
    if (asked_to_leave != 0) leave();
    board_.progress.store(theirs_->progress.load());
    board_.stage.store(theirs_->stage.load());
    board_.signal.store(theirs_->signal.load());
    board_.address.store(theirs_->address.load());
    std::memcpy(board_.thrown, theirs_->thrown, sizeof board_.thrown);
    board_.terminated.store(theirs_->terminated.load());
    board_.returned_children.store(theirs_->returned_children.load());
  }

  void wait_for_end() {
    for (int waited_ms = 0; waited_ms < longest_end_ms && !ended(); waited_ms += 5) ::usleep(5'000);
    if (ended()) return;
    ::kill(launched_, SIGKILL);
    ::waitpid(launched_, &status_, 0);
    has_ended_ = true;
  }

  // The one that led is gone: this process ends as it did, so that the run can say how.
  [[noreturn]] void end_as_launcher() {
    head_.close();
    wait_for_end();
    look_at_board();
    drop_own_scratch();
    if (const int number = board_.signal.load(); number > 0) {
      ::signal(number, SIG_DFL);
      ::raise(number);
    }
    if (WIFSIGNALED(status_)) {
      ::signal(WTERMSIG(status_), SIG_DFL);
      ::raise(WTERMSIG(status_));
    }
    if (WIFEXITED(status_) && WEXITSTATUS(status_) != 0) ::_exit(WEXITSTATUS(status_));
    ::dprintf(
        STDERR_FILENO,
        met_ ? "%s ended in the middle of a call\n" : "%s ended well, but none of what it began came to study_main()\n",
        name_.c_str());
    ::_exit(1);
  }

  [[noreturn]] void leave() {
    head_.close();  // by which the one that leads lets the others go
    wait_for_end();
    drop_own_scratch();
    ::_exit(0);
  }

  Channel run_;
  const InputOrder& order_;
  CellSpec spec_;
  ProcessBoard& board_;
  ProcessBoard* theirs_ = nullptr;
  std::string folder_;
  std::string name_;
  int listening_ = -1;
  pid_t launched_ = 0;
  int status_ = 0;
  bool has_ended_ = false;
  bool met_ = false;
  std::int64_t begun_ns_ = 0;
  Channel head_;
};

int head_socket = -1;

// The run is gone when its end of the channel is, whatever user code is being called just then.
void on_news(int) {
  const int before = errno;
  char nothing = 0;
  if (::recv(head_socket, &nothing, 1, MSG_PEEK | MSG_DONTWAIT) == 0) ::_exit(1);
  errno = before;
}
void end_with_channel(int channel) {
  head_socket = channel;
  const int number = SIGRTMAX - 2;
  struct sigaction action {};
  action.sa_handler = on_news;
  action.sa_flags = SA_RESTART;
  ::sigaction(number, &action, nullptr);
  ::fcntl(channel, F_SETOWN, ::getpid());
  ::fcntl(channel, F_SETSIG, number);
  ::fcntl(channel, F_SETFL, ::fcntl(channel, F_GETFL) | O_ASYNC);
}

// What was spent on other processes cannot be seen from the one that leads.
void leave_out_what_others_spent(Visit& visit) {
  for (Trial& trial : visit.seen.trials) {
    trial.user_s = trial.system_s = trial.others_cpu_s = trial.run_delay_s = std::nullopt;
    trial.instructions = trial.cycles = std::nullopt;
    trial.peak_bytes = std::nullopt;
  }
  visit.seen.cold_cpu_s.clear();
  visit.seen.no_resources = "its ranks may be on other machines, so CPU time and memory are not known";
}

int lead(const StudyBase& study, const std::string& folder) {
  const int socket = ::socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0);
  const sockaddr_un address = address_of(head_of(folder));
  if (socket < 0 || ::connect(socket, reinterpret_cast<const sockaddr*>(&address), sizeof address) != 0) {
    could_not_run("study.launched", folder, std::strerror(errno),
                  "let the launcher put the first process on the machine that runs the study");
  }
  Channel run(socket);
  const auto first = run.receive();
  if (!first) return 1;
  auto order = std::get<ServeCell>(unpack<LaunchedRequest>(*first));
  order.at.seed = order.input_seed;
  ProcessBoard* board = mapped_board(folder, false);
  end_with_channel(socket);
  watch_crashes(board);
  delay_seed.store(order.delays);
  BlockFacts unused;
  const MadeBlock made = make_block(study, order.at, unused, board);
  const CellSpec spec{static_cast<int>(order.variant), order.workers, order.pin};
  bool fresh = true;
  serve_visits(run, study, spec, order.at, board, made, [&](Visit& visit) {
    leave_out_what_others_spent(visit);
    if (fresh && visit.began_ns > order.begun_ns) {
      visit.renewing_s += static_cast<double>(visit.began_ns - order.begun_ns) * 1e-9;
    }
    fresh = false;
  });
  return 0;
}

}  // namespace

void serve_by_launcher(Channel run, const InputOrder& order, std::size_t cell) {
  asked_to_leave = 0;
  struct sigaction action {};
  action.sa_handler = on_leave;
  ::sigaction(SIGTERM, &action, nullptr);
  try {
    Relay(std::move(run), order, cell).serve();
  } catch (const std::exception& error) {
    ::dprintf(STDERR_FILENO, "%s\n", error.what());
  }
  ::_exit(1);
}

}  // namespace antcrew::internal

namespace antcrew::study_layer {

std::optional<int> serve_launched(int argc, char** argv, const std::vector<const StudyBase*>& studies) {
  if (argc < 5 || std::strcmp(argv[1], internal::launched_flag) != 0) return std::nullopt;
  const std::string folder = argv[2];
  const auto variant = static_cast<std::size_t>(std::strtoul(argv[4], nullptr, 10));
  const auto found = std::find_if(studies.begin(), studies.end(),
                                  [&](const StudyBase* study) { return text_hash(study->title()) == argv[3]; });
  if (found == studies.end() || variant >= (*found)->variants().size() || (*found)->launched(variant) == nullptr) {
    bad_input("study.launched", argv[0], "it was launched for a cell of a study that it does not have",
              "launch the program that runs the study");
  }
  const internal::LaunchedCrew& crew = *(*found)->launched(variant);
  if (!crew.join(argc, argv)) return 0;
  const int code = internal::lead(**found, folder);
  internal::flush_prints();
  if (code == 0) crew.leave();
  return code;
}

}  // namespace antcrew::study_layer
