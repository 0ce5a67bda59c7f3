// What workers of a TaskCrew do while they wait inside a loop for something that no task does, as those of a pipeline
// do for an item: they help with what is begun in steps. A step is whatever runs below a StageHelp::Step; loops, forks
// and groups in it descend from a scope that only steps are in, and nothing else is taken up.
//
// Protocol. Who makes work known stores true into the word that is waited for and calls wake_one() or wake_all(); who
// waits is marked asleep before it looks at the word. All of it is sequentially consistent.
#pragma once

#include <atomic>

#include "antcrew/log/lanes.hpp"

namespace antcrew::internal {

struct Scope;
class TaskPool;
class TaskWorker;

class StageHelp {
 public:
  // How the time of waiting is told, in a worker that has a lane.
  class Told {
   public:
    virtual Frame frame() = 0;
    virtual void rests() = 0;  // before and after it was without work
    virtual void rested(Lane& lane) = 0;

   protected:
    ~Told() = default;
  };

  // pool: null where nobody can help.
  explicit StageHelp(TaskPool* pool) noexcept : pool_(pool) {}
  ~StageHelp();
  StageHelp(const StageHelp&) = delete;
  StageHelp& operator=(const StageHelp&) = delete;

  // By the first worker, inside the loop that all of them are in; the others may not come before. Nobody helps in a
  // crew of one, in a caller that is no worker, and without memory.
  void open() noexcept;
  bool is_open() const noexcept { return scope_ != nullptr; }

  // By a worker of the loop, when it is open: until the word is true. told: null without a lane.
  void wait_until(const std::atomic<bool>& word, Told* told) const;
  void wake_one() const noexcept;
  void wake_all() const noexcept;

  // The calling worker is in a step.
  class Step {
   public:
    explicit Step(const StageHelp& help) noexcept;
    ~Step();
    Step(const Step&) = delete;
    Step& operator=(const Step&) = delete;

   private:
    TaskWorker* worker_;
    Scope* before_ = nullptr;
  };

 private:
  TaskPool* pool_;
  Scope* scope_ = nullptr;
};

}  // namespace antcrew::internal
