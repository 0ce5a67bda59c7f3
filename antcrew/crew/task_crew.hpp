// Workers that take over pieces of work from each other: for recursion, uneven loops, and work that is only found on
// the way.
//
//   TaskCrew crew(4);
//   auto [left, right] = crew.both([&] { return search(a); }, [&] { return search(b); });
//   crew.each(n, Grain{64}, [&](std::size_t i) { … });
//   Later<Chart> chart = crew.begin([&] { return read_chart(path); });
//
// The thread that calls is worker 0 for the length of the call; the others look for work briefly after the last one and
// then sleep in the kernel. See also TaskGroup (children not known in advance) and TaskGraph (steps with dependencies).
//
// Waiting: a worker that waits inside a body (for a fork, a loop, a Later, a group, a graph) takes up only work that
// descends from what it waits for. So a body may wait for such things while it holds a lock, or a reference into a
// Tally.
// Faults: of `both`, the first function's exception goes before the second's, which is waited for first; of a loop, the
// first one thrown comes out and pieces not begun are left out. Recursion that nears the end of a stack throws Error
// (crew.stack). Threads: any may call at any time, also inside bodies, where calls become children of the calling
// worker. Threads that call at the same time share the other workers, and each is worker 0 of its own call; beyond 16
// of them a caller runs its `both` and loops by itself, in order. The destructor waits for everything begun; no call
// may be under way then. It cannot throw: an exception of work that nobody waited for is lost with the crew, unless
// settle() was called before.
#pragma once

#include <cstddef>
#include <type_traits>
#include <utility>

#include "antcrew/base/owned.hpp"
#include "antcrew/base/range.hpp"
#include "antcrew/crew/crew_options.hpp"
#include "antcrew/crew/grain.hpp"
#include "antcrew/crew/internal/loops.hpp"
#include "antcrew/crew/internal/tasks/fork.hpp"
#include "antcrew/crew/internal/tasks/outside_call.hpp"
#include "antcrew/crew/later.hpp"

namespace antcrew {

class TaskCrew : public internal::Loops<TaskCrew, Grain> {
 public:
  // Starts workers - 1 threads. Throws Error (crew.workers, crew.start).
  explicit TaskCrew(int workers, const CrewOptions& options = {});
  ~TaskCrew();
  TaskCrew(TaskCrew&&) noexcept;
  TaskCrew& operator=(TaskCrew&&) = delete;

  static constexpr const char* crew_name = "TaskCrew";
  int workers() const noexcept { return workers_; }
  const CrewFacts& facts() const noexcept;

  // Runs f here and g here or on another worker, and returns when both have ended: both answers as a pair, or nothing
  // when one of them returns nothing.
  template <class F, class G>
  auto both(F&& f, G&& g, CallPlace at = CallPlace::here()) {
    internal::TaskWorker* worker = internal::current_task_worker;
    if (worker != nullptr && &worker->pool == pool_.get()) [[likely]]
      return internal::fork(*worker, f, g);
    internal::note_place(at);
    return both_from_outside(f, g);
  }

  // ranges, each, collect, fold and more: see crew/internal/loops.hpp. Options stand behind the body, by name:
  // {.grain = Grain{64}, .stop = token}. What has not begun can be taken by any idle worker, but for one
  // piece, or some 8 µs of work, of each worker.
  static constexpr Grain usual{};
  static constexpr Grain small_pieces(std::size_t k) noexcept { return {k}; }

  // Begins fn, from any thread.
  template <class Fn>
  auto begin(Fn fn) {
    using T = std::decay_t<std::invoke_result_t<Fn&>>;
    auto* begun = new internal::BegunFn<T, Fn>(*pool_, std::move(fn));
    begun->hand_over();
    return Later<T>(begun);
  }

  // As of a ThreadCrew; here no call is ever refused, so there is nothing to hold.
  struct Hold {
    ~Hold() {}
    explicit operator bool() const noexcept { return true; }
  };
  [[nodiscard]] Hold hold() noexcept { return {}; }
  [[nodiscard]] Hold wait_to_call() noexcept { return {}; }
  [[nodiscard]] Hold try_to_call() noexcept { return {}; }

  // Waits for begun work whose handle was dropped, and throws the first exception among it. Returns how much work was
  // not waited for by its handle since the last time.
  std::uint64_t settle();

  // At the end of a study's call: settle(), counted in the record.
  void end_call();

  internal::TaskPool& pool() noexcept { return *pool_; }

 private:
  friend class internal::Loops<TaskCrew, Grain>;

  template <class F, class G>
  [[gnu::noinline, gnu::cold]] auto both_from_outside(F& f, G& g) {
    if (internal::TaskWorker* worker = internal::current_worker_of(*pool_)) {
      const internal::AgainWorker again(*worker);
      return internal::fork(*worker, f, g);
    }
    internal::OutsideCall call(*pool_);
    if (call.worker() == nullptr) return internal::one_after_the_other(f, g);
    if constexpr (std::is_void_v<decltype(internal::fork(*call.worker(), f, g))>) {
      internal::fork(*call.worker(), f, g);
      call.finish();
    } else {
      auto answers = internal::fork(*call.worker(), f, g);
      call.finish();
      return answers;
    }
  }

  void pieces(std::size_t n, Grain grain, const AnyStopToken& stop, const internal::PieceBody& body,
              const CallPlace& at);

  int workers_;
  internal::Owned<internal::TaskPool> pool_;
};

}  // namespace antcrew
