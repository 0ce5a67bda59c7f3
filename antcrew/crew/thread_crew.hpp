// Standing threads that run loops together: the lowest cost per region, for even and uneven loops alike.
//
//   ThreadCrew crew(4);
//   crew.each(heights.size(), [&](std::size_t i) { heights[i] = tide_at(soundings[i]); });
//   auto squares = crew.collect(1000, [](std::size_t i) { return i * i; });
//   double sum = crew.fold(n, 0.0, [&](Range r) { … }, std::plus<>());
//
// Worker 0 is the calling thread. Between regions the others spin briefly and then sleep in the kernel; with more
// workers than usable processors they never spin.
//
// Faults: the first exception of a worker is thrown again at the call; the other workers stop at their next piece, or
// in `each` and `collect` after a 16th of it at most. What was written until then stays written.
// Stopping: a loop given a std::stop_token (see AnyStopToken) takes no further pieces once it is asked to stop; ask the
// token whether all was done. Threads: one thread at a time may call; a second one gets Error (crew.busy), and nothing
// was done; wait_to_call() waits instead. hold() keeps the crew for several calls. A call inside a body on the same
// crew runs in the calling worker alone: the other workers are at the region that the body belongs to, and one that
// gave some of them to a body would have to wait for all of them twice; loops inside loops are what TaskCrew is for.
// Recursion through such calls that nears the end of the stack throws Error (crew.stack). The destructor may not run
// while a call is under way.
#pragma once

#include <atomic>
#include <cstddef>
#include <cstdint>

#include "antcrew/base/owned.hpp"
#include "antcrew/crew/barrier.hpp"
#include "antcrew/crew/crew_options.hpp"
#include "antcrew/crew/internal/current_thread.hpp"
#include "antcrew/crew/internal/loops.hpp"
#include "antcrew/crew/split.hpp"

namespace antcrew {

namespace internal {
class Team;
}

class ThreadCrew : public internal::Loops<ThreadCrew, Split> {
 public:
  // Starts workers - 1 threads. Throws Error (crew.workers, crew.start) when the count is absurd or the system has no
  // more threads to give.
  explicit ThreadCrew(int workers, const CrewOptions& options = {});
  ~ThreadCrew();
  ThreadCrew(const ThreadCrew&) = delete;
  ThreadCrew& operator=(const ThreadCrew&) = delete;

  static constexpr const char* crew_name = "ThreadCrew";
  int workers() const noexcept { return workers_; }
  // What was asked and what was granted.
  const CrewFacts& facts() const noexcept { return facts_; }

  // ranges, each, collect, fold and more: see crew/internal/loops.hpp. Options stand behind the body, by name:
  // {.split = Split::chunks(64), .stop = token}.
  static constexpr Split usual = Split::even();
  static constexpr Split small_pieces(std::size_t k) noexcept { return Split::chunks(k); }

  // body(worker, barrier) once for each worker, all of them at the same time: for what must be done in step, such as
  // stencils. Throws Error (crew.nested) inside a body of this crew, whose workers are at that body's call.
  template <class Body>
  void on_each(Body&& body, CallPlace at = CallPlace::here()) {
    refuse_inside("on_each");
    Barrier barrier(workers_);
    each(
        static_cast<std::size_t>(workers_),
        [&](std::size_t worker) { barrier.run([&] { body(static_cast<int>(worker), barrier); }); },
        {.split = Split::even()}, at);
  }

  // The crew is the calling thread's until the end of the Hold: calls of other threads are refused also between two of
  // its own. Throws Error (crew.busy) when another thread has it. Holds may lie inside each other, and inside bodies.
  class Hold {
   public:
    explicit Hold(ThreadCrew& crew);
    ~Hold();
    Hold(const Hold&) = delete;
    Hold& operator=(const Hold&) = delete;

    // Whether the crew is the calling thread's: false only where try_to_call() did not get it.
    explicit operator bool() const noexcept { return granted_; }

   private:
    friend class ThreadCrew;
    enum class Entry : bool { tries, waits };
    Hold(ThreadCrew& crew, Entry entry);
    // A crew of one does nothing that a second caller could harm: a look notices it, without an atomic step.
    class Solo {
     public:
      explicit Solo(ThreadCrew& crew) : caller_(crew.caller_) {
        const void* me = internal::thread_mark();
        const void* seen = caller_.load(std::memory_order_relaxed);
        if (seen == me) return;
        if (seen != nullptr && crew.workers_ == 1) internal::refuse_busy("ThreadCrew");
        outermost_ = true;
        caller_.store(me, std::memory_order_relaxed);
      }
      // Nothing is claimed yet.
      explicit Solo(std::atomic<const void*>& caller) noexcept : caller_(caller) {}
      bool claim() noexcept {
        const void* seen = nullptr;
        outermost_ = caller_.compare_exchange_strong(seen, internal::thread_mark(), std::memory_order_acquire);
        return outermost_ || seen == internal::thread_mark();
      }
      ~Solo() {
        if (outermost_) caller_.store(nullptr, std::memory_order_release);
      }
      Solo(const Solo&) = delete;
      Solo& operator=(const Solo&) = delete;

     private:
      std::atomic<const void*>& caller_;
      bool outermost_ = false;
    };
    bool claim();
    ThreadCrew* crew_;
    Solo solo_;
    bool granted_ = true;
  };
  [[nodiscard]] Hold hold() { return Hold(*this); }
  // The same for threads that share a crew: waits until no other thread has it, first come first served; or looks once.
  //   if (const auto held = crew.try_to_call()) crew.each(n, body);
  [[nodiscard]] Hold wait_to_call() { return Hold(*this, Hold::Entry::waits); }
  [[nodiscard]] Hold try_to_call() { return Hold(*this, Hold::Entry::tries); }

  // Sleeping workers that were woken so far, and those of them that callers have woken themselves.
  std::uint64_t wake_ups() const noexcept;
  std::uint64_t wake_ups_by_caller() const noexcept;

 private:
  friend class internal::Loops<ThreadCrew, Split>;

  void pieces(std::size_t n, Split split, const AnyStopToken& stop, const internal::PieceBody& body,
              const CallPlace& at) {
    if (!as_plain_call(n, split, stop)) return any_pieces(n, split, stop, body, at);
    const Hold::Solo solo(*this);
    const internal::AsWorker as(0);
    body.call(body.self, {0, n}, internal::never_enough);
  }
  // Of a crew of one, with nothing to look after but the body: inline, since such calls are counted in nanoseconds.
  bool as_plain_call(std::size_t n, Split split, const AnyStopToken& stop) const noexcept {
    return workers_ == 1 && team_ == nullptr && split.kind() == Split::Kind::even && n > 0 && !stop.stop_possible() &&
           !internal::places_wanted() && internal::stack_surely_left();
  }
  void any_pieces(std::size_t n, Split split, const AnyStopToken& stop, const internal::PieceBody& body,
                  const CallPlace& at);
  void by_one(std::size_t n, Split split, const AnyStopToken& stop, const internal::PieceBody& body);
  void by_one_pinned(std::size_t n, Split split, const AnyStopToken& stop, const internal::PieceBody& body);
  void together(std::size_t n, Split split, const AnyStopToken& stop, const internal::PieceBody& body);
  void share_out(std::size_t n, Split split, const AnyStopToken& stop, const internal::PieceBody& body);
  void inside(int number, std::size_t n, Split split, const AnyStopToken& stop, const internal::PieceBody& body);
  static void alone_watched(std::size_t n, Split split, const internal::Enough& enough,
                            const internal::PieceBody& body);
  int current_number() const noexcept;
  bool seems_free() const noexcept;
  void refuse_inside(const char* call) const;

  int workers_;
  std::atomic<const void*> caller_{nullptr};  // of a crew of one
  std::atomic<std::uint32_t> tickets_{0};     // of those that wait to call
  std::atomic<std::uint32_t> serving_{0};
  CrewFacts facts_;
  internal::Owned<internal::Team> team_;  // also of one worker that is pinned
};

}  // namespace antcrew
