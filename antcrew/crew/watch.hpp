// A look at a crew where it lives, outside any study.
//
//   Watch watch(crew);
//   handle_requests();                        // calls the crew's loops, forks, …
//   CrewLog log = watch.log();
//   log.workers[1].busy_s / log.calls_s;      // how well worker 1 was used
//
// While watched, workers read the clock at the borders of their work (lanes.hpp), and add up. Made, asked and ended by
// the thread that calls the crew, between calls: what other threads have it do meanwhile is not seen. One watch a
// program at a time, and none while a study looks at a call: Error (watch.busy). The crew must outlive it.
#pragma once

#include <cstdint>
#include <vector>

#include "antcrew/log/lane_book.hpp"
#include "antcrew/log/lane_sums.hpp"

namespace antcrew {

struct CrewLog {
  struct Worker {
    double busy_s = 0;  // in the body's work
    double cpu_s = 0;   // of that, on a processor; the rest it was blocked or waited to run. Read some 20 µs apart
    std::int64_t pieces = 0;  // ranges or tasks that it ran
    std::int64_t stolen = 0;  // of them, tasks that it took from another worker
  };

  double watched_s = 0;
  std::int64_t calls = 0;  // outermost ones
  double calls_s = 0;      // from the start of each call to its end
  std::vector<Worker> workers;

  // Worker-seconds inside calls in which a worker had nothing to do: waking, waiting for the last one, lack of work.
  double idle_s() const noexcept;
  // Busy worker-seconds over the worker-seconds of all calls; 0 when there were none.
  double utilisation() const noexcept;
};

class Watch {
 public:
  template <class Crew>
  explicit Watch(Crew& crew) : Watch(crew.workers()) {}
  ~Watch();
  Watch(const Watch&) = delete;
  Watch& operator=(const Watch&) = delete;

  // Since the watch was made, but for what ledger() looked at.
  CrewLog log() const;

  // Runs work() with a log of what every worker does, and adds up where their seconds went: every moment of every
  // worker in one state. For stretches of a second or so: a log that is full says so (`withheld`). By the thread that
  // calls the crew; what other threads have it do meanwhile is outside. Throws Error (watch.busy) while another such
  // log is open, (log.memory), and what work() throws. ledger_text() of the report makes a text of it.
  template <class Work>
  internal::LaneSums ledger(Work&& work) {
    const Paused paused(*book_);
    const Logged logged(book_->lanes());
    work();
    return logged.sums();
  }

 private:
  explicit Watch(int workers);

  class Paused {
   public:
    explicit Paused(internal::LaneBook& book);
    ~Paused();
    Paused(const Paused&) = delete;
    Paused& operator=(const Paused&) = delete;

   private:
    internal::LaneBook& book_;
  };

  class Logged {
   public:
    explicit Logged(int workers);
    ~Logged();
    Logged(const Logged&) = delete;
    Logged& operator=(const Logged&) = delete;
    internal::LaneSums sums() const;

   private:
    internal::LaneBook* book_;
    double cpu_before_s_ = 0;
  };

  internal::LaneBook* book_;
  std::int64_t start_ns_;
};

}  // namespace antcrew
