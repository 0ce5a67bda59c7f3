// What is tried beside metered calls: all threads on one processor, loops that only wait, places in the source.
#include <doctest/doctest.h>
#include <sched.h>
#include <unistd.h>

#include <atomic>
#include <chrono>
#include <csignal>
#include <thread>

#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/parking.hpp"
#include "antcrew/study/internal/one_place.hpp"
#include "antcrew/study/internal/source_place.hpp"
#include "antcrew/study/internal/spin_samples.hpp"

using namespace antcrew;
using namespace antcrew::internal;

namespace {

int allowed_processors(pid_t thread = 0) {
  cpu_set_t allowed;
  CPU_ZERO(&allowed);
  ::sched_getaffinity(thread, sizeof allowed, &allowed);
  return CPU_COUNT(&allowed);
}

int first_allowed() {
  cpu_set_t allowed;
  ::sched_getaffinity(0, sizeof allowed, &allowed);
  int processor = 0;
  while (!CPU_ISSET(static_cast<std::size_t>(processor), &allowed)) ++processor;
  return processor;
}

template <class Step>
void for_cpu_seconds(double seconds, Step step) {
  const std::int64_t until = thread_cpu_ns() + static_cast<std::int64_t>(seconds * 1e9);
  while (thread_cpu_ns() < until) step();
}

void wait_without_sleeping() {
  for (int k = 0; k < 2000; ++k) relax();
}
void multiply_on() {
  volatile double value = 1;
  for (int k = 0; k < 20'000; ++k) value = value * 1.0000001 + 0.5;
}

}  // namespace

TEST_CASE("all threads are on one processor while it lasts, those begun meanwhile too, and back afterwards") {
  const int before = allowed_processors();
  std::atomic<pid_t> other{0};
  std::atomic<bool> over{false};
  std::thread early([&] {
    other = ::gettid();
    while (!over) std::this_thread::sleep_for(std::chrono::milliseconds(1));
  });
  while (other == 0) std::this_thread::yield();
  std::atomic<pid_t> late_id{0};
  std::thread late;
  {
    OnOnePlace place(first_allowed(), 5);
    CHECK(allowed_processors() == 1);
    CHECK(allowed_processors(other) == 1);
    late = std::thread([&] {
      late_id = ::gettid();
      while (!over) std::this_thread::sleep_for(std::chrono::milliseconds(1));
    });
    while (late_id == 0) std::this_thread::yield();
    CHECK(allowed_processors(late_id) == 1);
    CHECK(place.kept());
  }
  CHECK(allowed_processors() == before);
  CHECK(allowed_processors(other) == before);
  CHECK(allowed_processors(late_id) == before);
  over = true;
  early.join();
  late.join();
}

TEST_CASE("whoever takes longer there than foreseen may go where it likes, and that is told") {
  const int before = allowed_processors();
  OnOnePlace place(first_allowed(), 0.02);
  for (int k = 0; k < 400 && place.kept(); ++k) std::this_thread::sleep_for(std::chrono::milliseconds(5));
  CHECK(!place.kept());
  CHECK(allowed_processors() == before);
}

TEST_CASE("a processor that is not there is refused, and nothing is moved") {
  const int before = allowed_processors();
  OnOnePlace place(CPU_SETSIZE - 1, 1);
  CHECK(!place.kept());
  CHECK(allowed_processors() == before);
}

TEST_CASE("samples tell loops that only wait from loops that multiply_on, in all threads") {
  const auto share = [](auto work) {
    const SpinSamples samples;
    std::thread other([&] { for_cpu_seconds(0.3, work); });
    for_cpu_seconds(0.3, work);
    other.join();
    REQUIRE(samples.all() >= 20);
    return static_cast<double>(samples.spinning()) / static_cast<double>(samples.all());
  };
  CHECK(share(wait_without_sleeping) > 0.4);  // without optimisation half of the loop is calls
  CHECK(share(multiply_on) < 0.1);
}

TEST_CASE("a program's own use of the signal is left alone, and the default comes back otherwise") {
  struct sigaction now = {};
  {
    const SpinSamples samples;
    ::sigaction(SIGPROF, nullptr, &now);
    CHECK((now.sa_flags & SA_SIGINFO) != 0);
  }
  ::sigaction(SIGPROF, nullptr, &now);
  CHECK((now.sa_handler == SIG_DFL));
  struct sigaction own = {};
  own.sa_handler = [](int) {};
  ::sigaction(SIGPROF, &own, nullptr);
  {
    const SpinSamples samples;
    for_cpu_seconds(0.05, multiply_on);
    CHECK(samples.all() == 0);
  }
  ::sigaction(SIGPROF, nullptr, &now);
  CHECK((now.sa_handler == own.sa_handler));
  own.sa_handler = SIG_DFL;
  ::sigaction(SIGPROF, &own, nullptr);
}

TEST_CASE("an address of this program has a place or a name, one of nowhere has none") {
  const auto* here = reinterpret_cast<const char*>(&wait_without_sleeping) + 4;
  CHECK(!source_place({here}).empty());
  CHECK(source_place({reinterpret_cast<const void*>(16)}).empty());
  CHECK(source_place({}).empty());
}
