// Silt that spreads over a grid, in ranks: each has some rows, tells its neighbours its first and last one in every
// step (halo exchange), and now and then all rows are gathered by rank 0, which looks at them by itself.
//
// Usage: silt_ranks [--sequential] SIDE STEPS. Writes its phases by rank to the file named in ANTCREW_PHASES.
#include <mpi.h>

#include <unistd.h>

#include <chrono>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <map>
#include <string>
#include <vector>

namespace {

constexpr int between_gathers = 5;
constexpr double spread = 0.2;

using Rows = std::vector<double>;

constexpr std::size_t place(int row, int side, int column = 0) {
  return static_cast<std::size_t>(static_cast<long>(row) * side + column);
}

double now_s() {
  return std::chrono::duration<double>(std::chrono::steady_clock::now().time_since_epoch()).count();
}

class Phases {
 public:
  explicit Phases(int rank) : rank_(rank) {}
  template <class Work>
  void in(const char* name, Work&& work) {
    const double begin = now_s();
    work();
    seconds_[name] += now_s() - begin;
  }
  // One line a phase, at the end: a line is appended whole, whoever else appends.
  void write() const {
    const char* path = std::getenv("ANTCREW_PHASES");
    std::FILE* file = path == nullptr ? nullptr : std::fopen(path, "a");
    if (file == nullptr) return;
    char host[64] = {};
    gethostname(host, sizeof host - 1);
    for (const auto& [name, seconds] : seconds_)
      std::fprintf(file, "{\"phase\": \"%s\", \"s\": %.9f, \"worker\": %d, \"host\": \"%s\"}\n", name.c_str(), seconds,
                   rank_, host);
    std::fclose(file);
  }

 private:
  int rank_;
  std::map<std::string, double> seconds_;
};

double silt_at(int row, int column) {
  return (row * 7919 + column * 104729) % 1000 * 0.001;
}

// Rows 1 … count of `from` into `to`; rows 0 and count + 1 are the neighbours'.
void spread_once(const Rows& from, Rows& to, int count, int side) {
  for (int row = 1; row <= count; ++row) {
    for (int column = 0; column < side; ++column) {
      const auto at = [&](int r, int c) { return from[place(r, side, (c + side) % side)]; };
      to[place(row, side, column)] =
          at(row, column) + spread * (at(row - 1, column) + at(row + 1, column) + at(row, column - 1) +
                                      at(row, column + 1) - 4 * at(row, column));
    }
  }
}

// The survey looks at all of it: how much lies deeper than its neighbours. No rank but one does this.
double look_at(const double* grid, int side) {
  double deeper = 0;
  for (int row = 1; row < side; ++row) {
    for (int column = 1; column < side; ++column) {
      const double here = grid[place(row, side, column)];
      const double above = grid[place(row - 1, side, column)];
      const double left = grid[place(row, side, column - 1)];
      deeper += (here > above ? here - above : 0) + (here > left ? here - left : 0);
    }
  }
  return deeper;
}

Rows first_rows(int first, int count, int side) {
  Rows rows(place(count + 2, side));
  for (int row = 0; row < count + 2; ++row) {
    for (int column = 0; column < side; ++column)
      rows[place(row, side, column)] = silt_at((first + row - 1 + side) % side, column);
  }
  return rows;
}

double sequential(int side, int steps) {
  Rows now = first_rows(0, side, side);
  Rows next = now;
  double seen = 0;
  for (int step = 1; step <= steps; ++step) {
    std::copy(now.end() - 2 * side, now.end() - side, now.begin());
    std::copy(now.begin() + side, now.begin() + 2 * side, now.end() - side);
    spread_once(now, next, side, side);
    std::swap(now, next);
    if (step % between_gathers == 0) seen += look_at(now.data() + side, side);
  }
  return seen;
}

double in_ranks(int side, int steps) {
  int rank = 0, ranks = 1;
  MPI_Comm_rank(MPI_COMM_WORLD, &rank);
  MPI_Comm_size(MPI_COMM_WORLD, &ranks);
  Phases phases(rank);
  std::vector<int> counts(static_cast<std::size_t>(ranks)), places(static_cast<std::size_t>(ranks));
  for (int r = 0; r < ranks; ++r) {
    const int first = static_cast<int>(static_cast<long>(side) * r / ranks);
    const int last = static_cast<int>(static_cast<long>(side) * (r + 1) / ranks);
    places[static_cast<std::size_t>(r)] = first * side;
    counts[static_cast<std::size_t>(r)] = (last - first) * side;
  }
  const int first = places[static_cast<std::size_t>(rank)] / side;
  const int count = counts[static_cast<std::size_t>(rank)] / side;
  Rows now = first_rows(first, count, side);
  Rows next = now;
  Rows whole(rank == 0 ? place(side, side) : 0);
  const int above = (rank + ranks - 1) % ranks;
  const int below = (rank + 1) % ranks;
  double seen = 0;
  for (int step = 1; step <= steps; ++step) {
    phases.in("halo exchange", [&] {
      MPI_Sendrecv(now.data() + place(count, side), side, MPI_DOUBLE, below, 0, now.data(), side, MPI_DOUBLE, above, 0,
                   MPI_COMM_WORLD, MPI_STATUS_IGNORE);
      MPI_Sendrecv(now.data() + side, side, MPI_DOUBLE, above, 1, now.data() + place(count + 1, side), side, MPI_DOUBLE,
                   below, 1, MPI_COMM_WORLD, MPI_STATUS_IGNORE);
    });
    phases.in("spreading", [&] { spread_once(now, next, count, side); });
    std::swap(now, next);
    if (step % between_gathers != 0) continue;
    phases.in("gather", [&] {
      MPI_Gatherv(now.data() + side, count * side, MPI_DOUBLE, whole.data(), counts.data(), places.data(), MPI_DOUBLE,
                  0, MPI_COMM_WORLD);
    });
    if (rank == 0) phases.in("looking at all", [&] { seen += look_at(whole.data(), side); });
  }
  phases.write();
  return seen;
}

}  // namespace

int main(int argc, char** argv) {
  const bool alone = argc > 1 && std::strcmp(argv[1], "--sequential") == 0;
  if (argc != (alone ? 4 : 3)) {
    std::fprintf(stderr, "usage: silt_ranks [--sequential] SIDE STEPS\n");
    return 2;
  }
  const int side = std::atoi(argv[argc - 2]);
  const int steps = std::atoi(argv[argc - 1]);
  if (side < 4 || side > 20'000 || steps < 1) {
    std::fprintf(stderr, "silt_ranks: a side of 4 to 20000 and one step at least\n");
    return 2;
  }
  if (alone) {
    std::printf("%.12g\n", sequential(side, steps));
    return 0;
  }
  MPI_Init(&argc, &argv);
  int rank = 0, ranks = 1;
  MPI_Comm_rank(MPI_COMM_WORLD, &rank);
  MPI_Comm_size(MPI_COMM_WORLD, &ranks);
  if (ranks > side) {
    if (rank == 0) std::fprintf(stderr, "silt_ranks: more ranks than rows\n");
    MPI_Abort(MPI_COMM_WORLD, 2);
  }
  const double seen = in_ranks(side, steps);
  if (rank == 0) std::printf("%.12g\n", seen);
  MPI_Finalize();
  return 0;
}
