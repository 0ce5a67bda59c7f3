#include "antcrew/share/internal/line.hpp"

#include <algorithm>
#include <functional>
#include <utility>

#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/jostle.hpp"

namespace antcrew::internal {

Line::Line(const std::vector<StageFacts>& stages, std::size_t room, const std::stop_token& stop)
    : room_(room), stop_(stop) {
  places_.push_back({"source", StageKind::one_at_a_time});
  for (const StageFacts& stage : stages) places_.push_back({stage.name, stage.kind});
  for (std::size_t k = room; k > 0; --k) free_.push_back(k - 1);
}

// Nothing is under way and nothing will be read. After an exception, what is under way ends where it is.
bool Line::over() const noexcept {
  return (ended_ || error_) && free_.size() == room_;
}

bool Line::choose_at(std::size_t k, Step& step) {
  Place& place = places_[k];
  if (k == source) {
    if (stop_.flag().load(std::memory_order_relaxed)) ended_ = true;
    if (ended_ || place.taken || free_.empty()) return false;
    step = {k, {free_.back(), numbers_}};
    free_.pop_back();
    place.taken = true;
    return true;
  }
  if (place.waiting.empty() || (place.kind != StageKind::many && place.taken)) return false;
  auto chosen = place.waiting.begin();
  if (place.kind == StageKind::in_order) {
    const auto is_next = [&](const Waiting& w) { return w.number == place.next; };
    chosen = std::find_if(place.waiting.begin(), place.waiting.end(), is_next);
    if (chosen == place.waiting.end()) return false;
  }
  step = {k, *chosen};
  place.waiting.erase(chosen);
  place.taken = true;
  return true;
}

// The furthest item first: it makes room, and what it holds is still in the cache.
bool Line::choose(Step& step) {
  if (error_) return false;
  for (std::size_t k = places_.size(); k > 0; --k) {
    if (choose_at(k - 1, step)) return true;
  }
  return false;
}

void Line::advance(Place& place) {
  ++place.next;
  while (!place.gone.empty() && place.gone.front() == place.next) {
    std::pop_heap(place.gone.begin(), place.gone.end(), std::greater<>());
    place.gone.pop_back();
    ++place.next;
  }
}

// Places in order further on must not wait for it.
void Line::leave_out(std::size_t from, std::uint64_t number) {
  for (std::size_t k = from; k < places_.size(); ++k) {
    Place& place = places_[k];
    if (place.kind != StageKind::in_order) continue;
    if (place.next == number) {
      advance(place);
    } else {
      place.gone.push_back(number);
      std::push_heap(place.gone.begin(), place.gone.end(), std::greater<>());
    }
  }
}

void Line::end_step(const Step& step, bool goes_on, std::int64_t ns) {
  Place& place = places_[step.place];
  place.busy_ns += ns;
  place.taken = false;
  if (step.place == source) {
    if (goes_on) {
      ++numbers_;
    } else if (!error_) {
      ended_ = true;
    }
  } else if (place.kind == StageKind::in_order) {
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
    leave_out(step.place + 1, step.what.number);
  }
}

void Line::work(const Calls& calls, void* (*item_at)(void*, std::size_t), void* items) {
  std::unique_lock<std::mutex> lock(mutex_);
  while (true) {
    Step step{};
    if (!choose(step)) {
      if (error_) {
        // Whatever waited is dropped.
        for (Place& place : places_) {
          for (const Waiting& waiting : place.waiting) free_.push_back(waiting.item);
          place.waiting.clear();
        }
      }
      if (over()) return changed_.notify_all();
      changed_.wait(lock);
      continue;
    }
    lock.unlock();
    at_border();
    const std::int64_t start = now_ns();
    bool goes_on = false;
    std::exception_ptr error;
    try {
      void* item = item_at(items, step.what.item);
      goes_on = step.place == source ? calls.read(calls.self, item) : calls.pass(calls.self, item, step.place - 1);
    } catch (...) {
      error = std::current_exception();
    }
    const std::int64_t ns = now_ns() - start;
    lock.lock();
    if (error && !error_) error_ = error;
    end_step(step, goes_on, ns);
    changed_.notify_all();
  }
}

PipelineFacts Line::finish() {
  if (error_) std::rethrow_exception(error_);
  PipelineFacts facts{static_cast<std::size_t>(numbers_), passed_, dropped_, {}};
  for (const Place& place : places_) facts.stages.push_back({place.name, static_cast<double>(place.busy_ns) * 1e-9});
  return facts;
}

}  // namespace antcrew::internal
