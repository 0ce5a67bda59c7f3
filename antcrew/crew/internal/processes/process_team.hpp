// What both kinds of crews of processes are made of: a board, workers with sockets, handing out ranges, taking in what
// comes back, and the end of a worker that did not do its part.
#pragma once

#include <sys/types.h>

#include <atomic>
#include <cstdint>
#include <exception>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "antcrew/crew/crew_options.hpp"
#include "antcrew/crew/internal/ancestry.hpp"
#include "antcrew/crew/internal/processes/after_fork.hpp"
#include "antcrew/crew/internal/processes/parcel.hpp"
#include "antcrew/crew/internal/processes/process_board.hpp"
#include "antcrew/crew/process_errors.hpp"
#include "antcrew/crew/process_moves.hpp"
#include "antcrew/machine/enough_processors.hpp"

namespace antcrew::internal {

class ProcessTeam {
 public:
  ProcessTeam(const char* crew, int workers, const CrewOptions& options);
  virtual ~ProcessTeam() = default;
  ProcessTeam(const ProcessTeam&) = delete;
  ProcessTeam& operator=(const ProcessTeam&) = delete;

  // Runs one region and gives the sink what comes back. Throws WorkerThrew, ProcessDied, Error (crew.busy, crew.forked,
  // crew.start), and what the sink throws; then nothing of the region runs any more. A stop is looked at every 2 ms.
  void run(RegionOrder order, Sink& sink, const AnyStopToken& stop);

  int workers() const noexcept { return memory_.workers(); }
  const CrewFacts& facts() const noexcept { return facts_; }
  MovedData moved() const;
  // Whether the calling process is a worker of this team.
  bool inside() const noexcept;
  AfterFork& after_fork() noexcept { return after_fork_; }
  // Which way results come back when this one is asked for.
  Way granted(Way way) const noexcept { return can_hand_over_ ? way : Way::copied; }

 protected:
  struct Worker {
    pid_t pid = 0;  // 0 = none
    Descriptor process;
    Descriptor socket;       // the parent's end
    Descriptor worker_side;  // the other one, where the parent keeps it
    bool ended = true;       // its part in this region
    std::uint32_t parcels = 0;
  };

  // Begins the region on workers 0 … count-1, and returns when all of them have ended their parts, having given the
  // sink what they sent; notes the first that died.
  virtual void region(int count, Sink& sink) = 0;
  virtual bool forks_each_time() const noexcept = 0;
  // Ends whatever still runs of the region.
  virtual void give_up() noexcept = 0;

  // Made in this process, not inherited.
  bool own() const noexcept { return made_at_ == fork_depth(); }
  Board& board() noexcept { return memory_.board(); }
  WorkerSlot& slot(int worker) noexcept { return memory_.slot(worker); }
  pid_t fork_worker(int worker);
  // Opens the descriptor that tells of its end, where the system has such.
  void watch_end(Worker& worker);
  // Without one: whether it has ended, asked now; waiting for that.
  static bool has_ended(const Worker& worker) noexcept;
  static void wait_for_end(const Worker& worker) noexcept;
  // How long to sleep in poll() at the most, in ms, so as to ask in time; -1 = until something comes.
  int poll_limit(bool asks) const noexcept;
  // Whether the region under way was to be stopped; then workers take no further pieces. To be called between sleeps.
  bool look_at_stop() noexcept;
  bool may_be_stopped() const noexcept { return stop_ != nullptr; }
  // In a forked worker, before anything else.
  void become_worker(int worker);
  // Reads one parcel; false when the worker died before it was whole.
  bool receive_parcel(int worker, Sink& sink);
  void take_letter(int worker, Sink& sink);
  static void kill(const Worker& worker) noexcept;
  // Waits for its end, and takes notice of it: how it ended, as waitpid() tells; taken_notice_of where the program
  // itself had taken notice before.
  static constexpr int taken_notice_of = -1;
  int reap(Worker& worker) noexcept;
  void note_end(int worker, int status);
  void note_deadline();
  bool overdue() const noexcept;
  // Until the deadline; -1 = there is none.
  std::int64_t left_ns() const noexcept;
  bool may_go_on() const noexcept { return tries_ <= facts_.asked.processes.retries; }

  const char* crew_;
  CrewFacts facts_;
  BoardMemory memory_;
  std::vector<Worker> workers_;
  std::optional<ProcessDied::Facts> died_;
  int tries_ = 1;
  MovedData::Side parent_moved_;
  AfterFork after_fork_;
  std::int64_t fork_ns_ = 0;
  std::int64_t forks_ = 0;

 private:
  friend class Inbox;
  void refuse_if_ends_are_ignored() const;
  void place(const RegionOrder& order);
  std::vector<Range> missing(std::size_t n);
  void throw_first_exception();

  std::atomic<bool> busy_{false};
  int made_at_ = fork_depth();
  bool can_hand_over_ = true;
  std::vector<Range> delivered_;
  std::int64_t deadline_ns_ = 0;
  const AnyStopToken* stop_ = nullptr;  // of the region under way; null: nobody can ask
};

// Workers that are forked for each region.
class ForkedTeam : public ProcessTeam {
 public:
  ForkedTeam(int workers, const CrewOptions& options);

 protected:
  bool forks_each_time() const noexcept override { return true; }
  void region(int count, Sink& sink) override;
  void give_up() noexcept override;

 private:
  void fork_one(int worker);
  void wait_and_take(int count, Sink& sink);
  int wait_for_letters(int count, Sink& sink);
  void take_end(int worker, Sink& sink);
  bool look_at(int worker, short socket_events, short process_events, Sink& sink);
};

// Workers that stay.
class StandingTeam : public ProcessTeam {
 public:
  StandingTeam(int workers, const CrewOptions& options);
  ~StandingTeam() override;

 protected:
  bool forks_each_time() const noexcept override { return false; }
  void region(int count, Sink& sink) override;
  void give_up() noexcept override;

 private:
  void start(int worker);
  [[noreturn]] void serve(int worker, Descriptor socket);
  void repair();
  void post();
  bool send_arguments(int worker);
  bool take_news(int worker, Sink& sink);
  void look_for_the_dead(Sink& sink);

  void make_room() noexcept;

  EnoughProcessors processors_;  // for the workers and the caller
  Journal* journal_at_start_ = nullptr;
  LaneBook* lanes_at_start_ = nullptr;
  std::map<std::uint64_t, std::weak_ptr<CommonMemory>> told_;
  std::vector<std::map<std::uint64_t, bool>> knows_;  // each worker: serial numbers of arrays that it has mapped
  std::uint32_t region_ = 0;
};

}  // namespace antcrew::internal
