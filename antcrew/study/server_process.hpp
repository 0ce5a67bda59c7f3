// A process of a run that serves it over a channel: the input process, a cell process, the one that begins commands.
//
//   ServerProcess server("study", "the input", [](Channel run) { … serve it, and end by _exit() … });
//   server.send(request);
//   ServerProcess::Heard heard = server.hear({.stop = asked_to_stop});
//
// It ends when it is asked to, or when its channel closes since the run is gone. Not thread-safe.
#pragma once

#include <sys/types.h>

#include <cstdint>
#include <functional>
#include <optional>
#include <string>

#include "antcrew/study/channel.hpp"
#include "antcrew/study/layer.hpp"

namespace antcrew::internal {

class ServerProcess {
 public:
  // Asked while nothing comes, every 50 ms.
  struct Waiting {
    std::function<bool()> stop = {};      // true: Stopped is thrown
    std::function<bool()> over = {};      // true: waiting has an end
    std::function<double()> sample = {};  // called at once, then whenever as many seconds have passed as it said
  };
  struct Heard {
    std::optional<std::string> message;  // none = it ended, or closed its channel, or Waiting::over said so
    std::string trouble;                 // or announced more than a message can be
    bool over = false;
    bool paused = false;       // a look came far too late: this process or the whole machine was stopped meanwhile
    bool was_stopped = false;  // somebody stopped the server, alone; it was made to go on
  };

  ServerProcess() noexcept = default;
  // Forks; this process must have one thread. `serve` is called in the new one, and must not return. Throws Error
  // (`layer`.fork, `layer`.channel) where the system refuses.
  ServerProcess(const char* layer, const char* what, const std::function<void(Channel)>& serve);
  // Another process's child, which that one ends and waits for.
  ServerProcess(pid_t process, Channel channel) noexcept : channel_(std::move(channel)), pid_(process) {}
  ServerProcess(ServerProcess&& other) noexcept { *this = std::move(other); }
  ServerProcess& operator=(ServerProcess&& other) noexcept;
  ~ServerProcess() = default;

  bool running() const noexcept { return pid_ > 0; }
  pid_t pid() const noexcept { return pid_; }

  // False when it is gone. Throws BadMessage where the message is too long.
  bool send(const std::string& message) { return channel_.send(message); }
  // Waits for its next message. Throws Stopped.
  Heard hear(const Waiting& waiting);
  // The channel that came beside the message just heard.
  Channel take_passed() { return channel_.take_passed(); }

  // It and its process group, until go_on().
  bool pause() noexcept;
  void go_on() noexcept;

  // Closes the channel, by which it ends itself and what is below it; kills it and its process group where it has not
  // done so after this time. How it ended, as waitpid() tells it; 0 where somebody else waited for it.
  int end(double patience_s) noexcept;

 private:
  bool look_at_process(bool late, Heard& heard) noexcept;

  Channel channel_;
  pid_t pid_ = 0;
  bool own_ = false;  // a child of this process
  bool paused_ = false;
  std::int64_t looked_ns_ = 0;
};

}  // namespace antcrew::internal
