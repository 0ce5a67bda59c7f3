// Crews of processes against what the system itself asks for the same: forks, socket pairs, raw bytes; and waiting
// work.
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include <antcrew/antcrew.hpp>
#include <array>
#include <chrono>
#include <cstdint>
#include <memory>
#include <thread>
#include <vector>

namespace {

struct Parent {
  std::vector<char> memory;  // that a fork has to share
  std::size_t calls;
};

Parent make_parent(const antcrew::StudyPoint& at) {
  return {std::vector<char>(static_cast<std::size_t>(at["parent_mib"]) << 20, 'x'), at.size};
}

// Two processes that do nothing.
std::size_t bare_forks(const Parent& parent) {
  for (std::size_t call = 0; call < parent.calls; ++call) {
    std::array<pid_t, 2> children{};
    for (pid_t& child : children) {
      child = ::fork();
      if (child == 0) ::_exit(0);
    }
    int status = 0;
    for (const pid_t child : children) ::waitpid(child, &status, 0);
  }
  return parent.calls;
}

// Processes that send back each byte they get.
class Echoes {
 public:
  Echoes() {
    for (Echo& echo : echoes_) {
      int ends[2];
      if (::socketpair(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0, ends) != 0) std::abort();
      echo = {::fork(), ends[0]};
      if (echo.process == 0) {
        ::close(ends[0]);
        for (char byte = 0; ::read(ends[1], &byte, 1) == 1 && ::write(ends[1], &byte, 1) == 1;) {
        }
        ::_exit(0);
      }
      ::close(ends[1]);
    }
  }
  ~Echoes() {
    for (const Echo& echo : echoes_) ::shutdown(echo.socket, SHUT_RDWR);
    for (const Echo& echo : echoes_) {
      int status = 0;
      ::waitpid(echo.process, &status, 0);
      ::close(echo.socket);
    }
  }
  void there_and_back() {
    char byte = 1;
    for (const Echo& echo : echoes_) {
      if (::write(echo.socket, &byte, 1) != 1) std::abort();
    }
    for (const Echo& echo : echoes_) {
      if (::read(echo.socket, &byte, 1) != 1) std::abort();
    }
  }

 private:
  struct Echo {
    pid_t process = 0;
    int socket = -1;
  };
  std::array<Echo, 2> echoes_;
};

std::size_t bytes_there_and_back(const std::size_t& calls) {
  static std::unique_ptr<Echoes> echoes;
  static pid_t owner = 0;
  if (owner != ::getpid()) {
    static_cast<void>(echoes.release());  // another process's
    echoes = std::make_unique<Echoes>();
    owner = ::getpid();
  }
  for (std::size_t call = 0; call < calls; ++call) echoes->there_and_back();
  return calls;
}

double value_at(std::size_t i) {
  return static_cast<double>(i) * 0.5;
}

double sum_of(const double* all, std::size_t n) {
  double sum = 0;
  for (std::size_t i = 0; i < n; ++i) sum += all[i];
  return sum;
}

// Made in another process, through a socket, into fresh memory, read and freed.
double by_raw_bytes(const std::size_t& n) {
  int ends[2];
  if (::socketpair(AF_UNIX, SOCK_STREAM, 0, ends) != 0) std::abort();
  const pid_t child = ::fork();
  if (child == 0) {
    const std::unique_ptr<double[]> all(new double[n]);
    for (std::size_t i = 0; i < n; ++i) all[i] = value_at(i);
    const char* at = reinterpret_cast<const char*>(all.get());
    for (std::size_t left = n * sizeof(double); left > 0;) {
      const ssize_t wrote = ::write(ends[1], at, left);
      if (wrote <= 0) ::_exit(1);
      at += wrote;
      left -= static_cast<std::size_t>(wrote);
    }
    ::_exit(0);
  }
  const std::unique_ptr<double[]> all(new double[n]);
  {
    const antcrew::Phase phase("raw bytes");
    char* at = reinterpret_cast<char*>(all.get());
    for (std::size_t left = n * sizeof(double); left > 0;) {
      const ssize_t got = ::read(ends[0], at, left);
      if (got <= 0) std::abort();
      at += got;
      left -= static_cast<std::size_t>(got);
    }
  }
  int status = 0;
  ::waitpid(child, &status, 0);
  ::close(ends[0]);
  ::close(ends[1]);
  return sum_of(all.get(), n);
}

struct Arrays {
  std::size_t n;
  antcrew::CommonArray<double> from;
  antcrew::CommonArray<double> to;
  std::vector<double> plain_from;
  mutable std::vector<double> plain_to;
};

double ends_of(const double* all, std::size_t n) {
  return all[0] + all[n / 2] + all[n - 1];
}

double with_threads(const Arrays& in) {
  static antcrew::ThreadCrew crew(2);
  double* to = in.plain_to.data();
  const double* from = in.plain_from.data();
  crew.each(in.n, [=](std::size_t i) { to[i] = from[i] * 1.5 + 2; });
  return ends_of(to, in.n);
}

constexpr std::chrono::milliseconds each_wait{20};

std::size_t ideal_wait(const std::size_t& n) {
  std::this_thread::sleep_for(each_wait * (n / 32));
  return n;
}

}  // namespace

int main(int argc, char** argv) {
  using namespace antcrew;
  using namespace antcrew::layers;
  const auto size = [](std::size_t n) { return n; };

  Study forked("Empty forked regions of two workers, two bare forks as the baseline", make_parent, bare_forks);
  forked.sizes({20});
  forked.dimension("parent_mib", {0, 1024});
  forked.workers({2});
  forked.variant<ProcessCrew>("empty region", [](const Parent& in, auto& crew) {
    for (std::size_t call = 0; call < in.calls; ++call) crew.collect(2, [](std::size_t) { return '.'; });
    return in.calls;
  });

  Study standing("Empty standing regions of two workers, a byte to two processes and back as the baseline", size,
                 bytes_there_and_back);
  standing.sizes({500});
  standing.workers({2});
  standing.variant<StandingCrew>("empty region", [](const std::size_t& calls, auto& crew) {
    for (std::size_t call = 0; call < calls; ++call) crew.collect(2, [](std::size_t) { return '.'; });
    return calls;
  });

  Study moved("64 MiB made in a process, raw bytes through a socket as the baseline", size, by_raw_bytes, exactly());
  moved.sizes({8u << 20});
  moved.workers({1});
  for (const Way way : {Way::copied, Way::zero_copy}) {
    moved.variant<ProcessCrew>(name_of(way), {.processes = {.way = way}}, [](const std::size_t& n, auto& crew) {
      const auto all = crew.collect(n, value_at);
      return sum_of(all.data(), n);
    });
  }

  const auto make_arrays = [](std::size_t n) {
    Arrays made{n, CommonArray<double>(n), CommonArray<double>(n), std::vector<double>(n, 1), std::vector<double>(n)};
    for (double& x : made.from) x = 1;
    return made;
  };
  Study common("32M doubles in common arrays, a ThreadCrew of two as the baseline", make_arrays, with_threads,
               exactly());
  common.sizes({32u << 20});
  common.workers({2});
  common.variant<StandingCrew>("fill", [](const Arrays& in, auto& crew) {
    auto& to = const_cast<CommonArray<double>&>(in.to);
    crew.fill(
        to, [](std::size_t i, const CommonArray<double>& from) { return from[i] * 1.5 + 2; }, in.from);
    return ends_of(to.data(), in.n);
  });

  Study waiting("320 waits of 20 ms by 32 workers, the ideal as the baseline", size, ideal_wait);
  waiting.sizes({320});
  waiting.workers({32});
  waiting.on_every_crew<ThreadCrew, TaskCrew>("sleeps", [](const std::size_t& n, auto& crew) {
    crew.each(n, crew.small_pieces(1), [](std::size_t) { std::this_thread::sleep_for(each_wait); });
    return n;
  });
  return study_main(argc, argv, forked, standing, moved, common, waiting);
}
