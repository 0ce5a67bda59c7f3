#include "antcrew/crew/thread_crew.hpp"

namespace antcrew {

ThreadCrew::ThreadCrew(int workers, const CrewOptions& options)
    : workers_(checked_workers(workers, "ThreadCrew")), facts_{options, {}, {}, 0, {}} {
  check_options_of_threads(options, "ThreadCrew");
  const internal::InFrame starting({internal::Doing::starting, internal::Shortage::none, 0, nullptr, nullptr});
  if (workers_ == 1 && options.pin == Pin::off) return;
  team_ = std::make_unique<internal::Team>(workers_, options);
  facts_ = team_->facts();
}

}  // namespace antcrew
