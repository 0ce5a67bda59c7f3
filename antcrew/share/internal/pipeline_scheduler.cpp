#include "antcrew/share/internal/pipeline_scheduler.hpp"

#include <algorithm>
#include <functional>
#include <utility>

#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/random_delays.hpp"

namespace antcrew::internal {

PipelineScheduler::PipelineScheduler(const std::vector<StageFacts>& stages, std::size_t room, const AnyStopToken& stop,
                                     TaskPool* pool)
    : help_(pool), room_(room), stop_(stop) {
  places_.push_back({"source", StageKind::alone, 1});
  for (const StageFacts& stage : stages)
    places_.push_back({stage.name, stage.kind, stage.kind == StageKind::many ? stage.at_most : 1});
  for (Place& place : places_) place.waiting.reserve(room);
  if (LaneBook* book = open_lanes.load(std::memory_order_relaxed); book != nullptr && current_lane != nullptr) {
    for (Place& place : places_) place.logged_as = book->keep_name(place.name.c_str());
    logged_ = true;
    short_since_ns_ = now_ns();
  }
  free_.reserve(room);
  for (std::size_t k = room; k > 0; --k) free_.push_back(k - 1);
}

// Nothing is under way and nothing will be read. After an exception, what is under way ends where it is.
bool PipelineScheduler::over() const noexcept {
  return (ended_ || error_) && free_.size() == room_;
}

// Which of those that wait at a place could go on now. The source has none waiting: it could read one.
std::size_t PipelineScheduler::next_at(std::size_t k) const {
  const Place& place = places_[k];
  if (place.taken()) return none;
  if (k == source) return ended_ || free_.empty() || stop_.stop_requested() ? none : 0;
  if (place.kind != StageKind::as_read) return place.waiting.empty() ? none : 0;
  const auto is_next = [&](const Waiting& w) { return w.number == place.next; };
  const auto at = std::find_if(place.waiting.begin(), place.waiting.end(), is_next);
  return at == place.waiting.end() ? none : static_cast<std::size_t>(at - place.waiting.begin());
}

bool PipelineScheduler::choose_at(std::size_t k, Step& step) {
  Place& place = places_[k];
  if (k == source && stop_.stop_requested()) ended_ = true;
  const std::size_t next = next_at(k);
  if (next == none) return false;
  if (k == source) {
    step = {k, {free_.back(), numbers_}};
    free_.pop_back();
  } else {
    step = {k, place.waiting[next]};
    place.waiting.erase(place.waiting.begin() + static_cast<std::ptrdiff_t>(next));
  }
  ++place.inside;
  return true;
}

// The furthest item first: it makes room, and what it holds is still in the cache.
bool PipelineScheduler::choose(Step& step) {
  if (error_) return false;
  for (std::size_t k = places_.size(); k > 0; --k) {
    if (choose_at(k - 1, step)) return true;
  }
  return false;
}

bool PipelineScheduler::another_step() const {
  if (error_) return false;
  for (std::size_t k = places_.size(); k > 0; --k) {
    if (next_at(k - 1) != none) return true;
  }
  return false;
}

void PipelineScheduler::advance(Place& place) {
  ++place.next;
  while (!place.gone.empty() && place.gone.front() == place.next) {
    std::pop_heap(place.gone.begin(), place.gone.end(), std::greater<>());
    place.gone.pop_back();
    ++place.next;
  }
}

// Places in order further on must not wait for it.
void PipelineScheduler::leave_out(std::size_t from, std::uint64_t number) {
  for (std::size_t k = from; k < places_.size(); ++k) {
    Place& place = places_[k];
    if (place.kind != StageKind::as_read) continue;
    if (place.next == number) {
      advance(place);
    } else {
      place.gone.push_back(number);
      std::push_heap(place.gone.begin(), place.gone.end(), std::greater<>());
    }
  }
}

void PipelineScheduler::end_step(const Step& step, bool goes_on, std::int64_t ns) noexcept {
  Place& place = places_[step.place];
  place.busy_ns += ns;
  ++place.passed;
  --place.inside;
  if (step.place == source) {
    if (goes_on) {
      ++numbers_;
    } else if (!error_) {
      ended_ = true;
    }
  } else if (place.kind == StageKind::as_read) {
    advance(place);
  }
  const bool last = step.place + 1 == places_.size();
  if (goes_on && !last) {
    places_[step.place + 1].waiting.push_back(step.what);
    return;
  }
  free_.push_back(step.what.item);
  if (goes_on) {
    ++passed_;
  } else if (step.place != source) {
    ++dropped_;
    try {
      leave_out(step.place + 1, step.what.number);
    } catch (...) {
      if (!error_) error_ = std::current_exception();
    }
  }
}

// After an exception, whatever waited.
void PipelineScheduler::drop_all() noexcept {
  for (Place& place : places_) {
    for (const Waiting& waiting : place.waiting) free_.push_back(waiting.item);
    place.waiting.clear();
  }
}

// What is short just now: a stage for one at a time has items waiting, the longest queue first; else there is no room
// for more, or the source is at work.
int PipelineScheduler::shortage() const noexcept {
  std::size_t longest = 0;
  int found = free_.empty() ? full : at_source;
  for (std::size_t k = 0; k < places_.size(); ++k) {
    const Place& place = places_[k];
    if (!place.taken() || place.waiting.size() <= longest) continue;
    longest = place.waiting.size();
    found = static_cast<int>(std::min(k, static_cast<std::size_t>(most_shortages - first_place - 1))) + first_place;
  }
  return found;
}

// After each change, under the lock.
void PipelineScheduler::note_shortage() noexcept {
  const std::int64_t now = now_ns();
  short_ns_[static_cast<std::size_t>(short_now_)] += now - std::exchange(short_since_ns_, now);
  short_now_ = shortage();
}

Frame PipelineScheduler::frame_of(int what) const noexcept {
  Frame frame{Doing::stage, Shortage::source, current_lane->at().region, places_[source].logged_as, nullptr};
  if (what == full) {
    frame.shortage = Shortage::buffer_full;
    frame.about = nullptr;
  } else if (what >= first_place) {
    frame.shortage = Shortage::stage_taken;
    frame.about = places_[static_cast<std::size_t>(what - first_place)].logged_as;
  }
  return frame;
}

// What a sleeper lacks changes while it sleeps: the time is told as what it lacked longest.
void PipelineScheduler::wait_logged(std::unique_lock<std::mutex>& lock) {
  note_shortage();
  const Shortages before = short_ns_;
  const InFrame waiting(frame_of(short_now_));
  changed_.wait(lock);
  note_shortage();
  current_lane->is_rather(frame_of(longest_since(before)));
}

int PipelineScheduler::longest_since(Shortages before) const noexcept {
  std::transform(short_ns_.begin(), short_ns_.end(), before.begin(), before.begin(), std::minus<>());
  return static_cast<int>(std::max_element(before.begin(), before.end()) - before.begin());
}

// What a helper lacks between two pieces of work, told as above.
class PipelineScheduler::LoggedWait final : public StageHelp::Told {
 public:
  LoggedWait(PipelineScheduler& line, int short_now) : line_(line), short_now_(short_now) {}
  Frame frame() override { return line_.frame_of(short_now_); }
  void rests() override {
    const std::lock_guard<std::mutex> held(line_.mutex_);
    line_.note_shortage();
    before_ = line_.short_ns_;
  }
  void rested(Lane& lane) override {
    const std::lock_guard<std::mutex> held(line_.mutex_);
    line_.note_shortage();
    lane.is_rather(line_.frame_of(line_.longest_since(before_)));
  }

 private:
  PipelineScheduler& line_;
  int short_now_;
  Shortages before_ = {};
};

// Until there may be a step.
void PipelineScheduler::wait(std::unique_lock<std::mutex>& lock) {
  const bool logged = logged_ && current_lane != nullptr;
  if (!help_.is_open()) return logged ? wait_logged(lock) : changed_.wait(lock);
  LoggedWait told(*this, short_now_);
  lock.unlock();
  help_.wait_until(has_step_, logged ? &told : nullptr);
  lock.lock();
}

// Under the lock: nobody finds a step any more.
void PipelineScheduler::end_all() noexcept {
  if (!help_.is_open()) return changed_.notify_all();
  has_step_.store(true, std::memory_order_seq_cst);
  help_.wake_all();
}

void PipelineScheduler::work(const Calls& calls, void* (*item_at)(void*, std::size_t), void* items) {
  PieceLog log(current_lane);
  if (current_lane != nullptr) {
    if (LaneBook* book = open_lanes.load(std::memory_order_relaxed)) book->region_has_stages(current_lane->at().region);
  }
  std::unique_lock<std::mutex> lock(mutex_);
  if (!std::exchange(begun_, true)) help_.open();
  while (true) {
    Step step{};
    if (!choose(step)) {
      if (error_) drop_all();
      if (over()) return end_all();
      has_step_.store(false, std::memory_order_relaxed);
      ++asleep_;
      wait(lock);
      --asleep_;
      continue;
    }
    if (logged_) note_shortage();
    const bool another = asleep_ > 0 && another_step();
    has_step_.store(another, std::memory_order_seq_cst);
    if (another && !help_.is_open()) changed_.notify_one();
    lock.unlock();
    if (another && help_.is_open()) help_.wake_one();
    at_border();
    const std::int64_t start = now_ns();
    bool goes_on = false;
    std::exception_ptr error;
    try {
      const StageHelp::Step inside(help_);
      void* item = item_at(items, step.what.item);
      goes_on = step.place == source ? calls.read(calls.self, item) : calls.pass(calls.self, item, step.place - 1);
    } catch (...) {
      error = std::current_exception();
    }
    const std::int64_t ns = now_ns() - start;
    log.ended(step.what.number, 1);
    lock.lock();
    if (error && !error_) error_ = error;
    end_step(step, goes_on, ns);
  }
}

PipelineFacts PipelineScheduler::finish() {
  if (LaneBook* book = open_lanes.load(std::memory_order_relaxed); book != nullptr && current_lane != nullptr) {
    for (const Place& place : places_)
      book->add_stage(place.name.c_str(), place.kind != StageKind::many, place.busy_ns, place.passed);
  }
  if (error_) std::rethrow_exception(error_);
  PipelineFacts facts{static_cast<std::size_t>(numbers_), passed_, dropped_, {}};
  for (const Place& place : places_) facts.stages.push_back({place.name, static_cast<double>(place.busy_ns) * 1e-9});
  return facts;
}

}  // namespace antcrew::internal
