// Position reports of a convoy entering the Brackwater estuary: read, decode, check, pack.
//
// A stream in blocks. Decoding is most of the work; packing must keep the order, since each block is packed against the
// end of the one before. Reading all first and looping is simple, and holds everything in memory at once.
#include <antcrew/antcrew.hpp>
#include <cmath>
#include <condition_variable>
#include <cstdint>
#include <mutex>
#include <optional>
#include <queue>
#include <random>
#include <thread>
#include <vector>

namespace estuary {

constexpr std::size_t reports_each = 4096;  // in a block

struct Block {
  std::vector<std::uint16_t> coded;
};
struct Track {
  std::vector<float> metres;
  bool plausible = true;
};
using Log = std::vector<Block>;

Log make_log(std::size_t blocks) {
  std::mt19937_64 random(17'010'521);
  Log log(blocks);
  for (Block& block : log) {
    block.coded.resize(reports_each);
    for (std::uint16_t& report : block.coded) report = static_cast<std::uint16_t>(random());
  }
  return log;
}

// A range and a bearing in 16 bits, smoothed along the track.
Track decode(const Block& block) {
  Track track;
  track.metres.reserve(block.coded.size());
  float smooth = 0;
  for (const std::uint16_t report : block.coded) {
    const float range = static_cast<float>(report & 0x3FF);
    const float bearing = static_cast<float>(report >> 10) * 0.0981748F;
    smooth = 0.8F * smooth + 0.2F * range * std::sqrt(1 + std::cos(bearing) * std::sin(2 * bearing) * 0.5F);
    track.metres.push_back(smooth);
  }
  return track;
}

Track check(Track track) {
  float jump = 0;
  for (std::size_t i = 1; i < track.metres.size(); ++i) {
    jump = std::max(jump, std::fabs(track.metres[i] - track.metres[i - 1]));
  }
  track.plausible = jump < 1000;
  return track;
}

// Packs differences; a block begins from where the last one ended, so blocks must come in order.
class Packer {
 public:
  void pack(const Track& track) {
    if (!track.plausible) return;
    for (const float metres : track.metres) {
      const auto now = static_cast<std::int32_t>(metres);
      sum_ = sum_ * 31 + static_cast<std::uint64_t>(now - last_);
      last_ = now;
    }
  }
  std::uint64_t sum() const { return sum_; }

 private:
  std::int32_t last_ = 0;
  std::uint64_t sum_ = 0;
};

std::uint64_t convoy(const Log& log) {
  Packer packer;
  for (const Block& block : log) packer.pack(check(decode(block)));
  return packer.sum();
}

// A queue between threads, as written by hand: a lock and a condition for every block.
template <class T>
class Queue {
 public:
  void put(std::optional<T> item) {
    const std::lock_guard<std::mutex> lock(mutex_);
    items_.push(std::move(item));
    filled_.notify_one();
  }
  std::optional<T> take() {
    std::unique_lock<std::mutex> lock(mutex_);
    filled_.wait(lock, [&] { return !items_.empty(); });
    std::optional<T> item = std::move(items_.front());
    items_.pop();
    return item;
  }

 private:
  std::mutex mutex_;
  std::condition_variable filled_;
  std::queue<std::optional<T>> items_;
};

// A thread for each stage: as fast as the slowest stage, however many workers there are.
std::uint64_t a_thread_a_stage(const Log& log) {
  Queue<Track> decoded;
  Queue<Track> checked;
  const std::jthread decoding([&] {
    for (const Block& block : log) decoded.put(decode(block));
    decoded.put(std::nullopt);
  });
  const std::jthread checking([&] {
    while (std::optional<Track> track = decoded.take()) checked.put(check(std::move(*track)));
    checked.put(std::nullopt);
  });
  Packer packer;
  while (std::optional<Track> track = checked.take()) packer.pack(*track);
  return packer.sum();
}

}  // namespace estuary

int main(int argc, char** argv) {
  using namespace antcrew;
  Study reports("Position reports read, decoded, checked and packed", estuary::make_log, estuary::convoy);
  reports.sizes({50, 500});  // blocks

  reports.variant<Workers>("a thread for each stage",
                           [](const auto& log, Workers) { return estuary::a_thread_a_stage(log); });
  const auto packed = reports.variant<ThreadCrew>("all decoded, then packed", [](const auto& log, auto& crew) {
    const auto tracks = crew.collect(log.size(), [&](std::size_t k) { return estuary::check(estuary::decode(log[k])); },
                                     {.split = Split::chunks(4)});
    const Phase packing("pack");
    estuary::Packer packer;
    for (const estuary::Track& track : tracks) packer.pack(track);
    return packer.sum();
  });
  const auto lines = reports.on_every_crew("pipeline", [](const estuary::Log& log, auto& crew) {
    estuary::Packer packer;
    auto line = pipeline([&, next = std::size_t{0}]() mutable -> std::optional<const estuary::Block*> {
                  return next < log.size() ? std::optional(&log[next++]) : std::nullopt;
                })
                    .many("decode", [](const estuary::Block* block) { return estuary::decode(*block); })
                    .many("check", [](estuary::Track track) { return estuary::check(std::move(track)); })
                    .as_read("pack", [&](const estuary::Track& track) { packer.pack(track); });
    line.run(crew);
    return packer.sum();
  });
  reports.ladder({packed, lines.front()});  // packing overlapped with decoding
  return study_main(argc, argv, reports);
}
