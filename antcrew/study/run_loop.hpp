// The run loop on any host and any clock: what is tried when. run() gives it stands and the machine's own clock.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>

#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/machine.hpp"
#include "antcrew/machine/noise.hpp"
#include "antcrew/study/host.hpp"
#include "antcrew/study/layer.hpp"
#include "antcrew/study/run.hpp"

namespace antcrew::study_layer {

struct RunTools {
  Host& host;
  Machine machine = {};
  double load_before = 0;  // processors that others kept busy just before
  std::function<std::int64_t()> now_ns = antcrew::now_ns;
  std::function<MachineTimes()> machine_times = antcrew::machine_layer::machine_times;
  // Processors that others keep busy, looked at for so many seconds; none = it is not looked at.
  std::function<double(double)> other_load = {};
  std::function<double()> own_cpu_s = [] { return 0.0; };  // of this process and what it waited for
  std::function<bool()> alone = [] { return true; };       // no other study is measured on this machine
  // One time of each piece of the yardstick, of the stream only where that is asked for; none = it is not timed.
  std::function<YardstickFacts(bool stream)> yardstick = {};
};

// As run() and run_on(), with `begun` null for a new record. `fresh` is a record without points and cells, in which the
// caller has filled in what is not the run loop's: versions, creation time and how the program was built.
Record run_with(const RunTools& tools, const Outline& study, const Plan& plan, const RunHooks& hooks, Record fresh,
                const Record* begun = nullptr);

// The same on this machine and its own clock, on a host that is made once all is known to be sound. `fresh` holds what
// the caller knows of how the study was built; machine, versions and time are filled in here.
Record run_hosted(const std::function<std::unique_ptr<Host>()>& make_host, const Outline& study, const Plan& plan,
                  const RunHooks& hooks, Record fresh, const Record* begun = nullptr);

}  // namespace antcrew::study_layer
