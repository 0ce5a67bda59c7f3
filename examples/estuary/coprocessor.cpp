// Salt-wedge forecasts on a simulated attached device: build, send, compute, fetch.
//
// The device has a link and a core, each with a queue of its own, a latency and a bandwidth or a speed, and a time that
// it takes to build its program. It is faster than this machine, which has to play it: so what it is to compute has
// been computed beforehand, it gives that out if it was sent the right data, and then sleeps until the time is up. The
// ladder shows what hides behind "the device is several times as fast": building, sending and fetching each time.
#include <antcrew/studies.hpp>
#include <chrono>
#include <cmath>
#include <condition_variable>
#include <deque>
#include <functional>
#include <future>
#include <memory>
#include <mutex>
#include <numeric>
#include <optional>
#include <thread>
#include <vector>

namespace estuary {

using Seconds = std::chrono::duration<double>;

// What one of today's attached devices is like, seen from a program.
constexpr Seconds build_time{20e-3};
constexpr Seconds link_latency{50e-6};
constexpr double link_bytes_per_s = 2e9;
constexpr double device_cells_per_s = 200e6;

using Profile = std::vector<double>;  // salinity along the channel, one value for each metre

// One tide: mixing and drift, each cell from itself and its neighbours.
void mixed_by_a_tide(const Profile& from, Profile& to) {
  for (std::size_t i = 0; i < from.size(); ++i) {
    const double left = from[i == 0 ? 0 : i - 1];
    const double right = from[i + 1 == from.size() ? i : i + 1];
    to[i] = from[i] + 0.2 * (left + right - 2 * from[i]) + 0.01 * std::sin(from[i]);
  }
}

constexpr int tides = 8;

// What the host knows, and what the device will have made of it after each tide.
struct Channel {
  Profile now;
  std::vector<Profile> after;
};

Channel make_channel(std::size_t metres) {
  Channel channel{Profile(metres), {}};
  for (std::size_t i = 0; i < metres; ++i) channel.now[i] = 35.0 * static_cast<double>(i) / static_cast<double>(metres);
  const Profile* last = &channel.now;
  for (int tide = 0; tide < tides; ++tide) {
    Profile next(metres);
    mixed_by_a_tide(*last, next);
    channel.after.push_back(std::move(next));
    last = &channel.after.back();
  }
  return channel;
}

double mean_of(const Profile& profile) {
  return std::accumulate(profile.begin(), profile.end(), 0.0) / static_cast<double>(profile.size());
}

// The mean salinity after each tide: what the office looks at.
std::vector<double> forecast(const Channel& channel) {
  std::vector<double> means;
  Profile profile = channel.now;
  Profile next(profile.size());
  for (int tide = 0; tide < tides; ++tide) {
    {
      const antcrew::Phase phase("compute");
      mixed_by_a_tide(profile, next);
    }
    profile.swap(next);
    means.push_back(mean_of(profile));
  }
  return means;
}

// Work is begun here and done there, in order; wait() returns when it is done.
class Device {
 public:
  class Done {
   public:
    explicit Done(std::future<void> done) : done_(std::move(done)) {}
    void wait() { done_.get(); }

   private:
    std::future<void> done_;
  };

  void build() const { std::this_thread::sleep_for(build_time); }
  Done send(const Profile& from, Profile& there) {
    return link_.begin(transfer_time(from.size()), [&] { there = from; });
  }
  Done compute(const Channel& channel, const Profile& from, Profile& to) {
    const Seconds takes(static_cast<double>(channel.now.size()) / device_cells_per_s);
    return core_.begin(takes, [&] { look_up(channel, from, to); });
  }
  Done fetch(const Profile& there, Profile& to) {
    return link_.begin(transfer_time(there.size()), [&] { to = there; });
  }

 private:
  static Seconds transfer_time(std::size_t values) {
    return link_latency + Seconds(static_cast<double>(values * sizeof(double)) / link_bytes_per_s);
  }
  static void look_up(const Channel& channel, const Profile& from, Profile& to) {
    const Profile* last = &channel.now;
    for (const Profile& next : channel.after) {
      if (from == *last) {
        to = next;
        return;
      }
      last = &next;
    }
    to.assign(channel.now.size(), 0);  // it was sent something else
  }

  // Does one thing after the other, each taking as long as it is said to.
  class Queue {
   public:
    Queue() : worker_([this](const std::stop_token& stop) { serve(stop); }) {}
    Done begin(Seconds takes, std::function<void()> work) {
      Order order{takes, std::move(work), {}};
      Done done(order.done.get_future());
      const std::lock_guard<std::mutex> held(mutex_);
      orders_.push_back(std::move(order));
      changed_.notify_one();
      return done;
    }

   private:
    struct Order {
      Seconds takes;
      std::function<void()> work;
      std::promise<void> done;
    };
    void serve(const std::stop_token& stop) {
      while (true) {
        std::unique_lock<std::mutex> held(mutex_);
        if (!changed_.wait(held, stop, [&] { return !orders_.empty(); })) return;
        Order order = std::move(orders_.front());
        orders_.pop_front();
        held.unlock();
        const auto end = std::chrono::steady_clock::now() + order.takes;
        order.work();
        std::this_thread::sleep_until(end);
        order.done.set_value();
      }
    }

    std::mutex mutex_;
    std::condition_variable_any changed_;
    std::deque<Order> orders_;
    std::jthread worker_;
  };

  Queue link_;
  Queue core_;
};

struct DeviceMemory {
  Profile now;
  Profile next;
};

void build(Device& device) {
  const antcrew::Phase phase("build");
  device.build();
}
void send(Device& device, const Profile& from, DeviceMemory& memory) {
  const antcrew::Phase phase("send");
  device.send(from, memory.now).wait();
}
void compute(Device& device, const Channel& channel, DeviceMemory& memory) {
  const antcrew::Phase phase("compute");
  device.compute(channel, memory.now, memory.next).wait();
  memory.now.swap(memory.next);
}
void fetch(Device& device, const DeviceMemory& memory, Profile& to) {
  const antcrew::Phase phase("fetch");
  device.fetch(memory.now, to).wait();
}

// The first attempt: everything again for each tide.
std::vector<double> all_in_the_loop(const Channel& channel) {
  std::vector<double> means;
  Profile profile = channel.now;
  for (int tide = 0; tide < tides; ++tide) {
    Device device;
    DeviceMemory memory;
    build(device);
    send(device, profile, memory);
    compute(device, channel, memory);
    fetch(device, memory, profile);
    means.push_back(mean_of(profile));
  }
  return means;
}

// A device that is ready: opened, and its program built.
struct Ready {
  Device device;
  DeviceMemory memory;
  Profile back;
  Ready() { build(device); }
};

std::vector<double> build_kept(Ready& ready, const Channel& channel) {
  std::vector<double> means;
  ready.back = channel.now;
  for (int tide = 0; tide < tides; ++tide) {
    send(ready.device, ready.back, ready.memory);
    compute(ready.device, channel, ready.memory);
    fetch(ready.device, ready.memory, ready.back);
    means.push_back(mean_of(ready.back));
  }
  return means;
}

std::vector<double> data_kept(Ready& ready, const Channel& channel) {
  std::vector<double> means;
  send(ready.device, channel.now, ready.memory);
  for (int tide = 0; tide < tides; ++tide) {
    compute(ready.device, channel, ready.memory);
    fetch(ready.device, ready.memory, ready.back);
    means.push_back(mean_of(ready.back));
  }
  return means;
}

// While the link brings one tide and the host takes its mean, the core is at the next.
std::vector<double> double_buffered(Ready& ready, const Channel& channel) {
  std::vector<double> means;
  DeviceMemory& memory = ready.memory;
  send(ready.device, channel.now, memory);
  {
    const antcrew::Phase phase("waiting for the core");
    ready.device.compute(channel, memory.now, memory.next).wait();
    memory.now.swap(memory.next);
  }
  for (int tide = 1; tide < tides; ++tide) {
    auto next = ready.device.compute(channel, memory.now, memory.next);
    fetch(ready.device, memory, ready.back);
    means.push_back(mean_of(ready.back));
    const antcrew::Phase phase("waiting for the core");  // for as much as is left of its work by now
    next.wait();
    memory.now.swap(memory.next);
  }
  fetch(ready.device, memory, ready.back);
  means.push_back(mean_of(ready.back));
  return means;
}

// Reads the clock, and the answer, when the work has been begun, not when it is done.
std::vector<double> not_waited_for(Ready& ready, const Channel& channel) {
  static std::optional<Device::Done> last;  // of the call before: its data must not be torn from under the device
  if (last) last->wait();
  ready.memory = {channel.now, Profile(channel.now.size())};
  ready.back.assign(channel.now.size(), 0);
  for (int tide = 0; tide < tides; tide += 2) {
    ready.device.compute(channel, ready.memory.now, ready.memory.next);
    last = ready.device.compute(channel, ready.memory.next, ready.memory.now);
  }
  return std::vector<double>(tides, mean_of(ready.back));
}

}  // namespace estuary

namespace antcrew {

// The device of a stand is opened with it and closed with it: what it costs to open is start-up, not a trial.
template <>
struct CrewTraits<estuary::Ready> {
  static constexpr const char* name = "Device";
  static std::unique_ptr<estuary::Ready> start(int, const CrewOptions&) { return std::make_unique<estuary::Ready>(); }
  static std::optional<CrewFacts> facts(const estuary::Ready&) { return std::nullopt; }
};

}  // namespace antcrew

int main(int argc, char** argv) {
  using namespace antcrew;
  using namespace estuary;
  Study wedge("Salt-wedge forecasts on an attached device", make_channel, forecast, within(1e-9));
  wedge.sizes({10'000, 300'000});
  wedge.workers({1});
  const auto first =
      wedge.variant<Workers>("everything in the loop", [](const Channel& in, Workers) { return all_in_the_loop(in); });
  const auto second =
      wedge.variant<Ready>("build kept", [](const Channel& in, Ready& ready) { return build_kept(ready, in); });
  const auto third =
      wedge.variant<Ready>("data kept there", [](const Channel& in, Ready& ready) { return data_kept(ready, in); });
  const auto fourth = wedge.variant<Ready>("double buffering",
                                           [](const Channel& in, Ready& ready) { return double_buffered(ready, in); });
  wedge.variant<Ready>("not waited for", [](const Channel& in, Ready& ready) { return not_waited_for(ready, in); });
  wedge.ladder({first, second, third, fourth});
  return study_main(argc, argv, wedge);
}
