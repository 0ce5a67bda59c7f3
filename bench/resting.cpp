// What a crew costs while it rests, how long it takes to start, and how much memory a set of keys keeps. One figure a
// line: name, tab, number.
#include <fmt/format.h>
#include <malloc.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <antcrew/antcrew.hpp>
#include <chrono>
#include <filesystem>
#include <fstream>
#include <random>
#include <string>
#include <thread>

#include "antcrew/machine/clock.hpp"
#include "plain_keys.hpp"

namespace {

using namespace antcrew;
using namespace antcrew::layers;

template <class Crew>
void rest(const char* name) {
  Crew crew(2);
  crew.each(1000, [](std::size_t) {});
  std::this_thread::sleep_for(std::chrono::milliseconds(50));
  const std::int64_t before = process_cpu_ns();
  std::this_thread::sleep_for(std::chrono::seconds(1));
  fmt::print("idle {}, ms of CPU a second\t{:.4f}\n", name, static_cast<double>(process_cpu_ns() - before) * 1e-6);
}

template <class Crew>
void start(const char* name) {
  std::vector<double> ms;
  for (int again = 0; again < 21; ++again) {
    const std::int64_t begin = now_ns();
    const Crew crew(64);
    ms.push_back(static_cast<double>(now_ns() - begin) * 1e-6);
  }
  std::nth_element(ms.begin(), ms.begin() + 10, ms.end());
  fmt::print("start {} of 64, ms\t{:.3f}\n", name, ms[10]);
}

long resident_pages() {
  std::ifstream statm("/proc/self/statm");
  long size = 0, resident = 0;
  statm >> size >> resident;
  return resident;
}

std::size_t open_descriptors() {
  std::size_t count = 0;
  for (const auto& entry : std::filesystem::directory_iterator("/proc/self/fd")) count += entry.exists() ? 1 : 0;
  return count;
}

// What the parent keeps of many calls.
template <class Crew>
void call_often(const char* name) {
  Crew crew(2);
  const auto call = [&] { crew.collect(100, [](std::size_t i) { return std::string(i, 'x'); }); };
  for (int k = 0; k < 100; ++k) call();
  const long pages = resident_pages();
  const std::size_t descriptors = open_descriptors();
  for (int k = 0; k < 10'000; ++k) call();
  fmt::print("10,000 calls of a {}: memory of the parent, KiB, and descriptors\t{:+d}, {:+d}\n", name,
             4 * (resident_pages() - pages), static_cast<long>(open_descriptors()) - static_cast<long>(descriptors));
}

template <class Set>
std::shared_ptr<Set> filled(std::size_t distinct) {
  auto set = std::make_shared<Set>();
  std::mt19937_64 random(distinct);
  for (std::size_t k = 0; k < distinct; ++k) set->insert(random());
  return set;
}

// Resident memory that filling a set keeps, in a process of its own that has run the code before.
template <class Set>
double kept_bytes(std::size_t distinct) {
  int ends[2];
  if (::pipe(ends) != 0) std::abort();
  if (const pid_t child = ::fork(); child == 0) {
    const auto warm = filled<Set>(20);
    ::malloc_trim(0);  // what the parent has freed would be used again, and count for nothing
    const long before = resident_pages();
    const auto set = filled<Set>(distinct);
    ::malloc_trim(0);
    const double bytes = static_cast<double>(resident_pages() - before) * 4096;
    if (::write(ends[1], &bytes, sizeof bytes) != sizeof bytes || set == nullptr) ::_exit(1);
    ::_exit(0);
  }
  double bytes = 0;
  if (::read(ends[0], &bytes, sizeof bytes) != sizeof bytes) std::abort();
  ::wait(nullptr);
  ::close(ends[0]);
  ::close(ends[1]);
  return bytes;
}

}  // namespace

int main() {
  rest<ThreadCrew>("ThreadCrew");
  rest<TaskCrew>("TaskCrew");
  start<ThreadCrew>("ThreadCrew");
  start<TaskCrew>("TaskCrew");
  call_often<ProcessCrew>("ProcessCrew");
  call_often<StandingCrew>("StandingCrew");
  for (const std::size_t distinct : {1'000u, 10'000u, 100'000u, 1'000'000u}) {
    const double plain = kept_bytes<bench::PlainSet>(distinct);
    const double ours = kept_bytes<KeySet<std::uint64_t>>(distinct);
    fmt::print("KeySet memory at {}, over the plain set's\t{:.3f}\n", distinct, ours / std::max(plain, 4096.0));
  }
}
