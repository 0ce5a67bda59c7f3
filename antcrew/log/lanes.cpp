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
  lane_here->enter({Doing::waiting, Shortage::none, number_, nullptr, nullptr});
}

LaneHandOver::LaneHandOver(const OuterRegion& region) noexcept : book_(region.book()) {
  if (book_ == nullptr) return;
  Lane& mine = *lane_here;
  mine.push({Doing::away, Shortage::none, region.number(), nullptr, nullptr});
  depth_ = mine.depth();
  mine.leave();
  lane_here = book_->parent().take() ? &book_->parent() : nullptr;
  cpu_ns_ = thread_cpu_ns();
}

LaneHandOver::~LaneHandOver() {
  if (book_ == nullptr) return;
  if (lane_here != nullptr) {
    lane_here->border(now_ns());
    lane_here->leave();
  }
  book_->add_parent_cpu(thread_cpu_ns() - cpu_ns_);
  lane_here = &book_->lane(0);
  lane_here->take_back(depth_);
  lane_here->pop();
}

void OuterRegion::end() noexcept {
  lane_here->pop();
  book_->end_outer_region(number_);
}

}  // namespace antcrew::internal
