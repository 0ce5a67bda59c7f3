// Work that waits, with more workers than processors: as many items as workers, and ten times as many; both crews.
#include <antcrew/antcrew.hpp>
#include <chrono>
#include <thread>

namespace {

struct Waits {
  std::size_t count;
  std::chrono::microseconds wait;
};

std::size_t one_by_one(const Waits& in) {
  for (std::size_t k = 0; k < in.count; ++k) std::this_thread::sleep_for(in.wait);
  return in.count;
}

}  // namespace

int main(int argc, char** argv) {
  using namespace antcrew;
  using namespace antcrew::layers;
  const auto make = [](const Point& at) {
    return Waits{at.size, std::chrono::microseconds(static_cast<long>(at["wait_us"]))};
  };
  Study once("As many items as workers, waiting 0.3 ms each", make, one_by_one);
  once.sizes({64});
  once.dimension("wait_us", {300});
  once.workers({16, 64});
  Study often("320 items, waiting 20 ms each", make, one_by_one);
  often.sizes({320});
  often.dimension("wait_us", {20'000});
  often.workers({32});
  const auto on_threads = [](const Waits& in, auto& crew) {
    crew.each(in.count, Split::chunks(1), [&](std::size_t) { std::this_thread::sleep_for(in.wait); });
    return in.count;
  };
  const auto on_tasks = [](const Waits& in, auto& crew) {
    crew.each(in.count, Grain{1}, [&](std::size_t) { std::this_thread::sleep_for(in.wait); });
    return in.count;
  };
  once.variant<ThreadCrew>("chunks(1)", on_threads);
  once.variant<TaskCrew>("Grain{1}", on_tasks);
  often.variant<ThreadCrew>("chunks(1)", on_threads);
  often.variant<TaskCrew>("Grain{1}", on_tasks);
  return study_main(argc, argv, once, often);
}
