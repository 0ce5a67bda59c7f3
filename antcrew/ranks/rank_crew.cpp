#include "antcrew/ranks/rank_crew.hpp"

#include <cstdio>
#include <exception>

#include "antcrew/base/error.hpp"

namespace antcrew {
namespace {

void check_options_of_ranks(const CrewOptions& options) {
  CrewOptions possible;
  possible.processes.deadline_s = options.processes.deadline_s;
  const bool as_possible = options.pin == possible.pin && options.stack_bytes == possible.stack_bytes &&
                           options.processes == possible.processes;
  if (!as_possible || !(options.processes.deadline_s >= 0)) {
    base_layer::bad_input("crew.options", "RankCrew",
                          "of the options only processes.deadline_s can be asked of ranks, 0 or more",
                          "give pins and memory limits to the launcher");
  }
}

// Of a program that was launched for a study.
std::shared_ptr<internal::RankTeam> joined;

// Begins MPI where nobody has, and ends it again.
class Begun {
 public:
  Begun(int argc, char** argv) {
    int already = 0;
    MPI_Initialized(&already);
    if (already != 0) return;
    int granted = 0;
    internal::checked(MPI_Init_thread(&argc, &argv, MPI_THREAD_FUNNELED, &granted), "MPI_Init_thread");
    ours_ = true;
  }
  ~Begun() {
    if (ours_) MPI_Finalize();
  }
  Begun(const Begun&) = delete;
  Begun& operator=(const Begun&) = delete;

 private:
  bool ours_ = false;
};

}  // namespace

CurrentRank current_rank() noexcept {
  const internal::RankNow* now = internal::rank_now;
  return now == nullptr ? CurrentRank() : CurrentRank{now->rank, now->ranks, now->threads, now->communicator};
}

RankCrew::RankCrew(MPI_Comm communicator, const CrewOptions& options) {
  check_options_of_ranks(options);
  team_ = std::make_shared<internal::RankTeam>(communicator, options.processes.deadline_s);
  facts_.asked = options;
}

RankCrew::RankCrew(Joined, const CrewOptions& options) : team_(joined), lets_go_(false) {
  team_->set_deadline(options.processes.deadline_s);
  facts_.asked = options;
}

RankCrew* RankCrew::of_launched(int workers, const CrewOptions& options) {
  check_options_of_ranks(options);
  if (!joined) {
    base_layer::could_not_run(
        "ranks.launch", "RankCrew", "no launcher has begun its workers",
        "measure it in a study with stands, or write on_ranks() and call mpirun -n " + std::to_string(workers));
  }
  if (joined->ranks() != workers) {
    base_layer::could_not_run(
        "ranks.launch", "RankCrew",
        "the launcher began " + std::to_string(joined->ranks()) + " ranks in place of " + std::to_string(workers),
        "write @(ranks) where the launcher takes the number of processes");
  }
  return new RankCrew(Joined(), options);
}

RankCrew::~RankCrew() {
  if (lets_go_) team_->let_go();
}

bool RankCrew::join(int argc, char** argv) {
  int already = 0;
  MPI_Initialized(&already);
  if (already == 0) {
    int granted = 0;
    internal::checked(MPI_Init_thread(&argc, &argv, MPI_THREAD_FUNNELED, &granted), "MPI_Init_thread");
  }
  joined = std::make_shared<internal::RankTeam>(MPI_COMM_WORLD, 0.0);
  if (joined->rank() == 0) return true;
  joined->serve();
  leave();
  return false;
}

void RankCrew::check_room(std::size_t items, std::size_t wanted) {
  if (items == wanted) return;
  base_layer::bad_input("ranks.gather", "RankCrew::gather",
                        std::to_string(items) + " items to gather " + std::to_string(wanted) + " into",
                        "give as many as the array has");
}

void RankCrew::open_log() {
  joined->open_log();
}
void RankCrew::close_log(internal::LaneLog& log) {
  joined->close_log(log);
}
double RankCrew::empty_call_s() {
  return joined->empty_order_s();
}

void RankCrew::leave() {
  if (!joined) return;
  joined->let_go();
  joined.reset();
  int finalised = 0;
  MPI_Finalized(&finalised);
  if (finalised == 0) MPI_Finalize();
}

int on_ranks(int argc, char** argv, const std::function<int(RankCrew&)>& body, const CrewOptions& options) {
  const Begun begun(argc, argv);
  int code = 0;
  try {
    RankCrew crew(MPI_COMM_WORLD, options);
    if (crew.rank() != 0) {
      crew.serve();
      return 0;
    }
    try {
      code = body(crew);
    } catch (const std::exception& error) {
      std::fprintf(stderr, "error: %s\n", error.what());
      code = 1;
    }
    if (crew.lost()) MPI_Abort(MPI_COMM_WORLD, 1);
  } catch (const std::exception& error) {
    // All ranks have the same to say of how the crew was made.
    int rank = 0;
    MPI_Comm_rank(MPI_COMM_WORLD, &rank);
    if (rank == 0) std::fprintf(stderr, "error: %s\n", error.what());
    code = 1;
  }
  return code;
}

}  // namespace antcrew
