#include "antcrew/crew/task_graph.hpp"

#include <algorithm>
#include <unordered_map>

#include "antcrew/base/error.hpp"

namespace antcrew {
namespace internal {

StepNode::StepNode(std::string its_name, GraphRun& its_run)
    : Task([](Task* task, TaskWorker& worker) noexcept {
        auto* node = static_cast<StepNode*>(task);
        node->run.run_from(node, worker);
      }),
      run(its_run),
      name(std::move(its_name)) {}

void GraphRun::call(StepNode& node) noexcept {
  if (failed.load(std::memory_order_relaxed)) return;
  if (stopped != nullptr && stopped->load(std::memory_order_relaxed)) return;
  try {
    node.call();
  } catch (...) {
    if (!failed.exchange(true, std::memory_order_relaxed)) error = std::current_exception();
  }
}

// Release and acquire: the step that becomes ready sees what all it depends on have written.
bool GraphRun::was_last(StepNode& node) const noexcept {
  if (!alone) return node.open.fetch_sub(1, std::memory_order_acq_rel) == 1;
  const int open = node.open.load(std::memory_order_relaxed) - 1;
  node.open.store(open, std::memory_order_relaxed);
  return open == 0;
}

void GraphRun::run_from(StepNode* node, TaskWorker& worker) noexcept {
  TaskPool& pool = worker.pool;
  while (node != nullptr) {
    // Made ready for the next run by the one worker that has it now: those it depends on have all counted.
    node->open.store(node->needs, std::memory_order_relaxed);
    call(*node);
    // Once the last of those that follow has been counted down, they may end the run, and the graph may be gone: what
    // is needed of this node is read before.
    StepNode* const* next = node->next;
    const std::size_t count = node->next_count;
    if (count == 0 && open_ends.fetch_sub(1, std::memory_order_seq_cst) == 1) return pool.ended();
    StepNode* follow = nullptr;
    for (std::size_t k = 0; k < count; ++k) {
      StepNode* ready = next[k];
      if (!was_last(*ready)) continue;
      if (follow == nullptr) {
        follow = ready;
      } else {
        worker.push(ready);
      }
    }
    node = follow;
  }
}

void refuse_result(const std::string& step) {
  bad_input("graph.result", "step '" + step + "'", "its result was read before it ran",
            "run the graph first, or make the reader depend on this step");
}

}  // namespace internal

using internal::StepNode;

void TaskGraph::add(std::unique_ptr<StepNode> node) {
  if (!names_.insert(node->name).second) {
    bad_input("graph.step", "TaskGraph", "two steps are called '" + node->name + "'", "give each step its own name");
  }
  nodes_.push_back(std::move(node));
  prepared_ = false;
}

void TaskGraph::order(const AnyStep& first, const AnyStep& then) {
  then.node_->after.push_back(first.node_);
  prepared_ = false;
}

// Kahn 1962, "Topological sorting of large networks", to see that every step can begin.
void TaskGraph::prepare() {
  std::unordered_map<StepNode*, std::vector<StepNode*>> next;
  next_.clear();
  roots_.clear();
  ends_ = 0;
  for (const auto& node : nodes_) {
    node->needs = static_cast<int>(node->after.size());
    node->open.store(node->needs, std::memory_order_relaxed);
    if (node->needs == 0) roots_.push_back(node.get());
    for (StepNode* needed : node->after) next[needed].push_back(node.get());
    next_.reserve(next_.size() + node->after.size());
  }
  std::size_t edges = 0;
  for (const auto& [node, list] : next) edges += list.size();
  next_.reserve(edges);  // the nodes keep pointers into it
  for (const auto& node : nodes_) {
    const std::vector<StepNode*>& list = next[node.get()];
    node->next_count = list.size();
    node->next = next_.data() + next_.size();
    next_.insert(next_.end(), list.begin(), list.end());
    if (list.empty()) ++ends_;
  }
  std::vector<StepNode*> ready = roots_;
  std::unordered_map<StepNode*, int> open;
  for (std::size_t k = 0; k < ready.size(); ++k) {
    for (StepNode* after : next[ready[k]]) {
      if (++open[after] == after->needs) ready.push_back(after);
    }
  }
  if (ready.size() != nodes_.size()) refuse_cycle();
  prepared_ = true;
}

// Going back from a step that cannot begin, some step is met twice: the way between is a cycle.
void TaskGraph::refuse_cycle() const {
  std::unordered_set<const StepNode*> can_begin;
  for (bool more = true; more;) {
    more = false;
    for (const auto& node : nodes_) {
      const auto begins = [&](const StepNode* needed) { return can_begin.count(needed) > 0; };
      if (begins(node.get()) || !std::all_of(node->after.begin(), node->after.end(), begins)) continue;
      more = can_begin.insert(node.get()).second;
    }
  }
  const auto stuck = [&](const StepNode* node) { return can_begin.count(node) == 0; };
  const StepNode* at = std::find_if(nodes_.begin(), nodes_.end(), [&](const auto& n) { return stuck(n.get()); })->get();
  std::vector<const StepNode*> way;
  while (std::find(way.begin(), way.end(), at) == way.end()) {
    way.push_back(at);
    at = *std::find_if(at->after.begin(), at->after.end(), stuck);
  }
  way.push_back(at);
  std::string text;
  for (auto step = way.rbegin(); step != way.rend(); ++step) {
    text += (text.empty() ? "'" : " → '") + (*step)->name + "'";
    if (*step == at && step != way.rbegin()) break;
  }
  bad_input("graph.cycle", "TaskGraph", "steps wait for each other: " + text, "take one of these dependencies out");
}

void TaskGraph::start(internal::TaskWorker& worker, const std::stop_token& stop) {
  if (nodes_.empty()) return;
  const internal::StopFlag stopped(stop);
  run_->stopped = stop.stop_possible() ? &stopped.flag() : nullptr;
  run_->failed.store(false, std::memory_order_relaxed);
  run_->alone = worker.pool.workers() == 1;
  run_->open_ends.store(ends_, std::memory_order_relaxed);
  worker.reserve(static_cast<std::int64_t>(nodes_.size()));
  for (auto root = roots_.rbegin(); root != roots_.rend(); ++root) worker.push(*root);
  worker.work_until([&] { return run_->open_ends.load(std::memory_order_seq_cst) == 0; });
  run_->stopped = nullptr;
  if (run_->error) std::rethrow_exception(std::exchange(run_->error, nullptr));
}

void TaskGraph::run(TaskCrew& crew, const std::stop_token& stop) {
  if (running_.exchange(true, std::memory_order_acquire)) {
    could_not_run("graph.busy", "TaskGraph", "it is being run already", "wait for that run, or build a second graph");
  }
  struct Ended {
    std::atomic<bool>& flag;
    ~Ended() { flag.store(false, std::memory_order_release); }
  } const ended{running_};
  if (!prepared_) prepare();
  if (internal::TaskWorker* worker = crew.pool().here()) return start(*worker, stop);
  internal::TaskPool::Call call(crew.pool());
  if (call.worker() == nullptr) {
    could_not_run("crew.busy", "TaskGraph", "another thread's call is under way on this crew",
                  "give each calling thread a crew of its own");
  }
  start(*call.worker(), stop);
  call.finish();
}

}  // namespace antcrew
