#include "antcrew/study/study.hpp"

#include <doctest/doctest.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <memory>
#include <numeric>
#include <thread>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/study/in_place_study.hpp"
#include "antcrew/study/run.hpp"
#include "support/command.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using namespace std::chrono_literals;

namespace {

std::vector<double> depths(std::size_t n) {
  std::vector<double> d(n);
  std::iota(d.begin(), d.end(), 0.5);
  return d;
}
double total(const std::vector<double>& d) {
  return std::accumulate(d.begin(), d.end(), 0.0);
}

Plan quick(std::vector<int> workers = {1, 2}, int rounds = 3) {
  Plan plan;
  plan.workers = std::move(workers);
  plan.rounds = rounds;
  plan.confirm = false;
  plan.seed = 7;
  return plan;
}

const CellFigures& cell(const Analysed& study, const std::string& variant, int workers) {
  for (const CellFigures& figures : study.cells) {
    if (figures.cell->variant == variant && figures.cell->workers == workers) return figures;
  }
  throw std::runtime_error("no such cell");
}

}  // namespace

TEST_CASE("a study runs without a command line and scales as its waiting work must") {
  // 4 waits of 10 ms: 40 ms in sequence, 20 ms with 2 workers, 10 ms with 4, whatever the processors do.
  Study gauges(
      "Waiting for gauges", [](std::size_t n) { return n; },
      [](std::size_t n) {
        for (std::size_t i = 0; i < n; ++i) std::this_thread::sleep_for(30ms);
        return n;
      });
  gauges.sizes({4});
  gauges.variant<ThreadCrew>("asked together", [](std::size_t n, auto& crew) {
    crew.each(n, Split::chunks(1), [](std::size_t) { std::this_thread::sleep_for(30ms); });
    return n;
  });
  const Record record = run(gauges, quick({1, 2, 4}, 6));
  const Analysed study = analyse(record);
  CHECK(cell(study, "asked together", 1).speedup->median == doctest::Approx(1).epsilon(0.1));
  CHECK(cell(study, "asked together", 2).speedup->median == doctest::Approx(2).epsilon(0.2));
  CHECK(cell(study, "asked together", 4).speedup->median == doctest::Approx(4).epsilon(0.3));
  CHECK(*cell(study, "asked together", 4).busy_processors < 0.5);  // it waits; CPU time is not wall time
  CHECK(record.complete);
  CHECK(record.cells.size() == 4);
  CHECK(record.cells[0].kind == Cell::Kind::baseline);
  CHECK(record.cells[0].trials.size() == 6);
  CHECK(record.cells[3].trials.size() == 6);
  CHECK(record.title == "Waiting for gauges");
}

TEST_CASE("every variant is given the very same input, made once for each point") {
  static std::atomic<int> made{0};
  std::vector<std::pair<std::size_t, const void*>> seen;  // a later input may lie where an earlier one was
  Study sums(
      "Sums", [](const Point& at) { return ++made, depths(at.size); }, total, within(1e-9));
  sums.sizes({100, 200});
  for (const char* name : {"a", "b"}) {
    sums.variant<Workers>(name, [&seen](const auto& in, Workers) {
      static_assert(std::is_const_v<std::remove_reference_t<decltype(in)>>);
      seen.emplace_back(in.size(), &in);
      return total(in);
    });
  }
  Plan here = quick({1}, 1);
  here.stands = false;  // so that what is seen is seen here
  run(sums, here);
  CHECK(made == 2);
  std::sort(seen.begin(), seen.end());
  CHECK(std::unique(seen.begin(), seen.end()) - seen.begin() == 2);
}

TEST_CASE("wrong answers and exceptions are faults of their cells; all others finish") {
  Study sums("Sums", depths, total, within(1e-9));
  sums.sizes({1000});
  sums.variant<ThreadCrew>("right", [](const auto& in, auto& crew) {
    return crew.fold(
        in.size(), 0.0, [&](Range r) { return std::accumulate(&in[r.first], &in[r.first] + r.size(), 0.0); },
        std::plus<>());
  });
  sums.variant<Workers>("each thread did it all", [](const auto& in, Workers workers) { return total(in) * workers; });
  sums.variant<Workers>("throws with two", [](const auto& in, Workers workers) {
    if (workers == 2) throw std::out_of_range("no gauge 17");
    return total(in);
  });
  sums.variant<Workers>("throws a number", [](const auto&, Workers) -> double { throw 17; });
  auto calls = std::make_shared<std::atomic<int>>(0);
  sums.variant<Workers>("sometimes wrong", [calls](const auto& in, Workers) { return total(in) + (++*calls % 2); });

  const Record record = run(sums, quick());
  const Analysed study = analyse(record);
  CHECK(cell(study, "right", 2).verdict >= Verdict::too_few_rounds);
  CHECK(cell(study, "each thread did it all", 1).verdict >= Verdict::too_few_rounds);
  CHECK(cell(study, "each thread did it all", 2).verdict == Verdict::wrong_answer);
  CHECK(cell(study, "each thread did it all", 2).evidence == "expected 500000, got 1000000 (difference 5e+05)");
  CHECK(cell(study, "throws with two", 1).verdict >= Verdict::too_few_rounds);
  CHECK(cell(study, "throws with two", 2).verdict == Verdict::threw);
  CHECK(cell(study, "throws with two", 2).evidence == "in 2 of 2 tries: std::out_of_range: no gauge 17");
  CHECK(cell(study, "throws a number", 1).evidence == "in 2 of 2 tries: int");
  CHECK(cell(study, "sometimes wrong", 1).verdict == Verdict::wrong_answer);
}

TEST_CASE("a baseline or input maker that throws stops its point and is reported; other points go on") {
  Study sums(
      "Sums",
      [](std::size_t n) {
        if (n == 10) throw std::runtime_error("no such reach");
        return depths(n);
      },
      [](const std::vector<double>& in) {
        if (in.size() == 20) throw std::logic_error("odd");
        return total(in);
      },
      within(1e-9));
  sums.sizes({10, 20, 30});
  sums.variant<Workers>("plain", [](const auto& in, Workers) { return total(in); });
  const Record record = run(sums, quick({1}));
  const Analysed study = analyse(record);
  CHECK(study.cells[0].evidence == "the input maker threw std::runtime_error: no such reach");
  CHECK(study.cells[2].evidence == "the baseline threw std::logic_error: odd");
  CHECK(study.cells[1].verdict == Verdict::not_measured);
  CHECK(study.cells[5].verdict >= Verdict::too_few_rounds);
}

TEST_CASE("the order of cells comes from the seed, which the record keeps") {
  const auto order_with = [](std::uint64_t seed) {
    std::string order;
    Study sums("Sums", depths, total, within(1e-9));
    sums.sizes({10});
    for (const char* name : {"a", "b", "c", "d", "e"}) {
      sums.variant<Workers>(name, [](const auto& in, Workers) { return total(in); });
    }
    Plan plan = quick({1}, 2);
    plan.seed = seed;
    RunHooks hooks;
    hooks.on_visit = [&](const Progress& p) {
      order += p.variant[0] == 'b' && p.variant.size() > 1 ? '-' : p.variant[0];
    };
    const Record record = run(sums, plan, hooks);
    CHECK((seed == 0 ? record.plan.seed != 0 : record.plan.seed == seed));
    return order;
  };
  const std::string seven = order_with(7);
  CHECK(seven.size() == 2 * (5 + 1));
  CHECK(std::count(seven.begin(), seven.end(), '-') == 2);
  CHECK(order_with(7) == seven);
  CHECK(order_with(8) != seven);
  order_with(0);
}

TEST_CASE("a call too short for the clock is repeated inside a trial") {
  Study nothing(
      "Nothing", [](std::size_t n) { return n; }, [](std::size_t n) { return n; });
  nothing.sizes({1});
  nothing.variant<Workers>("also nothing", [](std::size_t n, Workers) { return n; });
  const Record record = run(nothing, quick({1}));
  for (const Cell& tried : record.cells) {
    for (const Trial& trial : tried.trials) {
      CHECK(trial.calls > 100);
      CHECK(trial.wall_s < 2e-6);
      CHECK(trial.wall_s > 0);
    }
  }
}

TEST_CASE("the budget ends the rounds") {
  Study waits(
      "Waits", [](std::size_t n) { return n; },
      [](std::size_t n) {
        std::this_thread::sleep_for(5ms);
        return n;
      });
  waits.sizes({1, 2});
  waits.variant<Workers>("same", [](std::size_t n, Workers) {
    std::this_thread::sleep_for(5ms);
    return n;
  });
  Plan plan = quick({1, 2}, 100'000);
  plan.budget_s = 2;
  const Record record = run(waits, plan);
  CHECK(record.measured_s < 6);
  CHECK(record.complete);
  for (std::size_t i = 0; i < record.cells.size(); i += 3) {
    const std::size_t rounds = record.cells[i + 1].trials.size();
    CHECK(record.cells[i].trials.size() == rounds);
    CHECK(record.cells[i + 2].trials.size() == rounds);
  }
  CHECK(record.cells[4].trials.size() >= 1);  // of the largest size
}

TEST_CASE("answers may be move-only, of a type of their own, and are destroyed off the clock") {
  struct Chart {
    std::unique_ptr<std::vector<double>> levels;
  };
  const auto make = [](const std::vector<double>& in) { return Chart{std::make_unique<std::vector<double>>(in)}; };
  Study charts("Charts", depths, make, [](const Chart& a, const auto& b) { return *a.levels == *b.levels; });
  charts.sizes({1000});
  struct SlowToDie : Chart {
    explicit SlowToDie(Chart chart) : Chart(std::move(chart)) {}
    SlowToDie(SlowToDie&&) = default;
    ~SlowToDie() {
      if (levels) std::this_thread::sleep_for(3ms);
    }
  };
  charts.variant<Workers>("slow to die", [make](const auto& in, Workers) { return SlowToDie(make(in)); });
  const Record record = run(charts, quick({1}, 1));
  CHECK(analyse(record).cells[1].verdict >= Verdict::too_few_rounds);
  CHECK(record.cells[1].trials.at(0).wall_s < 2e-3);
}

TEST_CASE("grids and studies that cannot be run are refused in one line") {
  Study sums("Sums", depths, total, within(1e-9));
  CHECK_THROWS_WITH_AS(run(sums), "study 'Sums': no sizes; give some with study.sizes({…}) or --sizes", Error);
  const auto refused = [](const auto& mistake) {
    Study broken("Broken", depths, total, within(1e-9));
    broken.template variant<Workers>("by hand", [](const auto& in, Workers) { return total(in); });
    mistake(broken);  // throws nothing: an Error that leaves main() would end in an abort
    broken.sizes({5});
    CHECK_THROWS_AS(run(broken), Error);
  };
  refused([](auto& study) { study.sizes({}); });
  refused([](auto& study) { study.sizes({0}); });
  refused([](auto& study) { study.sizes({5, 5}); });
  refused([](auto& study) { study.workers({0}); });
  refused([](auto& study) { study.workers({-3}); });
  refused([](auto& study) { study.workers({1'000'000}); });
  refused([](auto& study) { study.dimension("size", {1}); });
  refused([](auto& study) { study.dimension("a=b", {1}); });
  refused([](auto& study) { study.pinning({}); });
  refused([](auto& study) {
    study.template variant<Workers>("by hand", [](const auto& in, Workers) { return total(in); });
  });
  refused([](auto& study) {
    study.template probe<Workers>("of nothing", VariantHandle(study, 17),
                                  [](const auto& in, Workers) { return total(in); });
  });
  refused([](auto& study) {
    Study other("Other", depths, total, within(1e-9));
    const auto foreign = other.template variant<Workers>("foreign", [](const auto& in, Workers) { return total(in); });
    study.ladder({foreign});
  });
  sums.sizes({5});
  CHECK_THROWS_AS(run(sums), Error);  // no variant
  sums.variant<Workers>("by hand", [](const auto& in, Workers) { return total(in); });
  sums.variant<ThreadCrew>("by hand", [](const auto& in, auto&) { return total(in); });  // another crew: another key
  Study twice("Twice", depths, total, within(1e-9));
  twice.sizes({5});
  for (int k = 0; k < 2; ++k) twice.variant<Workers>("by hand", [](const auto& in, Workers) { return total(in); });
  CHECK_THROWS_WITH_AS(
      run(twice),
      "study 'Twice': two variants are called 'by hand' with the crew Workers; give one of them another name", Error);
  Study negative("Negative", depths, total, within(-1));
  negative.sizes({5});
  negative.variant<Workers>("by hand", [](const auto& in, Workers) { return total(in); });
  CHECK_THROWS_WITH_AS(run(negative), "study 'Negative': a tolerance of -1; give zero or more, such as within(1e-9)",
                       Error);
  Plan plan = quick();
  plan.variants = {"by magic"};
  CHECK_THROWS_AS(run(sums, plan), Error);
  plan.variants = {"by hand (ThreadCrew)"};
  CHECK(run(sums, plan).cells.size() == 3);
  plan.rounds = -1;
  CHECK_THROWS_AS(run(sums, plan), Error);
}

TEST_CASE("default worker counts end at the usable processors") {
  CHECK(default_workers(1) == std::vector<int>{1});
  CHECK(default_workers(2) == std::vector<int>{1, 2});
  CHECK(default_workers(6) == std::vector<int>{1, 2, 4, 6});
  CHECK(default_workers(8) == std::vector<int>{1, 2, 4, 8});
}

TEST_CASE("one body on every crew that can run it, on those named, and only where its requirement holds") {
  Study sums("Depths added up", depths, total, within(1e-9));
  sums.sizes({1000});
  const auto folded = [](const std::vector<double>& d, auto& crew) {
    const auto part = [&](Range range) {
      double sum = 0;
      for (const std::size_t i : range) sum += d[i];
      return sum;
    };
    return crew.fold(d.size(), 0.0, part, std::plus<>());
  };
  CHECK(sums.on_every_crew("folded", folded).size() == 2);
  CHECK(sums.on_every_crew<TaskCrew>("folded by tasks", folded).size() == 1);
  const auto forked = [](const std::vector<double>& d, auto& crew) requires requires {
    crew.pool();
  }
  {
    const auto half = d.begin() + static_cast<std::ptrdiff_t>(d.size() / 2);
    auto [a, b] = crew.both([&] { return std::accumulate(d.begin(), half, 0.0); },
                            [&] { return std::accumulate(half, d.end(), 0.0); });
    return a + b;
  };
  CHECK(sums.on_every_crew("forked", forked).size() == 1);
  const Record record = run(sums, quick());
  const Analysed analysed = analyse(record);
  CHECK(analysed.cells.size() == 1 + 4 * 2);
  CHECK(cell(analysed, "forked", 2).cell->crew == "TaskCrew");
  for (const CellFigures& figures : analysed.cells) {
    CHECK(
        std::all_of(figures.cell->trials.begin(), figures.cell->trials.end(), [](const Trial& t) { return t.agreed; }));
  }
}

TEST_CASE("work that a body began and did not wait for is in its time, counted, and its exception is the call's") {
  Study waits(
      "Gauges asked, not waited for", [](std::size_t n) { return n; },
      [](std::size_t n) {
        std::this_thread::sleep_for(2ms);
        return n;
      });
  waits.sizes({3});
  waits.variant<TaskCrew>("not waited for", [](std::size_t n, TaskCrew& crew) {
    for (std::size_t i = 0; i < n; ++i) static_cast<void>(crew.begin([] { std::this_thread::sleep_for(10ms); }));
    return n;
  });
  waits.variant<TaskCrew>("throws unseen", [](std::size_t n, TaskCrew& crew) {
    static_cast<void>(crew.begin([] { throw std::runtime_error("gauge 3 is dry"); }));
    return n;
  });
  const Record record = run(waits, quick({2}));
  const Analysed analysed = analyse(record);
  const CellFigures& unwaited = cell(analysed, "not waited for", 2);
  CHECK(unwaited.verdict >= Verdict::too_few_rounds);
  CHECK(unwaited.time_s->median >= 0.010);
  CHECK(unwaited.counters.at(internal::unwaited_work) == 3);
  CHECK(cell(analysed, "throws unseen", 2).verdict == Verdict::threw);
  CHECK(cell(analysed, "throws unseen", 2).evidence.find("gauge 3 is dry") != std::string::npos);
}

TEST_CASE("on every crew, in place: each gets its own fresh copy and its answer is read from it") {
  InPlaceStudy doubled(
      "Depths doubled", depths,
      [](std::vector<double>& d) {
        for (double& x : d) x *= 2;
      },
      [](const std::vector<double>& d) -> const std::vector<double>& { return d; }, exactly());
  doubled.sizes({500});
  doubled.on_every_crew("each", [](std::vector<double>& d, auto& crew) { crew.each(d, [](double& x) { x *= 2; }); });
  doubled.variant<TaskCrew>("by forks", [](std::vector<double>& d, TaskCrew& crew) {
    const auto half = d.size() / 2;
    const auto some = [&](std::size_t first, std::size_t last) {
      for (std::size_t i = first; i < last; ++i) d[i] *= 2;
    };
    crew.both([&] { some(0, half); }, [&] { some(half, d.size()); });
  });
  const Record record = run(doubled, quick());
  for (const CellFigures& figures : analyse(record).cells) {
    CAPTURE(figures.cell->variant);
    CHECK(figures.cell->faults.empty());
    CHECK(figures.cell->trials.size() >= 3);
  }
}
