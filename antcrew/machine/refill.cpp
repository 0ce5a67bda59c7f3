#include "antcrew/machine/refill.hpp"

#include <sys/mman.h>

#include <algorithm>
#include <memory>
#include <vector>

#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/topology.hpp"
#include "antcrew/machine/usage.hpp"

namespace antcrew::machine_layer {
namespace {

constexpr std::size_t line = 64;
constexpr std::size_t buffer_bytes = 8u << 20;
constexpr std::uint64_t least_working_set = 256u << 10;  // stacks, code and the crew have one too
constexpr std::uint64_t unknown_cache = 32u << 20;

// Out of every cache, as far as a program may ask for that.
void flush(const unsigned char* bytes, std::size_t count) {
#if defined(__x86_64__)
  for (std::size_t at = 0; at < count; at += line) asm volatile("clflush %0" : : "m"(bytes[at]) : "memory");
  asm volatile("mfence" : : : "memory");
#else
  const auto other = std::make_unique<unsigned char[]>(8 * count);  // pushes the first one out
  for (std::size_t at = 0; at < 8 * count; at += line) other[at] = bytes[at % count];
  asm volatile("" : : "r"(other.get()) : "memory");
#endif
}

double known_read_speed = 0;

double measured_stream_s() {
  const auto buffer = std::make_unique<unsigned char[]>(buffer_bytes);
  std::int64_t shortest = INT64_MAX;
  for (int attempt = 0; attempt < 3; ++attempt) {
    flush(buffer.get(), buffer_bytes);
    unsigned sum = 0;
    const std::int64_t start = now_ns();
    for (std::size_t at = 0; at < buffer_bytes; at += line) sum += buffer[at];
    asm volatile("" : : "r"(sum));
    shortest = std::min(shortest, now_ns() - start);
  }
  return static_cast<double>(std::max<std::int64_t>(shortest, 1)) * 1e-9;
}

double measured_read_speed() {
  return known_read_speed > 0 ? known_read_speed : static_cast<double>(buffer_bytes) / measured_stream_s();
}

std::uint64_t last_level_cache() {
  const auto& caches = topology().caches;
  return caches.empty() || caches.back().bytes == 0 ? unknown_cache : caches.back().bytes;
}

}  // namespace

namespace {

double measured_page_fault_s() {
  constexpr std::size_t bytes = 1u << 20;
  constexpr std::size_t page = 4096;
  std::vector<double> each;
  for (int attempt = 0; attempt < 3; ++attempt) {
    void* memory = ::mmap(nullptr, bytes, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    if (memory == MAP_FAILED) return 0;
    auto* touched = static_cast<volatile unsigned char*>(memory);
    const std::int64_t faults_before = minor_faults();
    const std::int64_t start = now_ns();
    for (std::size_t at = 0; at < bytes; at += page) touched[at] = 1;
    const std::int64_t took_ns = now_ns() - start;
    const std::int64_t faults = minor_faults() - faults_before;
    ::munmap(memory, bytes);
    if (faults > 0) each.push_back(static_cast<double>(took_ns) * 1e-9 / static_cast<double>(faults));
  }
  if (each.empty()) return 0;
  std::sort(each.begin(), each.end());
  return each[each.size() / 2];
}

}  // namespace

double page_fault_s() {
  static const double seconds = measured_page_fault_s();
  return seconds;
}

double read_speed() {
  static const double speed = measured_read_speed();
  return speed;
}

double seconds_of_stream() {
  return measured_stream_s();
}

void know_read_speed(double bytes_per_s) {
  known_read_speed = bytes_per_s;
}

double refill_s(std::uint64_t working_set_bytes) {
  const std::uint64_t bytes = std::min(last_level_cache(), std::max(working_set_bytes, least_working_set));
  return static_cast<double>(bytes) / read_speed();
}

}  // namespace antcrew::machine_layer
