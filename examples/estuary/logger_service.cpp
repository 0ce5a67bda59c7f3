#include "estuary/logger_service.hpp"

#include <httplib.h>
#include <signal.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <antcrew/base/error.hpp>
#include <chrono>
#include <cstdlib>
#include <thread>

namespace estuary {
namespace {

constexpr int most_at_once = 80;  // each open connection has a thread

bool is_loopback(const std::string& host) {
  return host == "localhost" || host == "::1" || host.rfind("127.", 0) == 0;
}

std::uint32_t mixed(std::uint32_t k) noexcept {
  k = (k ^ (k >> 16)) * 0x7feb352du;
  k = (k ^ (k >> 15)) * 0x846ca68bu;
  return k ^ (k >> 16);
}

void answer(const httplib::Request& request, httplib::Response& response) {
  if (!is_loopback(request.remote_addr)) {
    response.status = 403;
    return;
  }
  const auto logger = static_cast<std::uint32_t>(std::strtoul(request.get_param_value("logger").c_str(), nullptr, 10));
  const double asked_ms = std::strtod(request.get_param_value("delay_ms").c_str(), nullptr);
  const int attempt = std::atoi(request.get_param_value("try").c_str());
  const std::chrono::duration<double, std::milli> delay(delay_of(logger, asked_ms));
  if (delay.count() > 0) std::this_thread::sleep_for(delay);
  if (fails(logger, attempt)) {
    response.status = 503;
    response.set_content("no carrier", "text/plain");
    return;
  }
  response.set_content(std::to_string(reading_of(logger)), "text/plain");
}

// The library asks for a queue of five connections that wait to be taken. With more at once the kernel drops attempts,
// which are made again after a whole second: no logger is that slow.
class Service : public httplib::Server {
 public:
  void lengthen_queue() { ::listen(svr_sock_, 1024); }
};

[[noreturn]] void serve(const std::string& host, int told, pid_t parent) {
  ::prctl(PR_SET_PDEATHSIG, SIGKILL);
  if (::getppid() != parent) ::_exit(0);
  Service server;
  server.new_task_queue = [] { return new httplib::ThreadPool(most_at_once); };
  server.set_keep_alive_max_count(1'000'000'000);
  server.set_keep_alive_timeout(3600);
  server.set_tcp_nodelay(true);
  server.Get("/reading", answer);
  const int port = server.bind_to_any_port(host.c_str());
  server.lengthen_queue();
  if (::write(told, &port, sizeof port) != sizeof port) ::_exit(1);
  ::close(told);
  server.listen_after_bind();
  ::_exit(0);
}

}  // namespace

using antcrew::Error;

LoggerService::LoggerService(const std::string& host) : host_(host) {
  if (!is_loopback(host)) {
    throw Error(Error::Kind::bad_input, "loggers.host", "the stand-in loggers answer on this machine only", host,
                "give a loopback address, such as 127.0.0.1");
  }
  const auto could_not_start = [&](const char* what, const char* advice) {
    return Error(Error::Kind::could_not_run, "loggers.start", what, host, advice);
  };
  int told[2];
  if (::pipe(told) != 0) throw could_not_start("no pipe", "close some files");
  const pid_t parent = ::getpid();
  process_ = ::fork();
  if (process_ == 0) {
    ::close(told[0]);
    serve(host, told[1], parent);
  }
  ::close(told[1]);
  const bool heard = process_ > 0 && ::read(told[0], &port_, sizeof port_) == sizeof port_ && port_ > 0;
  ::close(told[0]);
  if (!heard) throw could_not_start("the service found no free port", "try again");
}

LoggerService::~LoggerService() {
  ::kill(process_, SIGKILL);
  int status = 0;
  ::waitpid(process_, &status, 0);
}

int reading_of(std::uint32_t logger) noexcept {
  return static_cast<int>(mixed(logger) % 6000) - 3000;
}
double delay_of(std::uint32_t logger, double asked_ms) noexcept {
  return asked_ms * (0.5 + static_cast<double>(mixed(logger + 77) % 1001) / 1000);
}
bool fails(std::uint32_t logger, int attempt) noexcept {
  return attempt == 0 && mixed(logger + 5) % 20 == 0;
}

}  // namespace estuary
