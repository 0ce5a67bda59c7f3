// A hundred megabytes compressed block by block, 128 KiB each, written in order: a pipeline against a pool of threads
// written by hand (a bounded queue under a lock, results put in order by whoever reads and writes).
#include <zlib.h>
#include <antcrew/antcrew.hpp>

#include <algorithm>
#include <condition_variable>
#include <cstdint>
#include <cstdio>
#include <deque>
#include <map>
#include <mutex>
#include <optional>
#include <stdexcept>
#include <string>
#include <thread>
#include <utility>
#include <vector>

namespace {

using Bytes = std::vector<unsigned char>;
constexpr std::size_t block_bytes = 128 * 1024;

// Lines of a tide gauge's log, made up.
Bytes make_log(std::size_t bytes) {
  Bytes log;
  log.reserve(bytes + 128);
  std::uint32_t random = 12345;
  for (int minute = 0; log.size() < bytes; ++minute) {
    random = random * 1'664'525u + 1'013'904'223u;
    char line[96];
    const int length =
        std::snprintf(line, sizeof line, "%02d:%02d gauge %u level %u.%03u m wind %u.%u m/s\n", minute / 60 % 24,
                      minute % 60, random >> 28, random >> 24 & 7, random % 1000, random >> 12 & 31, random % 10);
    log.insert(log.end(), line, line + length);
  }
  log.resize(bytes);
  return log;
}

struct Block {
  const unsigned char* first;
  std::size_t bytes;
};

Bytes packed(const Block& block) {
  uLongf bytes = compressBound(static_cast<uLong>(block.bytes));
  Bytes out(bytes);
  if (compress2(out.data(), &bytes, block.first, static_cast<uLong>(block.bytes), 1) != Z_OK)
    throw std::runtime_error("a block was not compressed");
  out.resize(bytes);
  return out;
}

// What is written, without writing it: its length and its checksum, so that order counts.
struct Written {
  std::uint64_t bytes = 0;
  std::uint64_t sum = 0;
  void add(const Bytes& block) {
    bytes += block.size();
    sum = crc32(static_cast<uLong>(sum), block.data(), static_cast<uInt>(block.size()));
  }
  std::pair<std::uint64_t, std::uint64_t> answer() const { return {bytes, sum}; }
};

class Reader {
 public:
  explicit Reader(const Bytes& log) : log_(log) {}
  std::optional<Block> operator()() {
    if (at_ == log_.size()) return std::nullopt;
    const std::size_t bytes = std::min(block_bytes, log_.size() - at_);
    return Block{log_.data() + std::exchange(at_, at_ + bytes), bytes};
  }

 private:
  const Bytes& log_;
  std::size_t at_ = 0;
};

auto in_order(const Bytes& log) {
  Reader read(log);
  Written written;
  while (const std::optional<Block> block = read()) written.add(packed(*block));
  return written.answer();
}

// Threads that stay, made once; the caller reads, and writes what comes back in order.
class Pool {
 public:
  explicit Pool(int threads) {
    for (int k = 0; k < threads; ++k) threads_.emplace_back([this] { serve(); });
  }
  ~Pool() {
    {
      const std::lock_guard<std::mutex> held(mutex_);
      leaving_ = true;
    }
    work_.notify_all();
    for (std::thread& thread : threads_) thread.join();
  }
  auto run(const Bytes& log) {
    Reader read(log);
    Written written;
    const std::size_t most = 4 * threads_.size();
    std::size_t begun = 0;
    std::size_t next = 0;
    std::unique_lock<std::mutex> lock(mutex_);
    for (bool more = true; more || next < begun;) {
      while (more && begun - next < most) {
        const std::optional<Block> block = read();
        more = block.has_value();
        if (!more) break;
        queue_.emplace_back(begun++, *block);
        work_.notify_one();
      }
      const auto found = done_.find(next);
      if (found == done_.end()) {
        if (next < begun) ended_.wait(lock);
        continue;
      }
      const Bytes block = std::move(found->second);
      done_.erase(found);
      ++next;
      lock.unlock();
      written.add(block);
      lock.lock();
    }
    return written.answer();
  }

 private:
  void serve() {
    std::unique_lock<std::mutex> lock(mutex_);
    while (true) {
      work_.wait(lock, [&] { return leaving_ || !queue_.empty(); });
      if (queue_.empty()) return;
      const auto [number, block] = queue_.front();
      queue_.pop_front();
      lock.unlock();
      Bytes made = packed(block);
      lock.lock();
      done_.emplace(number, std::move(made));
      ended_.notify_one();
    }
  }

  std::mutex mutex_;
  std::condition_variable work_;
  std::condition_variable ended_;
  std::deque<std::pair<std::size_t, Block>> queue_;
  std::map<std::size_t, Bytes> done_;
  bool leaving_ = false;
  std::vector<std::thread> threads_;
};

template <class Crew>
auto through_stages(const Bytes& log, Crew& crew) {
  Written written;
  antcrew::pipeline(Reader(log))
      .many("compress", [](Block block) { return packed(block); })
      .as_read("write", [&](Bytes block) { written.add(block); })
      .run(crew);
  return written.answer();
}

}  // namespace

int main(int argc, char** argv) {
  using namespace antcrew;
  Study study(
      "A hundred megabytes compressed in blocks", [](std::size_t n) { return make_log(n); }, in_order);
  study.sizes({100'000'000});
  study.workers({1, 2});
  std::map<int, Pool> pools;  // made before the clock runs: the settling call comes first
  study.variant<Workers>("pool by hand", [&pools](const Bytes& log, Workers workers) {
    return pools.try_emplace(workers.count, workers.count).first->second.run(log);
  });
  study.variant<ThreadCrew>("pipeline, threads",
                            [](const Bytes& log, auto& crew) { return through_stages(log, crew); });
  study.variant<TaskCrew>("pipeline, tasks", [](const Bytes& log, auto& crew) { return through_stages(log, crew); });
  return study_main(argc, argv, study);
}
