// Readings fetched from the field loggers of the estuary, each of which takes its time to answer.
//
// The work is waiting, so many more workers than processors pay off; where nobody has to wait they do not. The loggers
// are a small service that this program starts for itself, on this machine only.
#include <httplib.h>

#include <antcrew/antcrew.hpp>
#include <cstdint>
#include <cstdio>
#include <cstdlib>
#include <memory>
#include <numeric>
#include <stdexcept>
#include <string>
#include <vector>

#include "estuary/logger_service.hpp"

namespace estuary {

struct Round {
  std::vector<std::uint32_t> loggers;
  double delay_ms;
};
using Readings = std::vector<int>;

Round make_round(const antcrew::StudyPoint& at) {
  Round round{std::vector<std::uint32_t>(at.size), static_cast<double>(at["delay_ms"])};
  std::iota(round.loggers.begin(), round.loggers.end(), 0u);
  return round;
}

const LoggerService* service = nullptr;

std::unique_ptr<httplib::Client> connect() {
  auto client = std::make_unique<httplib::Client>(service->host(), service->port());
  client->set_keep_alive(true);
  client->set_tcp_nodelay(true);
  client->set_read_timeout(10);
  return client;
}

// Asks again when there was no answer, as one does.
int fetch(httplib::Client& client, std::uint32_t logger, double delay_ms) {
  const std::string path =
      "/reading?logger=" + std::to_string(logger) + "&delay_ms=" + std::to_string(delay_ms) + "&try=";
  for (int attempt = 0; attempt < 3; ++attempt) {
    const auto result = client.Get(path + std::to_string(attempt));
    if (result && result->status == 200) return std::atoi(result->body.c_str());
  }
  throw std::runtime_error("no answer from logger " + std::to_string(logger));
}

Readings one_by_one(const Round& round) {
  const auto client = connect();
  Readings readings;
  for (const std::uint32_t logger : round.loggers) readings.push_back(fetch(*client, logger, round.delay_ms));
  return readings;
}

// A connection that stays, of the calling worker.
httplib::Client& own_client() {
  thread_local const std::unique_ptr<httplib::Client> client = connect();
  return *client;
}

}  // namespace estuary

int main(int argc, char** argv) {
  using namespace antcrew;
  using namespace estuary;
  const char* host = std::getenv("ESTUARY_LOGGERS_AT");
  std::unique_ptr<LoggerService> running;
  try {
    running = std::make_unique<LoggerService>(host == nullptr ? "127.0.0.1" : host);
  } catch (const Error& error) {
    std::fprintf(stderr, "loggers: %s\n", error.what());
    return error.kind() == Error::Kind::bad_input ? 2 : 3;
  }
  service = running.get();

  Study loggers("Readings from loggers that take their time", make_round, one_by_one);
  loggers.sizes({40});
  loggers.dimension("delay_ms", {0, 5, 50, 200});
  loggers.workers({1, 4, 32});
  // What is often written first.
  const auto anew = loggers.variant<ThreadCrew>("connected anew each time", [](const Round& round, auto& crew) {
    Readings readings(round.loggers.size());
    crew.each(round.loggers.size(),
              [&](std::size_t k) { readings[k] = fetch(*connect(), round.loggers[k], round.delay_ms); },
              {.split = Split::chunks(1)});
    return readings;
  });
  const auto kept =
      loggers.on_every_crew<ThreadCrew, TaskCrew>("a connection each", [](const Round& round, auto& crew) {
        Readings readings(round.loggers.size());
        crew.each(round.loggers.size(), crew.small_pieces(1),
                  [&](std::size_t k) { readings[k] = fetch(own_client(), round.loggers[k], round.delay_ms); });
        return readings;
      });
  loggers.variant<ProcessCrew>("a process each", [](const Round& round, auto& crew) {
    return crew.collect(round.loggers.size(),
                        [&](std::size_t k) {
                          static const std::unique_ptr<httplib::Client> client = connect();
                          return fetch(*client, round.loggers[k], round.delay_ms);
                        },
                        {.split = Split::chunks(1)});
  });
  loggers.ladder({anew, kept.front()});  // what connecting takes is saved
  return study_main(argc, argv, loggers);
}
