// A small stand-in for the field loggers of the estuary: an HTTP service on this machine only, in a process of its own,
// that answers after a delay and sometimes not at the first try.
//
//   LoggerService service;                       // free port, ended with the object or with this program
//   GET http://127.0.0.1:PORT/reading?logger=17&delay_ms=20&try=0   ->   200 with the reading, or 503
#pragma once

#include <sys/types.h>

#include <cstdint>
#include <string>

namespace estuary {

class LoggerService {
 public:
  // Throws antcrew::Error (loggers.host) for anything but a loopback address, and (loggers.start) when no port can be
  // had.
  explicit LoggerService(const std::string& host = "127.0.0.1");
  ~LoggerService();
  LoggerService(const LoggerService&) = delete;
  LoggerService& operator=(const LoggerService&) = delete;

  const std::string& host() const noexcept { return host_; }
  int port() const noexcept { return port_; }

 private:
  std::string host_;
  pid_t process_ = 0;
  int port_ = 0;
};

// What logger number k has to say, and how long it takes over it: from half to one and a half of what was asked for.
int reading_of(std::uint32_t logger) noexcept;
double delay_of(std::uint32_t logger, double asked_ms) noexcept;
// Whether it does not answer at this try: one in twenty loggers, at the first.
bool fails(std::uint32_t logger, int attempt) noexcept;

}  // namespace estuary
