// A study program with a mistake, or an oddity, that the environment names: what a user would see of it.
#include <antcrew/antcrew.hpp>
#include <chrono>
#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <stdexcept>
#include <string>
#include <thread>
#include <vector>

using namespace antcrew;

namespace {

// Its workers would be processes that a launcher begins; here the one that leads is alone.
struct Launched {
  static constexpr const char* crew_name = "Launched";
  Launched(int, const CrewOptions&) {}
  const CrewFacts& facts() const { return facts_; }
  static bool join(int, char**) {
    joined = true;
    return true;
  }
  static void leave() { std::fprintf(stderr, "left in peace\n"); }
  static void open_log() {}
  static void close_log(internal::LaneLog&) {}
  static double empty_call_s() { return 0; }
  static inline bool joined = false;

 private:
  CrewFacts facts_;
};

double launched_total(const std::vector<double>& in, const std::string& plant, double total) {
  if (!Launched::joined) throw std::logic_error("called where nothing was launched");
  static int calls = 0;
  if (++calls == 3 && plant == "launched-crash") std::raise(SIGSEGV);
  if (calls == 3 && plant == "launched-exit") std::_Exit(9);
  if (calls == 3 && plant == "launched-throw") throw std::out_of_range("no rank 17");
  if (calls == 3 && plant == "launched-stuck") std::this_thread::sleep_for(std::chrono::seconds(1'000));
  if (plant == "launched-wrong") return total + static_cast<double>(in.size());
  std::this_thread::sleep_for(std::chrono::milliseconds(2));
  return total;
}

}  // namespace

int main(int argc, char** argv) {
  const char* named = std::getenv("ANTCREW_PLANT");
  const std::string plant = named == nullptr ? "" : named;
  const auto make = [](std::size_t n) { return std::vector<double>(n, 0.5); };
  const auto total = [plant](const std::vector<double>& in) {
    double sum = 0;
    for (const double depth : in) sum += depth;
    return plant == "small" ? 1e-12 * sum : sum;
  };
  Study sums(plant == "title" ? "Sums\x1b[2J\xff of\nlevels" : "Sums of levels", make, total,
             within(plant == "tolerance" ? -1 : 1e-9));
  if (plant != "sizes") sums.sizes({1000});
  const auto right = sums.variant<Workers>("right", [=](const auto& in, Workers) { return total(in); });
  if (plant == "twice") sums.variant<Workers>("right", [=](const auto& in, Workers) { return total(in); });
  if (plant == "probe")
    sums.probe<Workers>("of nothing", VariantHandle(sums, 9), [=](const auto& in, Workers) { return total(in); });
  if (plant == "loud") {
    sums.variant<Workers>("loud", [=](const auto& in, Workers) {
      std::printf("level by level\n");
      return total(in);
    });
  }
  if (plant == "thread") {
    sums.variant<Workers>("thrower", [=](const auto& in, Workers) {
      std::thread([] { throw std::out_of_range("no gauge 17"); }).join();
      return total(in);
    });
  }
  if (plant.rfind("launched", 0) == 0) {
    sums.variant<Launched>("launched", [=](const auto& in, Launched&) { return launched_total(in, plant, total(in)); });
  }
  static_cast<void>(right);
  return study_main(argc, argv, sums);
}
