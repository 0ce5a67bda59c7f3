#include "antcrew/sweep/internal/runner.hpp"

#include <fcntl.h>
#include <signal.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <fstream>
#include <set>
#include <utility>

#include "antcrew/base/error.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/process_tree.hpp"
#include "antcrew/study/host.hpp"
#include "antcrew/sweep/internal/runner_side.hpp"

namespace antcrew::internal {
namespace {

constexpr double look_every_s = 0.05;

// Fields of text or numbers, each followed by a zero byte, which none of them holds.
class Fields {
 public:
  explicit Fields(const std::string& message) : message_(message) {}
  std::string text() {
    const std::size_t end = std::min(message_.find('\0', at_), message_.size());
    std::string field = message_.substr(at_, end - at_);
    at_ = std::min(end + 1, message_.size());
    return field;
  }
  double number() { return std::strtod(text().c_str(), nullptr); }
  std::int64_t whole() { return std::strtoll(text().c_str(), nullptr, 10); }
  std::vector<std::string> texts() {
    std::vector<std::string> all(static_cast<std::size_t>(std::max<std::int64_t>(0, whole())));
    for (std::string& one : all) one = text();
    return all;
  }

 private:
  const std::string& message_;
  std::size_t at_ = 0;
};

class Message {
 public:
  Message& text(const std::string& field) {
    text_ += field;
    text_ += '\0';
    return *this;
  }
  Message& number(double value) {
    char digits[40];
    std::snprintf(digits, sizeof digits, "%.17g", value);
    return text(digits);
  }
  template <class T>
  Message& whole(T value) {
    return text(std::to_string(value));
  }
  Message& texts(const std::vector<std::string>& all) {
    whole(all.size());
    for (const std::string& one : all) text(one);
    return *this;
  }
  std::string take() { return std::move(text_); }

 private:
  std::string text_;
};

std::set<pid_t>& living_runners() {
  static std::set<pid_t> all;
  return all;
}

bool below_a_runner(pid_t process) {
  for (int steps = 0; steps < 1000 && process > 1; ++steps) {
    std::ifstream file("/proc/" + std::to_string(process) + "/stat");
    std::string text;
    std::getline(file, text);
    const std::size_t bracket = text.rfind(')');
    if (bracket == std::string::npos || bracket + 4 >= text.size()) return false;
    process = static_cast<pid_t>(std::strtol(text.c_str() + bracket + 4, nullptr, 10));
    if (living_runners().count(process) > 0) return true;
  }
  return false;
}

}  // namespace

std::string to_message(const Start& s) {
  return Message()
      .texts(s.words)
      .texts(s.environment)
      .text(s.working_folder)
      .text(s.input)
      .text(s.output)
      .text(s.errors)
      .text(s.watched)
      .text(s.scratch)
      .number(s.limit_s)
      .number(s.patience_s)
      .whole(s.memory_bytes)
      .whole(s.output_bytes)
      .whole(s.announce ? 1 : 0)
      .take();
}

Start start_from(const std::string& message) {
  Fields f(message);
  Start s;
  s.words = f.texts();
  s.environment = f.texts();
  s.working_folder = f.text();
  s.input = f.text();
  s.output = f.text();
  s.errors = f.text();
  s.watched = f.text();
  s.scratch = f.text();
  s.limit_s = f.number();
  s.patience_s = f.number();
  s.memory_bytes = static_cast<std::uint64_t>(f.whole());
  s.output_bytes = static_cast<std::uint64_t>(f.whole());
  s.announce = f.whole() != 0;
  return s;
}

std::string to_message(const Ended& e) {
  return Message()
      .whole(static_cast<int>(e.why))
      .text(e.trouble)
      .whole(e.status)
      .whole(e.began_ns)
      .number(e.wall_s)
      .number(e.user_s)
      .number(e.system_s)
      .whole(e.switches_voluntary)
      .whole(e.switches_forced)
      .whole(e.faults_minor)
      .whole(e.faults_major)
      .whole(e.peak_bytes)
      .whole(e.tree_bytes)
      .whole(e.looks)
      .whole(e.most_processes)
      .whole(e.most_threads)
      .whole(e.ignored ? 1 : 0)
      .whole(e.paused ? 1 : 0)
      .whole(e.left)
      .number(e.left_for_s)
      .number(e.left_cpu_s)
      .whole(e.left_to_the_end ? 1 : 0)
      .text(e.left_names)
      .take();
}

Ended ended_from(const std::string& message) {
  Fields f(message);
  Ended e;
  e.why = static_cast<Ended::Why>(f.whole());
  e.trouble = f.text();
  e.status = static_cast<int>(f.whole());
  e.began_ns = f.whole();
  for (double* value : {&e.wall_s, &e.user_s, &e.system_s}) *value = f.number();
  for (std::int64_t* value : {&e.switches_voluntary, &e.switches_forced, &e.faults_minor, &e.faults_major})
    *value = f.whole();
  e.peak_bytes = static_cast<std::uint64_t>(f.whole());
  e.tree_bytes = static_cast<std::uint64_t>(f.whole());
  for (int* value : {&e.looks, &e.most_processes, &e.most_threads}) *value = static_cast<int>(f.whole());
  e.ignored = f.whole() != 0;
  e.paused = f.whole() != 0;
  e.left = static_cast<int>(f.whole());
  e.left_for_s = f.number();
  e.left_cpu_s = f.number();
  e.left_to_the_end = f.whole() != 0;
  e.left_names = f.text();
  return e;
}

Runner::Runner() {
  adopt_orphans();
  fork();
}

Runner::~Runner() {
  end();
}

void Runner::fork() {
  int ends[2];
  if (::socketpair(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0, ends) != 0)
    could_not_run("sweep.channel", "sweep", std::string("no channel to a process (") + std::strerror(errno) + ")",
                  "raise the limit of open files (ulimit -n)");
  std::fflush(nullptr);  // or the other side would print it again
  pid_ = ::fork();
  if (pid_ < 0) {
    ::close(ends[0]);
    ::close(ends[1]);
    could_not_run("sweep.fork", "sweep", std::string("no process to begin commands (") + std::strerror(errno) + ")",
                  "raise the limit of processes (ulimit -u) or free some memory");
  }
  if (pid_ == 0) {
    ::close(ends[0]);
    serve_commands(ends[1]);
  }
  ::close(ends[1]);
  living_runners().insert(pid_);
  channel_ = Channel(ends[0]);
}

// It sees the channel close, and ends what runs.
void Runner::end() noexcept {
  channel_.close();
  if (pid_ <= 0) return;
  living_runners().erase(pid_);
  int waited = 0;
  for (int looks = 0; looks < 5000 && waited == 0; ++looks) {
    waited = ::waitpid(pid_, nullptr, WNOHANG);
    if (waited == 0) ::usleep(1000);
  }
  if (waited == 0) {
    ::kill(pid_, SIGKILL);
    ::waitpid(pid_, nullptr, 0);
  }
  pid_ = 0;
}

// A command may stop the process that began it, which then would never tell of its end. Where this process did not look
// for long, both were stopped, as when a batch system suspends a job: no command did that.
void Runner::look_at_runner() noexcept {
  constexpr std::int64_t long_ns = 1'000'000'000;
  const std::int64_t since_ns = now_ns() - std::exchange(looked_ns_, now_ns());
  int status = 0;
  if (pid_ <= 0 || ::waitpid(pid_, &status, WNOHANG | WUNTRACED) != pid_) return;
  if (WIFSTOPPED(status)) {
    was_stopped_ = was_stopped_ || since_ns < long_ns;
    ::kill(pid_, SIGCONT);
  } else {
    living_runners().erase(pid_);  // it has ended: the channel closes
    pid_ = -1;
  }
}

void Runner::begin(const Start& start) {
  was_stopped_ = false;
  looked_ns_ = now_ns();
  if (pid_ <= 0) fork();
  if (!channel_.send(to_message(start))) {
    end();
    fork();
    channel_.send(to_message(start));
  }
}

Ended Runner::ended(const std::optional<std::string>& message) {
  if (message) {
    Ended all = ended_from(*message);
    all.stopped_us = was_stopped_;
    return all;
  }
  living_runners().erase(pid_);
  end();
  // What it had begun has come to this process.
  end_all_below([](pid_t other) { return living_runners().count(other) > 0 || below_a_runner(other); });
  Ended lost;
  lost.why = Ended::Why::not_begun;
  lost.trouble = "the process that began it was ended from outside";
  return lost;
}

Ended Runner::wait(const std::function<bool()>& stop) {
  try {
    return ended(channel_.receive(look_every_s, [&] {
      look_at_runner();
      if (stop && stop()) throw Stopped{};
    }));
  } catch (const Stopped&) {
    end();
    throw;
  }
}

Ended Runner::wait_looking(const std::function<void(pid_t)>& began, const std::function<double()>& look,
                           const std::function<bool()>& stop) {
  try {
    const auto idle = [&] {
      look_at_runner();
      if (stop && stop()) throw Stopped{};
    };
    const auto first = channel_.receive(look_every_s, idle);
    if (!first || first->rfind("pid ", 0) != 0) return ended(first);
    began(static_cast<pid_t>(std::strtol(first->c_str() + 4, nullptr, 10)));
    std::int64_t asked_ns = now_ns();
    return ended(channel_.receive_looking([&] {
      if (static_cast<double>(now_ns() - asked_ns) * 1e-9 >= look_every_s) {
        idle();
        asked_ns = now_ns();
      }
      return look();
    }));
  } catch (const Stopped&) {
    end();
    throw;
  }
}

Ended Runner::run(const Start& start, const std::function<bool()>& stop) {
  begin(start);
  return wait(stop);
}

}  // namespace antcrew::internal
