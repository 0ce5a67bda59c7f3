#include "antcrew/sweep/internal/runner.hpp"

#include <sys/types.h>

#include <cstdlib>
#include <fstream>
#include <set>
#include <type_traits>
#include <utility>

#include "antcrew/base/bad_message.hpp"
#include "antcrew/machine/process_tree.hpp"
#include "antcrew/record/packed.hpp"
#include "antcrew/study/host.hpp"
#include "antcrew/sweep/internal/runner_side.hpp"

namespace antcrew::internal {
namespace {

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

template <>
inline constexpr const char* message_name<Start> = "start a command";
template <>
inline constexpr const char* message_name<Ended> = "command ended";

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, Start>
void fields(F&& f, R& s) {
  f("words", s.words);
  f("environment", s.environment);
  f("working_folder", s.working_folder);
  f("input", s.input);
  f("output", s.output);
  f("errors", s.errors);
  f("watched", s.watched);
  f("scratch", s.scratch);
  f("limit_s", s.limit_s);
  f("patience_s", s.patience_s);
  f("memory_bytes", s.memory_bytes);
  f("output_bytes", s.output_bytes);
  f("announce", s.announce);
}
template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, Ended>
void fields(F&& f, R& e) {
  f("why", e.why);
  f("trouble", e.trouble);
  f("status", e.status);
  f("began_ns", e.began_ns);
  f("wall_s", e.wall_s);
  f("user_s", e.user_s);
  f("system_s", e.system_s);
  f("switches_voluntary", e.switches_voluntary);
  f("switches_forced", e.switches_forced);
  f("faults_minor", e.faults_minor);
  f("faults_major", e.faults_major);
  f("peak_bytes", e.peak_bytes);
  f("tree_bytes", e.tree_bytes);
  f("looks", e.looks);
  f("most_processes", e.most_processes);
  f("most_threads", e.most_threads);
  f("ignored", e.ignored);
  f("paused", e.paused);
  f("left", e.left);
  f("left_for_s", e.left_for_s);
  f("left_cpu_s", e.left_cpu_s);
  f("left_to_the_end", e.left_to_the_end);
  f("left_names", e.left_names);
}

std::string to_message(const CommandRequest& request) {
  return pack(request);
}
std::string to_message(const CommandReply& reply) {
  return pack(reply);
}
Start start_from(const std::string& message) {
  return std::get<Start>(unpack<CommandRequest>(message));
}
CommandReply command_reply_from(const std::string& message) {
  return unpack<CommandReply>(message);
}

Runner::Runner() {
  adopt_orphans();
  fork();
}

Runner::~Runner() {
  end();
}

void Runner::fork() {
  server_ = ServerProcess("sweep", "beginning commands", &serve_commands);
  living_runners().insert(server_.pid());
}

// It sees the channel close, and ends what runs.
void Runner::end() noexcept {
  living_runners().erase(server_.pid());
  server_.end(5);
}

void Runner::begin(const Start& start) {
  const std::string order = to_message(CommandRequest(start));
  if (!server_.running()) fork();
  if (server_.send(order)) return;
  end();
  fork();
  server_.send(order);
}

Ended Runner::hear(ServerProcess::Waiting waiting, const std::function<void(pid_t)>& began) {
  Ended lost;
  lost.why = Ended::Why::not_begun;
  lost.trouble = "the process that began it was ended from outside";
  try {
    ServerProcess::Waiting first = waiting;
    if (began) first.sample = {};  // there is nothing to look at yet
    ServerProcess::Heard heard = server_.hear(first);
    bool was_stopped = heard.was_stopped;
    while (heard.message) {
      CommandReply reply = command_reply_from(*heard.message);
      if (Ended* ended = std::get_if<Ended>(&reply)) {
        ended->stopped_us = was_stopped;
        return std::move(*ended);
      }
      if (began) began(std::get<Started>(reply).process);
      heard = server_.hear(waiting);
      was_stopped = was_stopped || heard.was_stopped;
    }
    if (!heard.trouble.empty()) lost.trouble = "the process that began it was not understood: " + heard.trouble;
  } catch (const Stopped&) {
    end();
    throw;
  } catch (const BadMessage& error) {
    lost.trouble = std::string("the process that began it was not understood: ") + error.what();
  }
  end();
  // What it had begun has come to this process.
  end_all_below([](pid_t other) { return living_runners().count(other) > 0 || below_a_runner(other); });
  return lost;
}

Ended Runner::wait(const std::function<bool()>& stop) {
  return hear({stop, {}, {}}, {});
}

Ended Runner::wait_looking(const std::function<void(pid_t)>& began, const std::function<double()>& look,
                           const std::function<bool()>& stop) {
  return hear({stop, {}, look}, began);
}

Ended Runner::run(const Start& start, const std::function<bool()>& stop) {
  begin(start);
  return wait(stop);
}

}  // namespace antcrew::internal
