// Runs commands one at a time in a small process of its own, so that what a trial costs does not grow with this one's
// memory, and times them from their start to their known end.
//
//   Runner runner;                       // forks; this process must have one thread
//   Ended ended = runner.run(start, stop);
//
// The small process adopts what a command leaves behind, so that it can be told, waited for and ended; it ends itself,
// and all below it, when this one does. Commands have no terminal and a session of their own. Not thread-safe.
#pragma once

#include <sys/types.h>

#include <cstdint>
#include <functional>
#include <string>
#include <vector>

#include "antcrew/study/server_process.hpp"
#include "antcrew/sweep/layer.hpp"

namespace antcrew::internal {

struct Start {
  std::vector<std::string> words;        // the first is the path of the program
  std::vector<std::string> environment;  // NAME=value: all that it gets
  std::string working_folder;
  std::string input;               // file; empty = nothing to read
  std::string output;              // file for what it prints
  std::string errors;              // the same for standard error
  std::string watched;             // folder whose files count as written; empty = none
  std::string scratch;             // folder that is removed where the run itself is gone; empty = none
  double limit_s = 0;              // counted in looks, so that a machine that sleeps makes no time-out; 0 = none
  double patience_s = 0.2;         // for what goes on after its end
  std::uint64_t memory_bytes = 0;  // of all its processes together; 0 = no limit
  std::uint64_t output_bytes = 0;  // printed, or written into the watched folder; 0 = no limit
  bool announce = false;           // say the number of its process when it begins
};

struct Ended {
  enum class Why { by_itself, time, memory, output, not_begun };
  Why why = Why::by_itself;
  std::string trouble;  // why it could not be begun
  int status = 0;       // as waitpid() tells it
  std::int64_t began_ns = 0;
  double wall_s = 0;
  double user_s = 0;  // of all its processes, also those that were left behind and have ended since
  double system_s = 0;
  std::int64_t switches_voluntary = 0;
  std::int64_t switches_forced = 0;
  std::int64_t faults_minor = 0;
  std::int64_t faults_major = 0;
  std::uint64_t peak_bytes = 0;  // of its largest process; 0 = no more than the runner's own
  std::uint64_t tree_bytes = 0;  // of all together, the most at a look; 0 = it was never looked at
  int looks = 0;
  int most_processes = 0;   // at a look
  int most_threads = 0;     // of all its processes, but for those of one thread that wait for a child
  bool ignored = false;     // it went on after it was asked to end
  bool paused = false;      // a look came far too late: the machine, or this run, was stopped meanwhile
  bool stopped_us = false;  // the runner was stopped by somebody, and was made to go on
  int left = 0;             // processes that went on after its end
  double left_for_s = 0;    // so long
  double left_cpu_s = 0;
  bool left_to_the_end = false;  // they had to be ended
  std::string left_names;
};

class Runner {
 public:
  Runner();
  ~Runner();
  Runner(const Runner&) = delete;
  Runner& operator=(const Runner&) = delete;

  // `stop` is asked while waiting; where it says yes, all is ended and Stopped is thrown.
  Ended run(const Start& start, const std::function<bool()>& stop);

  // The same in two steps, for several runners at once.
  void begin(const Start& start);
  Ended wait(const std::function<bool()>& stop);
  // As wait(): `began` is called with the number of the process that was begun, then `look` again and again, each time
  // after as many seconds as it said. Needs `announce`.
  Ended wait_looking(const std::function<void(pid_t)>& began, const std::function<double()>& look,
                     const std::function<bool()>& stop);

 private:
  void fork();
  void end() noexcept;
  Ended hear(ServerProcess::Waiting waiting, const std::function<void(pid_t)>& began);

  ServerProcess server_;
};

}  // namespace antcrew::internal
