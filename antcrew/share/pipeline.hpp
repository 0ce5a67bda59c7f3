// Stages of a stream: items are read one by one and go through stages, each at its own item at the same time.
//
//   auto line = pipeline([&]() -> std::optional<Block> { return next_block(); })     // no value: the end
//                   .many("decode", [](Block b) { return decode(b); })               // several items at once
//                   .many("check", [](Track t) -> std::optional<Track> { … })        // no value: this item is left out
//                   .as_read("pack", [&](Track t) { pack(t); });                    // one at a time, as read
//   PipelineFacts facts = line.run(crew, {.items = 16});
//
// Stages: many (at once, any order), at_most (so many at once, any order), alone (one at a time, any order), as_read
// (one at a time, in the order of reading). The source is read one item at a time. At most `items` are under way: what
// an item holds is bounded by that. A stage may wait for work of the same crew, fork, and run its loops; workers of a
// TaskCrew that have no item help with these. The first exception of a stage comes out of run(); items under way are
// dropped. A stop, or the source's end, stop the reading: items under way come to their end. A pipeline may be run
// again when its source can; one run at a time. A pipeline that a stage runs is one of its loops: who helps with it
// stays until that one ends.
#pragma once

#include <array>
#include <cassert>
#include <cstddef>
#include <optional>
#include <string>
#include <tuple>
#include <type_traits>
#include <utility>
#include <vector>

#include "antcrew/crew/later.hpp"
#include "antcrew/share/internal/pipeline_scheduler.hpp"

namespace antcrew {

struct PipelineOptions {
  std::size_t items = 0;   // under way at once; 0 = 4 for each worker
  AnyStopToken stop = {};  // such as a std::stop_token: ends the reading
};

namespace internal {

template <class T>
struct Unwrapped {
  using type = T;
};
template <class T>
struct Unwrapped<std::optional<T>> {
  using type = T;
};

// What a stage makes of an item: for a stage that returns nothing or may leave items out, too.
template <class Fn, class In>
using Made = typename Unwrapped<std::decay_t<VoidResult<std::invoke_result_t<Fn&, In>>>>::type;

template <class Fn, class In>
std::optional<Made<Fn, In>> made_of(Fn& fn, In&& in) {
  if constexpr (std::is_void_v<std::invoke_result_t<Fn&, In>>) {
    fn(std::move(in));
    return Nothing{};
  } else {
    return fn(std::move(in));
  }
}

}  // namespace internal

// Made by pipeline(); Out is what the last stage makes, Held what an item is in between.
template <class Source, class Stages, class Out, class... Held>
class Pipeline {
 public:
  Pipeline(Source source, Stages stages, std::vector<internal::StageFacts> facts)
      : source_(std::move(source)), stages_(std::move(stages)), facts_(std::move(facts)) {}

  template <class Fn>
  auto many(std::string name, Fn fn) && {
    return std::move(*this).with({std::move(name), internal::StageKind::many, 0}, std::move(fn));
  }
  // The same for so many workers at the most, 1 or more.
  template <class Fn>
  auto at_most(int workers, std::string name, Fn fn) && {
    assert(workers >= 1);
    return std::move(*this).with({std::move(name), internal::StageKind::many, workers}, std::move(fn));
  }
  template <class Fn>
  auto alone(std::string name, Fn fn) && {
    return std::move(*this).with({std::move(name), internal::StageKind::alone, 1}, std::move(fn));
  }
  template <class Fn>
  auto as_read(std::string name, Fn fn) && {
    return std::move(*this).with({std::move(name), internal::StageKind::as_read, 1}, std::move(fn));
  }

  // Works with any crew that has ranges(n, body). Throws the first exception of a stage or of the source.
  template <class Crew>
  PipelineFacts run(Crew& crew, const PipelineOptions& options = {}, CallPlace at = CallPlace::here()) {
    const auto workers = static_cast<std::size_t>(crew.workers());
    const std::size_t room = options.items > 0 ? options.items : 4 * workers;
    std::vector<Item> items(room);
    internal::TaskPool* pool = nullptr;
    if constexpr (requires { pool = &crew.pool(); }) pool = &crew.pool();
    internal::PipelineScheduler line(facts_, room, options.stop, pool);
    const internal::PipelineScheduler::Calls calls{
        [](void* self, void* item) { return static_cast<Pipeline*>(self)->read(*static_cast<Item*>(item)); },
        [](void* self, void* item, std::size_t stage) {
          return static_cast<Pipeline*>(self)->pass(*static_cast<Item*>(item), stage, all_stages);
        },
        this};
    const auto item_at = [](void* all, std::size_t k) -> void* { return &(*static_cast<std::vector<Item>*>(all))[k]; };
    crew.each(
        workers, Crew::small_pieces(1), [&](std::size_t) { line.work(calls, item_at, &items); }, internal::no_stop, at);
    return line.finish();
  }

 private:
  static constexpr std::size_t stage_count = std::tuple_size_v<Stages>;
  static constexpr auto all_stages = std::make_index_sequence<stage_count>();
  // Item k lies in the k-th place: read by stage k, made by stage k - 1 or the source.
  using Item = std::tuple<std::optional<Held>..., std::optional<Out>>;

  template <class S, class St, class O, class... H>
  friend class Pipeline;

  template <class Fn>
  auto with(internal::StageFacts facts, Fn fn) && {
    using Next = internal::Made<Fn, Out>;
    auto stages = std::tuple_cat(std::move(stages_), std::tuple<Fn>(std::move(fn)));
    facts_.push_back(std::move(facts));
    return Pipeline<Source, decltype(stages), Next, Held..., Out>(std::move(source_), std::move(stages),
                                                                  std::move(facts_));
  }

  bool read(Item& item) {
    std::get<0>(item) = source_();
    return std::get<0>(item).has_value();
  }

  template <std::size_t k>
  bool pass_stage(Item& item) {
    auto in = std::move(*std::get<k>(item));
    std::get<k>(item).reset();
    std::get<k + 1>(item) = internal::made_of(std::get<k>(stages_), std::move(in));
    const bool goes_on = std::get<k + 1>(item).has_value();
    if constexpr (k + 1 == stage_count) std::get<k + 1>(item).reset();
    return goes_on;
  }
  template <std::size_t... k>
  bool pass(Item& item, std::size_t stage, std::index_sequence<k...>) {
    bool goes_on = false;
    static_cast<void>(((stage == k && (goes_on = pass_stage<k>(item), true)) || ...));
    return goes_on;
  }

  Source source_;
  Stages stages_;
  std::vector<internal::StageFacts> facts_;
};

// source: called for each item, one call at a time; returns a std::optional, without a value at the end.
template <class Source>
auto pipeline(Source source) {
  using First = typename internal::Unwrapped<std::decay_t<std::invoke_result_t<Source&>>>::type;
  static_assert(std::is_same_v<std::decay_t<std::invoke_result_t<Source&>>, std::optional<First>>,
                "a source returns std::optional, without a value when there are no more items");
  return Pipeline<Source, std::tuple<>, First>(std::move(source), {}, {});
}

}  // namespace antcrew
