// Named steps with dependencies, run many times.
//
//   TaskGraph graph;
//   auto depth = graph.step("depth", [&] { return read_depth(tide); });
//   auto slope = graph.step("slope", [&] { return slope_of(depth.result()); }, {depth});   // after depth
//   graph.run(crew);                       // again and again
//   use(slope.result());
//
// A step begins when all it depends on have ended. Its result is overwritten at each run, and only shown when the step
// ran in the last one. After a step has thrown, steps that had not begun are left out and run() throws that exception;
// after a stop request, likewise with Error (crew.stopped). Graphs are built by one thread and run by one at a time; a
// run after the first one allocates nothing of its own. A step may wait for other work of the crew, but not run its own
// graph.
#pragma once

#include <atomic>
#include <cstddef>
#include <exception>
#include <initializer_list>
#include <memory>
#include <optional>
#include <string>
#include <type_traits>
#include <unordered_set>
#include <utility>
#include <vector>

#include "antcrew/base/enough.hpp"
#include "antcrew/crew/internal/tasks/task_pool.hpp"
#include "antcrew/crew/task_crew.hpp"

namespace antcrew {

namespace internal {

class GraphRun;

struct StepNode : Task {
  StepNode(std::string its_name, GraphRun& its_run);
  bool has_run() const noexcept;
  virtual ~StepNode() = default;
  virtual void call() = 0;

  GraphRun& run;
  StepNode* const* next = nullptr;  // those that depend on this one, in the graph's list
  std::size_t next_count = 0;
  int needs = 0;             // steps it depends on
  std::atomic<int> open{0};  // of them, not yet ended in this run
  std::uint64_t ran_in = 0;  // the number of the last run that it ended in
  std::int64_t took_ns = 0;  // in a metered run, and the longest way up to its end
  std::int64_t path_ns = 0;
  std::vector<StepNode*> after;
  std::string name;
};

// What the steps of a graph share while it runs.
class GraphRun {
 public:
  // Runs `node` and whatever only waited for it, handing on what else became ready.
  void run_from(StepNode* node, TaskWorker& worker) noexcept;

  std::atomic<std::size_t> open_ends{0};  // steps that nobody waits for: when all have ended, so have all steps
  std::atomic<bool> metered{false};       // a step was called while a log was open
  std::atomic<bool> failed{false};
  std::atomic<bool> left_out{false};  // a step, for a stop request
  std::exception_ptr error;
  const AnyStopToken* stopped = nullptr;
  bool alone = false;  // one worker: counts need no atomic steps
  std::uint64_t number = 0;
  Scope* scope = nullptr;
  ScopeName name;

 private:
  void call(StepNode& node) noexcept;
  bool was_last(StepNode& node) const noexcept;
};

[[noreturn]] void refuse_result(const std::string& step, bool ran_before);

template <class T>
struct ResultNode : StepNode {
  using StepNode::StepNode;
  std::optional<T> result;
};

template <class T, class Fn>
struct FnNode final : ResultNode<T> {
  FnNode(std::string name, GraphRun& run, Fn its_fn) : ResultNode<T>(std::move(name), run), fn(std::move(its_fn)) {}
  void call() override { this->result.emplace(result_of(fn)); }
  Fn fn;
};

}  // namespace internal

class TaskGraph {
 public:
  class AnyStep {
   public:
    const std::string& name() const noexcept { return node_->name; }

   protected:
    friend class TaskGraph;
    explicit AnyStep(internal::StepNode* node) noexcept : node_(node) {}
    internal::StepNode* node_;
  };

  // Valid while the graph is.
  template <class T>
  class Step : public AnyStep {
   public:
    // Throws Error (graph.result) when the step has not run, or not in the last run.
    const T& result() const {
      const auto& result = static_cast<const internal::ResultNode<T>*>(node_)->result;
      if (!result || !node_->has_run()) internal::refuse_result(node_->name, result.has_value());
      return *result;
    }

   private:
    friend class TaskGraph;
    using AnyStep::AnyStep;
  };

  TaskGraph() : run_(std::make_unique<internal::GraphRun>()) {}

  // Throws Error (graph.step) when there is a step of that name, or one of `after` is another graph's.
  template <class Fn>
  auto step(std::string name, Fn fn, std::initializer_list<AnyStep> after = {}) {
    using T = internal::VoidResult<std::decay_t<std::invoke_result_t<Fn&>>>;
    auto node = std::make_unique<internal::FnNode<T, Fn>>(std::move(name), *run_, std::move(fn));
    const Step<T> made(node.get());
    for (const AnyStep& needed : after) check(needed);
    add(std::move(node));
    for (const AnyStep& needed : after) order(needed, made);
    return made;
  }
  // `then` begins after `first` has ended. Throws Error (graph.step) when one of them is another graph's.
  void order(const AnyStep& first, const AnyStep& then);

  std::size_t size() const noexcept { return nodes_.size(); }

  // Throws the first exception of a step; Error (graph.cycle) naming steps that wait for each other, (graph.busy) when
  // it is being run already. Steps that have not begun when `stop` is asked to stop are left out, and then it throws
  // Error (crew.stopped).
  void run(TaskCrew& crew, const AnyStopToken& stop = internal::no_stop, CallPlace at = CallPlace::here());

  // Begins a run, and waits for its end: together what run() does. In between, wait_for() waits for so many seconds at
  // the most, taking up no work at all, and says whether the run is over. The crew must live until wait() has returned.
  void begin(TaskCrew& crew, const AnyStopToken& stop = internal::no_stop);
  void wait();
  bool wait_for(double limit_s);

  ~TaskGraph();
  TaskGraph(const TaskGraph&) = delete;
  TaskGraph& operator=(const TaskGraph&) = delete;

 private:
  void add(std::unique_ptr<internal::StepNode> node);
  void check(const AnyStep& step) const;
  void prepare();
  void refuse_cycle() const;
  void claim(TaskCrew& crew, const AnyStopToken& stop);
  void begin_roots(internal::TaskWorker& worker);
  bool over() const noexcept { return run_->open_ends.load(std::memory_order_seq_cst) == 0; }
  void end_run();
  std::int64_t critical_path_ns() const;

  std::unique_ptr<internal::GraphRun> run_;
  std::vector<std::unique_ptr<internal::StepNode>> nodes_;
  std::unordered_set<std::string> names_;
  std::vector<internal::StepNode*> next_;  // the lists of all nodes, one after the other
  std::vector<internal::StepNode*> roots_;
  std::vector<internal::StepNode*> order_;  // each after all that it depends on
  std::size_t ends_ = 0;
  bool prepared_ = false;
  std::int64_t path_before_ns_ = 0;  // on the critical path of the call that this run is a part of
  std::atomic<bool> running_{false};
  internal::TaskPool* pool_ = nullptr;  // of the run under way
  std::optional<AnyStopToken> stop_;
};

}  // namespace antcrew
