#include "antcrew/crew/task_graph.hpp"

#include <algorithm>
#include <unordered_map>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/internal/tasks/critical_path.hpp"

namespace antcrew {

using namespace base_layer;
namespace internal {

StepNode::StepNode(std::string its_name, GraphRun& its_run)
    : Task([](Task* task, TaskWorker& worker) noexcept {
        auto* node = static_cast<StepNode*>(task);
        node->run.run_from(node, worker);
      }),
      run(its_run),
      name(std::move(its_name)) {}

bool StepNode::has_run() const noexcept {
  return ran_in == run.number;
}

void GraphRun::call(StepNode& node) noexcept {
  if (failed.load(std::memory_order_relaxed)) return;
  if (stopped != nullptr && stopped->stop_requested()) {
    left_out.store(true, std::memory_order_relaxed);
    return;
  }
  try {
    if (stack_nearly_full()) refuse_depth("TaskCrew", "TaskGraph");
    if (current_lane != nullptr) [[unlikely]] {
      const OtherPath its(0);
      node.call();
      node.took_ns = current_path.now();
      metered.store(true, std::memory_order_relaxed);
    } else {
      node.call();
    }
    node.ran_in = number;
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
  const ScopeName its_name = name;
  while (node != nullptr) {
    // Made ready for the next run by the one worker that has it now: those it depends on have all counted.
    node->open.store(node->needs, std::memory_order_relaxed);
    call(*node);
    // Once the last of those that follow has been counted down, they may end the run, and the graph may be gone: what
    // is needed of this node is read before.
    StepNode* const* next = node->next;
    const std::size_t count = node->next_count;
    if (count == 0 && open_ends.fetch_sub(1, std::memory_order_seq_cst) == 1) return pool.ended(its_name);
    StepNode* follow = nullptr;
    for (std::size_t k = 0; k < count; ++k) {
      StepNode* ready = next[k];
      if (!was_last(*ready)) continue;
      if (follow == nullptr) {
        follow = ready;
      } else {
        alone ? worker.push_alone(ready, scope) : worker.push(ready, scope);
      }
    }
    node = follow;
  }
}

void refuse_result(const std::string& step, bool ran_before) {
  bad_input("graph.result", "step '" + step + "'",
            ran_before ? "its result was read, but it has not run in this run of the graph"
                       : "its result was read before it ran",
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

void TaskGraph::check(const AnyStep& step) const {
  if (&step.node_->run == run_.get()) return;
  bad_input("graph.step", "TaskGraph", "step '" + step.node_->name + "' belongs to another graph",
            "depend on steps of this graph, or put both into one");
}

void TaskGraph::order(const AnyStep& first, const AnyStep& then) {
  check(first);
  check(then);
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
  order_ = std::move(ready);
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

// From here to end_run() the graph is this run's.
void TaskGraph::claim(TaskCrew& crew, const AnyStopToken& stop) {
  if (running_.exchange(true, std::memory_order_acquire)) {
    could_not_run("graph.busy", "TaskGraph", "it is being run already", "wait for that run, or build a second graph");
  }
  try {
    if (!prepared_) prepare();
    pool_ = &crew.pool();
    internal::GraphRun& run = *run_;
    const internal::TaskWorker* worker = pool_->current_worker();
    run.scope = pool_->open_scope(worker == nullptr ? nullptr : worker->scope());
    run.name = run.scope->name();
    if (stop.stop_possible()) run.stopped = &stop_.emplace(stop);
  } catch (...) {
    running_.store(false, std::memory_order_release);
    throw;
  }
  internal::GraphRun& run = *run_;
  if (internal::current_lane != nullptr) [[unlikely]]
    path_before_ns_ = pool_->current_worker() == nullptr ? 0 : internal::current_path.now();
  ++run.number;
  run.failed.store(false, std::memory_order_relaxed);
  run.left_out.store(false, std::memory_order_relaxed);
  run.open_ends.store(ends_, std::memory_order_relaxed);
}

void TaskGraph::begin_roots(internal::TaskWorker& worker) {
  worker.reserve(static_cast<std::int64_t>(nodes_.size()));
  for (auto root = roots_.rbegin(); root != roots_.rend(); ++root) {
    run_->alone ? worker.push_alone(*root, run_->scope) : worker.push(*root, run_->scope);
  }
}

// The longest way through the graph, by what each step took in this run.
std::int64_t TaskGraph::critical_path_ns() const {
  std::int64_t longest = 0;
  for (StepNode* node : order_) {
    node->path_ns = 0;
    for (const StepNode* needed : node->after) node->path_ns = std::max(node->path_ns, needed->path_ns);
    if (node->has_run()) node->path_ns += node->took_ns;
    longest = std::max(longest, node->path_ns);
  }
  return longest;
}

void TaskGraph::end_run() {
  internal::GraphRun& run = *run_;
  if (run.metered.exchange(false, std::memory_order_relaxed)) [[unlikely]]
    internal::current_path.go_on(path_before_ns_ + critical_path_ns());
  pool_->close_scope(std::exchange(run.scope, nullptr));
  pool_ = nullptr;
  run.stopped = nullptr;
  stop_.reset();
  const std::exception_ptr error = std::exchange(run.error, nullptr);
  const bool left_out = run.left_out.load(std::memory_order_relaxed);
  running_.store(false, std::memory_order_release);
  if (error) std::rethrow_exception(error);
  if (left_out) {
    could_not_run("crew.stopped", "TaskGraph", "the stop token ended it before every step had run",
                  "catch this error where the stop was asked for");
  }
}

void TaskGraph::run(TaskCrew& crew, const AnyStopToken& stop, CallPlace at) {
  internal::note_place(at);
  claim(crew, stop);
  run_->alone = crew.workers() == 1;
  const auto go = [this](internal::TaskWorker& worker) {
    begin_roots(worker);
    worker.work_until({nullptr, run_->name}, [this] { return over(); });
  };
  if (internal::TaskWorker* worker = pool_->current_worker()) {
    const internal::AgainWorker again(*worker);
    go(*worker);
    return end_run();
  }
  internal::TaskPool::Call call(*pool_, internal::Sharing::graph, nodes_.size());
  if (call.worker() == nullptr) {
    for (StepNode* root : roots_) pool_->put_aside(root, run_->scope);
    wait();
    return;
  }
  go(*call.worker());
  end_run();
  call.finish();
}

void TaskGraph::begin(TaskCrew& crew, const AnyStopToken& stop) {
  claim(crew, stop);
  run_->alone = false;
  if (internal::TaskWorker* worker = pool_->current_worker()) return begin_roots(*worker);
  for (StepNode* root : roots_) pool_->put_aside(root, run_->scope);
}

void TaskGraph::wait() {
  if (pool_ == nullptr) return;
  pool_->wait_for({nullptr, run_->name}, [this] { return over(); });
  end_run();
}

bool TaskGraph::wait_for(double limit_s) {
  return pool_ == nullptr || pool_->wait_at_most(limit_s, [this] { return over(); });
}

// A run that was begun and not waited for ends first.
TaskGraph::~TaskGraph() {
  if (pool_ == nullptr || pool_->inherited()) return;  // in a forked child nothing of the run is there
  pool_->wait_for({nullptr, run_->name}, [this] { return over(); });
  pool_->close_scope(run_->scope);
}

}  // namespace antcrew
