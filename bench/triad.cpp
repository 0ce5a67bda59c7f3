// a[i] = b[i] + s·c[i]: the crew's loop against hand-written threads with the same split. Memory sets the pace.
#include <antcrew/antcrew.hpp>
#include <thread>
#include <vector>

namespace {

struct Arrays {
  std::vector<double> b;
  std::vector<double> c;
  double* a;  // written by every call; each stand has its own copy
};

Arrays make(std::size_t n) {
  static std::vector<double> a;
  a.assign(n, 0);
  return {std::vector<double>(n, 1.5), std::vector<double>(n, 0.25), a.data()};
}

inline void some(const Arrays& in, antcrew::Range range) {
  double* a = in.a;
  const double* b = in.b.data();
  const double* c = in.c.data();
  for (std::size_t i = range.first; i < range.last; ++i) a[i] = b[i] + 3.0 * c[i];
}

double by_hand(const Arrays& in, int workers) {
  std::vector<std::jthread> threads;
  const auto part = [&](int w) {
    return antcrew::even_part(in.b.size(), static_cast<std::size_t>(workers), static_cast<std::size_t>(w));
  };
  for (int w = 1; w < workers; ++w) threads.emplace_back([&in, range = part(w)] { some(in, range); });
  some(in, part(0));
  threads.clear();  // joins
  return in.a[in.b.size() / 2];
}

}  // namespace

int main(int argc, char** argv) {
  using namespace antcrew;
  using namespace antcrew::layers;
  Study study(
      "a[i] = b[i] + s·c[i], two hand-written threads as the baseline", make,
      [](const Arrays& in) { return by_hand(in, 2); }, exactly());
  study.sizes({32'000'000});
  study.workers({2});
  study.variant<ThreadCrew>("each", [](const Arrays& in, auto& crew) {
    double* a = in.a;
    const double* b = in.b.data();
    const double* c = in.c.data();
    crew.each(in.b.size(), [=](std::size_t i) { a[i] = b[i] + 3.0 * c[i]; });
    return a[in.b.size() / 2];
  });
  study.variant<ThreadCrew>("ranges", [](const Arrays& in, auto& crew) {
    crew.ranges(in.b.size(), [&](Range range) { some(in, range); });
    return in.a[in.b.size() / 2];
  });
  return study_main(argc, argv, study);
}
