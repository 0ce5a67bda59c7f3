// What the threads of another process, and of all below it, are doing at this moment, as the kernel tells it.
//
//   ThreadSamples looks(pid);
//   for (const SeenThread& thread : looks.now()) if (thread.in == SeenThread::In::lock) use(thread.address);
//
// Some 5 µs a thread once it is known, 15 µs when it is new. What a sleeping thread waits for is told only to who has
// the rights of a debugger over it (a parent over its child has them, unless the system says otherwise): see refused().
// Not thread-safe; does not touch the process looked at.
#pragma once

#include <sys/types.h>

#include <cstdint>
#include <map>
#include <memory>
#include <vector>

#include "antcrew/machine/layer.hpp"

namespace antcrew::internal {

struct SeenThread {
  enum class In {
    ready,     // on a processor or waiting for one
    lock,      // a contended mutex of the C library
    join,      // waits for a thread to end
    word,      // another word in memory that other threads change: a barrier, a latch, a future
    signal,    // a condition variable
    child,     // waits for a process to end
    sleep,     // until a time
    input,     // reading, writing or waiting for a file, a pipe or a socket
    memory,    // the kernel is bringing a page
    not_told,  // sleeps, and the kernel does not tell in what
    ended      // and not yet collected
  };
  pid_t process = 0;
  pid_t thread = 0;
  In in = In::ready;
  std::uint64_t address = 0;    // of the lock or the word
  std::int64_t ran_ns = -1;     // since it began; -1 = not told
  std::int64_t waited_ns = -1;  // runnable and not running, since it began

  friend bool operator==(const SeenThread&, const SeenThread&) = default;
};

// A line of /proc/PID/task/TID/syscall: what a sleeping thread sleeps in.
SeenThread::In asleep_in(const char* line, std::uint64_t& address) noexcept;

class ThreadSamples {
 public:
  explicit ThreadSamples(pid_t root);
  ~ThreadSamples();
  ThreadSamples(const ThreadSamples&) = delete;
  ThreadSamples& operator=(const ThreadSamples&) = delete;

  // In the order of processes and threads by number, which is mostly that of their birth.
  const std::vector<SeenThread>& now();
  // Whether the kernel kept to itself what a sleeping thread sleeps in.
  bool refused() const noexcept { return refused_; }

 private:
  struct Files {
    int state = -1;
    int times = -1;
    int call = -1;
    int children = -1;
    bool seen = false;
  };
  struct Folder;
  void look_at_process(pid_t process);
  bool look_at_thread(pid_t process, pid_t thread, Files& files);
  static void close(Files& files) noexcept;

  pid_t root_;
  std::map<std::pair<pid_t, pid_t>, Files> known_;
  std::map<pid_t, std::unique_ptr<Folder>> folders_;  // of the threads of each process
  std::vector<SeenThread> threads_;
  bool refused_ = false;
};

}  // namespace antcrew::internal
