// filter, find and tiles against the same written by hand: sequentially (the baseline), and with threads started at
// each call.
#include <antcrew/antcrew.hpp>
#include <atomic>
#include <cstdint>
#include <random>
#include <thread>
#include <vector>

namespace {

using Numbers = std::vector<std::uint32_t>;

Numbers random_numbers(std::size_t n) {
  std::mt19937_64 random(n);
  Numbers all(n);
  for (std::uint32_t& x : all) x = static_cast<std::uint32_t>(random());
  return all;
}

bool passes(std::uint32_t x) {
  return x % 3 == 0;
}

template <class Body>
void on_threads(int count, const Body& body) {
  std::vector<std::jthread> threads;
  for (int k = 1; k < count; ++k) threads.emplace_back([&body, k] { body(static_cast<std::size_t>(k)); });
  body(0);
}

std::size_t filter_by_hand(const Numbers& in) {
  Numbers out;
  for (const std::uint32_t x : in) {
    if (passes(x)) out.push_back(x);
  }
  return out.size();
}

std::size_t filter_with_threads(const Numbers& in, antcrew::Workers workers) {
  const auto count = static_cast<std::size_t>(workers.count);
  std::vector<Numbers> parts(count);
  on_threads(workers.count, [&](std::size_t k) {
    Numbers mine;
    for (const std::size_t i : antcrew::even_part(in.size(), count, k)) {
      if (passes(in[i])) mine.push_back(in[i]);
    }
    parts[k] = std::move(mine);
  });
  Numbers out;
  for (const Numbers& part : parts) out.insert(out.end(), part.begin(), part.end());
  return out.size();
}

// The one that is looked for lies at three quarters.
struct Haystack {
  Numbers numbers;
  std::uint32_t wanted;
};

Haystack make_haystack(std::size_t n) {
  Haystack all{random_numbers(n), 0xFFFF'FFFF};
  for (std::uint32_t& x : all.numbers) x %= 1'000'000'000;
  all.numbers[n / 4 * 3] = all.wanted;
  return all;
}

std::size_t find_by_hand(const Haystack& in) {
  std::size_t i = 0;
  while (i < in.numbers.size() && in.numbers[i] != in.wanted) ++i;
  return i;
}

std::size_t find_with_threads(const Haystack& in, antcrew::Workers workers) {
  const auto count = static_cast<std::size_t>(workers.count);
  std::atomic<std::size_t> lowest{in.numbers.size()};
  on_threads(workers.count, [&](std::size_t k) {
    for (const std::size_t i : antcrew::even_part(in.numbers.size(), count, k)) {
      if (i % 1024 == 0 && i > lowest.load(std::memory_order_relaxed)) return;
      if (in.numbers[i] != in.wanted) continue;
      std::size_t seen = lowest.load();
      while (i < seen && !lowest.compare_exchange_weak(seen, i)) {
      }
      return;
    }
  });
  return lowest;
}

// A transposed copy: without tiles every line of one of the two is fetched again and again.
struct Sheet {
  std::size_t side;
  std::vector<double> cells;
};

Sheet make_sheet(std::size_t side) {
  Sheet sheet{side, std::vector<double>(side * side)};
  for (std::size_t i = 0; i < sheet.cells.size(); ++i) sheet.cells[i] = static_cast<double>(i % 1009);
  return sheet;
}

constexpr std::size_t tile = 64;

void turn(const Sheet& in, std::vector<double>& out, const antcrew::Tile& at) {
  for (const std::size_t r : at.rows) {
    for (const std::size_t c : at.columns) out[c * in.side + r] = in.cells[r * in.side + c];
  }
}

void turn_rows(const Sheet& in, std::vector<double>& out, antcrew::Range tiles_down) {
  for (const std::size_t down : tiles_down) {
    for (std::size_t c = 0; c < in.side; c += tile) {
      turn(in, out, {{down * tile, std::min((down + 1) * tile, in.side)}, {c, std::min(c + tile, in.side)}});
    }
  }
}

double corner(const std::vector<double>& out) {
  return out[out.size() / 3];
}

}  // namespace

int main(int argc, char** argv) {
  using namespace antcrew;
  using namespace antcrew::layers;
  Study filters("Ten million numbers filtered", random_numbers, filter_by_hand);
  filters.sizes({10'000'000});
  filters.variant<ThreadCrew>("filter",
                              [](const Numbers& in, auto& crew) { return antcrew::filter(crew, in, passes).size(); });
  filters.variant<Workers>("by hand, threads", filter_with_threads);

  Study finds("One of ten million numbers found", make_haystack, find_by_hand);
  finds.sizes({10'000'000});
  finds.variant<ThreadCrew>("find", [](const Haystack& in, auto& crew) {
    return antcrew::find(crew, in.numbers, [&](std::uint32_t x) { return x == in.wanted; }).value_or(0);
  });
  finds.variant<Workers>("by hand, threads", find_with_threads);

  Study tiles(
      "A grid turned in tiles", make_sheet,
      [](const Sheet& in) {
        std::vector<double> out(in.cells.size());
        turn_rows(in, out, {0, (in.side - 1) / tile + 1});
        return corner(out);
      },
      exactly());
  tiles.sizes({2000});
  tiles.on_every_crew("tiles", [](const Sheet& in, auto& crew) {
    std::vector<double> out(in.cells.size());
    crew.tiles(in.side, in.side, TileSize{tile, tile}, [&](const Tile& at) { turn(in, out, at); });
    return corner(out);
  });
  tiles.variant<Workers>("by hand, threads", [](const Sheet& in, Workers workers) {
    std::vector<double> out(in.cells.size());
    const auto count = static_cast<std::size_t>(workers.count);
    on_threads(workers.count,
               [&](std::size_t k) { turn_rows(in, out, even_part((in.side - 1) / tile + 1, count, k)); });
    return corner(out);
  });
  for (StudyBase* study :
       {static_cast<StudyBase*>(&filters), static_cast<StudyBase*>(&finds), static_cast<StudyBase*>(&tiles)}) {
    study->workers({1, 2});
  }
  return study_main(argc, argv, filters, finds, tiles);
}
