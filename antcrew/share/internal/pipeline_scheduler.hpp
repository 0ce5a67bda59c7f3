// Who does what next in a Pipeline: which item goes to which stage, without knowing what items are.
//
// One lock guards all of it; it is held for the choice of the next step only. Workers without a step sleep; those of a
// TaskCrew help meanwhile with loops, forks and groups in the stages, which is why all steps are in a scope of their
// own. Whoever has chosen a step wakes one of them when there is another step: as many wake as there are new steps. All
// room is made at the beginning but for the numbers of items that were left out.
#pragma once

#include <array>
#include <atomic>
#include <condition_variable>
#include <cstddef>
#include <cstdint>
#include <exception>
#include <mutex>
#include <string>
#include <vector>

#include "antcrew/base/enough.hpp"
#include "antcrew/crew/stage_help.hpp"
#include "antcrew/log/lanes.hpp"

namespace antcrew {

// What a run of a pipeline did.
struct PipelineFacts {
  std::size_t read = 0;     // items that the source gave
  std::size_t passed = 0;   // of them, those that went through the last stage
  std::size_t dropped = 0;  // left out by a stage
  struct Stage {
    std::string name;
    double busy_s = 0;  // of all workers together, inside this stage
  };
  std::vector<Stage> stages;  // the source first; the busiest one that takes one item at a time sets the pace
};

namespace internal {

enum class StageKind { many, alone, as_read };

struct StageFacts {
  std::string name;
  StageKind kind = StageKind::many;
  int at_most = 0;  // workers in a stage for many; 0 = all
};

class PipelineScheduler {
 public:
  // pool: of the TaskCrew whose workers work here; null for other crews.
  PipelineScheduler(const std::vector<StageFacts>& stages, std::size_t room, const AnyStopToken& stop, TaskPool* pool);
  PipelineScheduler(const PipelineScheduler&) = delete;
  PipelineScheduler& operator=(const PipelineScheduler&) = delete;

  struct Calls {
    bool (*read)(void* self, void* item);                     // false at the end
    bool (*pass)(void* self, void* item, std::size_t stage);  // false when the item is left out
    void* self;
  };
  // One worker's share: until nothing is left for anybody.
  void work(const Calls& calls, void* (*item_at)(void* items, std::size_t k), void* items);
  // When all workers are back: throws what a stage threw.
  PipelineFacts finish();

 private:
  static constexpr std::size_t source = 0;  // stage k of the pipeline is place k + 1 here
  struct Waiting {
    std::size_t item;
    std::uint64_t number;  // in the order of reading
  };
  struct Place {
    std::string name;
    StageKind kind;
    int at_most;  // workers; 0 = all
    std::vector<Waiting> waiting = {};
    int inside = 0;
    std::uint64_t next = 0;             // of a place in order: the number it takes next
    std::vector<std::uint64_t> gone{};  // of a place in order: left out before they came, a heap
    std::int64_t busy_ns = 0;
    std::uint64_t passed = 0;
    const char* logged_as = nullptr;  // while a log is open
    bool taken() const noexcept { return at_most != 0 && inside >= at_most; }
  };
  struct Step {
    std::size_t place;
    Waiting what;
  };

  bool choose(Step& step);
  bool choose_at(std::size_t place, Step& step);
  std::size_t next_at(std::size_t place) const;
  bool another_step() const;
  static constexpr std::size_t none = static_cast<std::size_t>(-1);
  bool over() const noexcept;
  void end_step(const Step& step, bool goes_on, std::int64_t ns) noexcept;
  void drop_all() noexcept;
  int shortage() const noexcept;
  void note_shortage() noexcept;
  Frame frame_of(int shortage) const noexcept;
  void wait_logged(std::unique_lock<std::mutex>& lock);
  class LoggedWait;
  void wait(std::unique_lock<std::mutex>& lock);
  void end_all() noexcept;
  void leave_out(std::size_t from, std::uint64_t number);
  void advance(Place& place);

  StageHelp help_;
  bool begun_ = false;
  // Of those that help: whether to come back for a step. Changed under the lock.
  std::atomic<bool> has_step_{false};
  std::mutex mutex_;
  std::condition_variable changed_;
  int asleep_ = 0;
  std::vector<Place> places_;
  std::vector<std::size_t> free_;  // items not in use
  std::size_t room_;
  std::uint64_t numbers_ = 0;
  bool ended_ = false;  // nothing more is read
  std::size_t passed_ = 0;
  std::size_t dropped_ = 0;
  std::exception_ptr error_;
  AnyStopToken stop_;

  // While a log is open: what has been short for how long, so that a sleeper can be told what it mostly waited for.
  static constexpr int most_shortages = 34;
  static constexpr int full = 0, at_source = 1, first_place = 2;
  using Shortages = std::array<std::int64_t, most_shortages>;
  bool logged_ = false;
  int longest_since(Shortages before) const noexcept;
  Shortages short_ns_{};
  int short_now_ = at_source;
  std::int64_t short_since_ns_ = 0;
};

}  // namespace internal
}  // namespace antcrew
