#include "antcrew/log/lanes.hpp"

namespace antcrew::internal {

void OuterRegion::begin(LaneBook& book, std::uint64_t n, Sharing sharing, int workers, const char* crew,
                        bool forks) noexcept {
  LaneRegion region;
  region.n = n;
  region.workers = static_cast<std::uint32_t>(workers);
  region.sharing = sharing;
  region.grows = forks;
  region.crew = crew;
  number_ = book.begin_outer_region(region);
  if (number_ == 0) return;
  book_ = &book;
  current_lane->enter({Doing::waiting, Shortage::none, number_, nullptr, nullptr});
}

LaneHandOver::LaneHandOver(const OuterRegion& region) noexcept : book_(region.book()) {
  if (book_ == nullptr) return;
  Lane& mine = *current_lane;
  mine.push({Doing::away, Shortage::none, region.number(), nullptr, nullptr});
  depth_ = mine.depth();
  mine.leave();
  current_lane = book_->parent().take() ? &book_->parent() : nullptr;
  cpu_ns_ = thread_cpu_ns();
}

LaneHandOver::~LaneHandOver() {
  if (book_ == nullptr) return;
  if (current_lane != nullptr) {
    current_lane->border(now_ns());
    current_lane->leave();
  }
  book_->add_parent_cpu(thread_cpu_ns() - cpu_ns_);
  current_lane = &book_->lane(0);
  current_lane->take_back(depth_);
  current_lane->pop();
}

void OuterRegion::end() noexcept {
  current_lane->pop();
  book_->end_outer_region(number_);
}

}  // namespace antcrew::internal
