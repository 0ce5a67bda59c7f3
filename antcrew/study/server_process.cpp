#include "antcrew/study/server_process.hpp"

#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <cstdio>
#include <cstring>
#include <utility>

#include "antcrew/base/bad_message.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/usage.hpp"
#include "antcrew/study/host.hpp"

namespace antcrew::internal {
namespace {

constexpr double look_every_s = 0.05;
constexpr double late_look_s = 1.0;  // after the one before

}  // namespace

ServerProcess::ServerProcess(const char* layer, const char* what, const std::function<void(Channel)>& serve) {
  auto [mine, theirs] = Channel::pair(layer);
  std::fflush(nullptr);  // or the other side would print it again
  pid_ = ::fork();
  if (pid_ < 0) {
    could_not_run(std::string(layer) + ".fork", layer,
                  std::string("no process for ") + what + " (" + std::strerror(errno) + ")",
                  "raise the limit of processes (ulimit -u) or free some memory");
  }
  if (pid_ == 0) {
    mine.close();
    serve(std::move(theirs));
    ::_exit(1);
  }
  own_ = true;
  channel_ = std::move(mine);
}

ServerProcess& ServerProcess::operator=(ServerProcess&& other) noexcept {
  channel_ = std::move(other.channel_);
  other.channel_.close();
  pid_ = std::exchange(other.pid_, 0);
  own_ = other.own_;
  paused_ = other.paused_;
  looked_ns_ = other.looked_ns_;
  return *this;
}

// Whether it has ended. A server may be stopped by what it began, and then would never tell of anything. Where this
// process did not look for long, both were stopped, as when a batch system suspends a job: nobody below did that.
bool ServerProcess::look_at_process(bool late, Heard& heard) noexcept {
  if (pid_ <= 0) return true;
  if (!own_) return has_ended(pid_);
  siginfo_t info{};
  if (::waitid(P_PID, static_cast<id_t>(pid_), &info, WEXITED | WSTOPPED | WNOHANG | WNOWAIT) != 0)
    return errno == ECHILD;
  if (info.si_pid != pid_) return false;
  if (info.si_code != CLD_STOPPED && info.si_code != CLD_TRAPPED) return true;
  heard.was_stopped = heard.was_stopped || !late;
  ::kill(pid_, SIGCONT);
  return false;
}

// Limits count looks, not a clock that may jump while nobody looks. One that has ended is not waited for, though a
// child of it may keep the channel open.
ServerProcess::Heard ServerProcess::hear(const Waiting& waiting) {
  struct Over {};
  Heard heard;
  bool ended = false;
  looked_ns_ = now_ns();
  const auto is_late = [&] {
    const std::int64_t before_ns = std::exchange(looked_ns_, now_ns());
    const bool late = static_cast<double>(looked_ns_ - before_ns) * 1e-9 > late_look_s;
    heard.paused = heard.paused || late;
    return late;
  };
  const auto look = [&] {
    const bool late = is_late();
    if (waiting.stop && waiting.stop()) throw Stopped{};
    if (ended) throw Over{};  // and there was time enough for a last message
    ended = look_at_process(late, heard);
    heard.over = waiting.over && waiting.over();
    if (heard.over) throw Over{};
  };
  try {
    if (!waiting.sample) {
      heard.message = channel_.receive(look_every_s, look);
    } else {
      heard.message = channel_.receive_looking([&] {
        if (static_cast<double>(now_ns() - looked_ns_) * 1e-9 >= look_every_s) look();
        return waiting.sample();
      });
    }
    is_late();
  } catch (const Over&) {
  } catch (const BadMessage& error) {
    heard.trouble = error.what();
  }
  return heard;
}

bool ServerProcess::pause() noexcept {
  paused_ = ::kill(-pid_, SIGSTOP) == 0;
  return paused_;
}

void ServerProcess::go_on() noexcept {
  if (std::exchange(paused_, false)) ::kill(-pid_, SIGCONT);
}

int ServerProcess::end(double patience_s) noexcept {
  channel_.close();
  int status = 0;
  const pid_t pid = std::exchange(pid_, 0);
  if (pid <= 0 || !own_) return status;
  pid_t waited = 0;
  for (std::int64_t left_ms = static_cast<std::int64_t>(patience_s * 1e3); left_ms > 0 && waited == 0; --left_ms) {
    waited = ::waitpid(pid, &status, WNOHANG);
    if (waited == 0) ::usleep(1000);
  }
  if (waited != 0) return status;
  ::kill(-pid, SIGKILL);
  ::kill(pid, SIGKILL);
  while (::waitpid(pid, &status, 0) < 0 && errno == EINTR) {
  }
  return status;
}

}  // namespace antcrew::internal
