// Text logs of the estuary's buoys, read into packed arrays: work whose results are large.
//
// A log is lines of text, one reading each; the archive keeps the readings as numbers. Done in processes, as where a
// parser leaks or crashes one would, the readings have to come back from where they were made.
#include <antcrew/antcrew.hpp>
#include <charconv>
#include <cstdint>
#include <random>
#include <string>
#include <vector>

namespace estuary {

constexpr std::size_t lines_in_a_log = 1000;

struct Reading {
  std::uint32_t minute;
  std::int32_t level_mm;
  float salinity;
  bool operator==(const Reading&) const = default;
};
using Log = std::string;

std::vector<Log> make_logs(std::size_t n) {
  std::mt19937 random(18'990'217);
  std::vector<Log> logs(n);
  for (Log& log : logs) {
    std::uint32_t minute = 0;
    for (std::size_t line = 0; line < lines_in_a_log; ++line) {
      minute += static_cast<std::uint32_t>(1 + random() % 15);
      log += std::to_string(minute) + " " + std::to_string(static_cast<int>(random() % 6000) - 3000) + " " +
             std::to_string(static_cast<double>(random() % 3500) / 100).substr(0, 5) + "\n";
    }
  }
  return logs;
}

Reading read_line(const char*& at, const char* end) {
  Reading reading{};
  at = std::from_chars(at, end, reading.minute).ptr + 1;
  at = std::from_chars(at, end, reading.level_mm).ptr + 1;
  at = std::from_chars(at, end, reading.salinity).ptr + 1;
  return reading;
}

// Every log has as many lines, so each knows where its readings belong.
template <class Out>
void read_log(const Log& log, Out out) {
  const char* at = log.data();
  for (std::size_t line = 0; line < lines_in_a_log; ++line) *out++ = read_line(at, log.data() + log.size());
}

std::vector<Reading> read_all(const std::vector<Log>& logs) {
  std::vector<Reading> archive(logs.size() * lines_in_a_log);
  for (std::size_t k = 0; k < logs.size(); ++k)
    read_log(logs[k], archive.begin() + static_cast<long>(k * lines_in_a_log));
  return archive;
}

// A log is read when its first line is asked for: indices come in ascending order within a piece.
class LineByLine {
 public:
  explicit LineByLine(const std::vector<Log>& logs) : logs_(&logs) {}
  Reading operator()(std::size_t i) {
    const Log& log = (*logs_)[i / lines_in_a_log];
    if (i != next_ || i % lines_in_a_log == 0) {
      at_ = log.data();
      for (std::size_t skipped = 0; skipped < i % lines_in_a_log; ++skipped) read_line(at_, log.data() + log.size());
    }
    next_ = i + 1;
    return read_line(at_, log.data() + log.size());
  }

 private:
  const std::vector<Log>* logs_;
  const char* at_ = nullptr;
  std::size_t next_ = 0;
};

}  // namespace estuary

int main(int argc, char** argv) {
  using namespace antcrew;
  using namespace estuary;
  using Logs = std::vector<Log>;
  Study archive("Text logs read into an archive", make_logs, read_all);
  archive.sizes({50, 2000});

  archive.on_every_crew<ThreadCrew, TaskCrew>("threads", [](const Logs& logs, auto& crew) {
    std::vector<Reading> all(logs.size() * lines_in_a_log);
    crew.each(logs.size(),
              [&](std::size_t k) { read_log(logs[k], all.begin() + static_cast<long>(k * lines_in_a_log)); });
    return all;
  });
  // What is often written first: each process returns vectors, which are put together afterwards.
  const auto vectors =
      archive.variant<ProcessCrew>("processes, a vector for each log", [](const Logs& logs, auto& crew) {
        const auto parts = crew.collect(logs.size(), [&](std::size_t k) {
          std::vector<Reading> part(lines_in_a_log);
          read_log(logs[k], part.begin());
          return part;
        });
        const Phase merge("put together");
        std::vector<Reading> all;
        for (const auto& part : parts) all.insert(all.end(), part.begin(), part.end());
        return all;
      });
  for (const Way way : {Way::copied, Way::zero_copy}) {
    archive.variant<ProcessCrew>(
        std::string("processes, ") + name_of(way), {.processes = {.way = way}}, [](const Logs& logs, auto& crew) {
          return crew.collect(logs.size() * lines_in_a_log, LineByLine(logs), {.split = Split::even()});
        });
  }
  const auto common = archive.variant<ProcessCrew>("processes, common array", [](const Logs& logs, auto& crew) {
    CommonArray<Reading> all(logs.size() * lines_in_a_log);
    crew.fill(all, LineByLine(logs));
    return all;
  });
  archive.ladder({vectors, common});  // less to move
  return study_main(argc, argv, archive);
}
