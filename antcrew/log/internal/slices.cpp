#include "antcrew/log/internal/slices.hpp"

#include <algorithm>

namespace antcrew::internal {

namespace {

bool is_work(Doing doing) noexcept {
  return doing == Doing::body || doing == Doing::serial || doing == Doing::moving || doing == Doing::starting;
}

// Clock readings lie some stretches apart. What ran in between is given to work first, up to its length: who waits
// mostly sleeps.
void share_cpu(std::vector<Slice>& slices, std::size_t first, std::size_t last, double cpu_s) {
  double work_s = 0;
  double rest_s = 0;
  for (std::size_t k = first; k < last; ++k) (is_work(slices[k].doing) ? work_s : rest_s) += slices[k].wall_s();
  const double of_work = work_s > 0 ? std::min(1.0, cpu_s / work_s) : 0;
  const double left_s = cpu_s - of_work * work_s;
  const double of_rest = rest_s > 0 ? std::min(1.0, left_s / rest_s) : 0;
  for (std::size_t k = first; k < last; ++k)
    slices[k].cpu_s = slices[k].wall_s() * (is_work(slices[k].doing) ? of_work : of_rest);
}

void share_delay(std::vector<Slice>& slices, std::size_t first, std::size_t last, double delay_s) {
  double gap_s = 0;
  // Ranks look for messages without sleeping, for a while.
  const auto would_run = [&](std::size_t k) {
    return is_work(slices[k].doing) || (slices[k].doing == Doing::message && slices[k].never_slept);
  };
  const auto gap = [&](std::size_t k) {
    return would_run(k) ? std::max(0.0, slices[k].wall_s() - slices[k].cpu_s) : 0.0;
  };
  for (std::size_t k = first; k < last; ++k) gap_s += gap(k);
  const double share = gap_s > 0 ? std::min(1.0, delay_s / gap_s) : 0;
  // Who is called out of idleness and gets no processor waited for one at the end of it.
  double left_s = delay_s - share * gap_s;
  for (std::size_t k = first; k < last; ++k) {
    slices[k].delay_s = share * gap(k);
    if (would_run(k)) continue;
    slices[k].delay_s = std::clamp(left_s, 0.0, slices[k].wall_s());
    left_s -= slices[k].delay_s;
  }
}

}  // namespace

// A lane's stretches with their CPU time and run delay. Readings of another thread begin anew; those before a lane's
// first reading of a thread are nobody's.
std::vector<Slice> slices_of(const LaneLog& log, std::size_t lane, bool& delay_known, double& cpu_s) {
  std::vector<Slice> slices;
  std::int64_t at = log.begin_ns;
  std::size_t cpu_from = 0;
  std::size_t delay_from = 0;
  const bool caller = lane == 0;
  std::int64_t cpu = caller ? log.cpu_at_begin_ns : -1;
  std::int64_t delay = caller ? log.delay_at_begin_ns : -1;
  std::uint32_t thread = caller && !log.lanes[0].empty() ? log.lanes[0].front().thread : 0;
  for (const Stretch& stretch : log.lanes[lane]) {
    const std::int64_t end = std::clamp(stretch.end_ns, at, log.end_ns);
    Slice slice;
    slice.begin_ns = at;
    slice.end_ns = end;
    slice.stretch = &stretch;
    slice.doing = stretch.doing;
    slice.cpu_s = is_work(stretch.doing) ? slice.wall_s() : 0;
    at = end;
    slices.push_back(slice);
    const std::size_t count = slices.size();
    if (stretch.thread != thread) {
      thread = stretch.thread;
      cpu = delay = -1;
      if (lane < log.cpu_before_ns.size() && stretch.doing == Doing::away) cpu = log.cpu_before_ns[lane];
      if (lane < log.delay_before_ns.size() && stretch.doing == Doing::away) delay = log.delay_before_ns[lane];
      cpu_from = delay_from = count - 1;
    }
    if (stretch.cpu_ns >= 0) {
      if (cpu >= 0 && stretch.cpu_ns >= cpu) {
        share_cpu(slices, cpu_from, count, s_of(stretch.cpu_ns - cpu));
        cpu_s += s_of(stretch.cpu_ns - cpu);
      }
      if (stretch.slept == Stretch::Slept::no) {
        for (std::size_t k = cpu_from; k < count; ++k) slices[k].never_slept = true;
      }
      cpu = stretch.cpu_ns;
      cpu_from = count;
    }
    if (stretch.delay_ns >= 0) {
      if (delay >= 0) share_delay(slices, delay_from, count, s_of(stretch.delay_ns - delay));
      delay = stretch.delay_ns;
      delay_from = count;
    } else if (stretch.cpu_ns >= 0 && stretch.end_ns - log.begin_ns > 2'000'000 && delay < 0 && caller) {
      delay_known = false;
    }
  }
  Slice rest;
  rest.begin_ns = at;
  rest.end_ns = log.end_ns;
  slices.push_back(rest);
  return slices;
}

std::vector<Stretched> moving_alone(const std::vector<std::vector<Slice>>& lanes) {
  struct Change {
    std::int64_t at_ns;
    int moving;
    int bodies;
  };
  std::vector<Change> changes;
  for (const auto& lane : lanes) {
    for (const Slice& slice : lane) {
      const int moving = slice.doing == Doing::moving ? 1 : 0;
      const int bodies = slice.doing == Doing::body ? 1 : 0;
      if (moving + bodies == 0 || slice.end_ns <= slice.begin_ns) continue;
      changes.push_back({slice.begin_ns, moving, bodies});
      changes.push_back({slice.end_ns, -moving, -bodies});
    }
  }
  std::sort(changes.begin(), changes.end(), [](const Change& a, const Change& b) { return a.at_ns < b.at_ns; });
  std::vector<Stretched> alone;
  int moving = 0;
  int bodies = 0;
  for (std::size_t k = 0; k + 1 < changes.size(); ++k) {
    moving += changes[k].moving;
    bodies += changes[k].bodies;
    if (moving == 0 || bodies > 0 || changes[k + 1].at_ns == changes[k].at_ns) continue;
    if (!alone.empty() && alone.back().end_ns == changes[k].at_ns) {
      alone.back().end_ns = changes[k + 1].at_ns;
    } else {
      alone.push_back({changes[k].at_ns, changes[k + 1].at_ns});
    }
  }
  return alone;
}

double while_moving_s(const std::vector<Stretched>& moving, std::int64_t from, std::int64_t to) {
  double seconds = 0;
  auto at = std::lower_bound(moving.begin(), moving.end(), from,
                             [](const Stretched& one, std::int64_t ns) { return one.end_ns <= ns; });
  for (; at != moving.end() && at->begin_ns < to; ++at)
    seconds += s_of(std::max<std::int64_t>(0, std::min(to, at->end_ns) - std::max(from, at->begin_ns)));
  return seconds;
}

}  // namespace antcrew::internal
