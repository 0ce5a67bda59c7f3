#include "antcrew/study/internal/fresh_start.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/mman.h>
#include <sys/personality.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <fstream>

#include "antcrew/base/bad_message.hpp"
#include "antcrew/base/hash.hpp"
#include "antcrew/crew/worker.hpp"
#include "antcrew/machine/process_tree.hpp"
#include "antcrew/machine/random_delays.hpp"
#include "antcrew/machine/refill.hpp"
#include "antcrew/machine/usage.hpp"
#include "antcrew/record/packed.hpp"
#include "antcrew/study/fresh_start.hpp"
#include "antcrew/study/internal/crash_watch.hpp"
#include "antcrew/study/internal/protocol.hpp"

namespace antcrew::internal {
namespace {

constexpr const char* told_by = "ANTCREW_SERVE_BLOCK";  // "channel boards"

using BlockRequest = std::variant<ServeBlock>;
using BlockReply = std::variant<FreshStarted>;

struct Start {
  std::vector<char*> arguments;
  std::vector<const StudyBase*> studies;
};
Start& start() {
  static Start once;
  return once;
}

void keep_open(int descriptor) {
  ::fcntl(descriptor, F_SETFD, ::fcntl(descriptor, F_GETFD) & ~FD_CLOEXEC);
}

InputOrder order_of(const ServeBlock& told, const StudyBase& study, ProcessBoard* boards) {
  Point at = told.at;
  at.seed = told.seed;
  std::vector<CellSpec> cells;
  for (std::size_t k = 0; k < told.variants.size(); ++k)
    cells.push_back({told.variants[k], told.workers.at(k), static_cast<Pin>(told.pins.at(k))});
  HostLimits limits;
  limits.call_s = told.call_s;
  limits.memory_bytes = told.memory_bytes;
  limits.budget_s = told.budget_s;
  limits.launcher = told.launcher;
  return {study, std::move(at), std::move(cells), std::move(limits), boards, told.own_inputs, -1};
}

}  // namespace

std::string why_not_afresh(const StudyBase& study) {
  const auto& studies = start().studies;
  if (std::find(studies.begin(), studies.end(), &study) == studies.end())
    return "the program does not call study_main()";
  const int kept = ::personality(0xffffffff);
  int random = 1;
  std::ifstream("/proc/sys/kernel/randomize_va_space") >> random;
  if (random == 0 || (kept >= 0 && (kept & ADDR_NO_RANDOMIZE) != 0))
    return "the system does not draw the layout of memory at random";
  return {};
}

void remember_start(int argc, char** argv, const std::vector<const StudyBase*>& studies) {
  start().arguments.assign(argv, argv + argc);
  start().arguments.push_back(nullptr);
  start().studies = studies;
}

std::string block_order(const InputOrder& order) {
  ServeBlock told;
  told.study = text_hash(order.study.title());
  told.at = order.at;
  told.seed = order.at.seed;
  for (const CellSpec& cell : order.cells) {
    told.variants.push_back(cell.variant);
    told.workers.push_back(cell.workers);
    told.pins.push_back(static_cast<int>(cell.pin));
  }
  told.call_s = order.limits.call_s;
  told.memory_bytes = order.limits.memory_bytes;
  told.budget_s = order.limits.budget_s;
  told.launcher = order.limits.launcher;
  told.own_inputs = order.own_inputs;
  told.read_speed = read_speed();
  told.delays = delay_seed.load();
  return pack<BlockRequest>(told);
}

FreshStarted fresh_started_from(const std::string& message) {
  return std::get<FreshStarted>(unpack<BlockReply>(message));
}

void become_fresh_start(Channel coordinator, const InputOrder& order, int boards) {
  default_signals();
  ::setpgid(0, 0);
  set_streams(order.prints);
  const int channel = coordinator.release();
  keep_open(channel);
  keep_open(boards);
  ::setenv(told_by, fmt::format("{} {}", channel, boards).c_str(), 1);
  ::execv("/proc/self/exe", start().arguments.data());
  ::dprintf(STDERR_FILENO, "%s: %s\n", start().arguments.front(), std::strerror(errno));
  ::_exit(127);
}

}  // namespace antcrew::internal

namespace antcrew::study_layer {

void serve_fresh_start(int argc, char** argv, const std::vector<const StudyBase*>& studies) {
  using namespace internal;
  const char* told = std::getenv(told_by);
  if (told == nullptr) return remember_start(argc, argv, studies);
  int channel = -1;
  int file = -1;
  const bool understood = std::sscanf(told, "%d %d", &channel, &file) == 2;
  ::unsetenv(told_by);
  if (!understood) return remember_start(argc, argv, studies);
  try {
    ::fcntl(channel, F_SETFD, FD_CLOEXEC);
    ::fcntl(file, F_SETFD, FD_CLOEXEC);
    Channel run(channel);
    const auto first = run.receive();
    if (!first) ::_exit(0);
    const auto block = std::get<ServeBlock>(unpack<BlockRequest>(*first));
    const auto refuse = [&](const std::string& trouble) {
      run.send(pack<BlockReply>(FreshStarted{trouble}));
      ::_exit(0);
    };
    const auto study = std::find_if(studies.begin(), studies.end(),
                                    [&](const StudyBase* one) { return text_hash(one->title()) == block.study; });
    if (study == studies.end()) refuse("the program has no study of this title");
    for (const int variant : block.variants) {
      if (variant >= static_cast<int>((*study)->variants().size())) refuse("the program's study has fewer variants");
    }
    if (!sanitized && thread_count() > 1) refuse("the program begins threads before its study is measured");
    // What is below this process ends with the cell processes: a service that the program began would, too.
    siginfo_t child{};
    if (::waitid(P_ALL, 0, &child, WEXITED | WNOHANG | WNOWAIT) == 0)
      refuse("the program begins processes before its study is measured");
    const std::size_t bytes = (block.variants.size() + 1) * sizeof(ProcessBoard);
    void* boards = ::mmap(nullptr, bytes, PROT_READ | PROT_WRITE, MAP_SHARED, file, 0);
    if (boards == MAP_FAILED) refuse(std::string("no memory for it: ") + std::strerror(errno));
    ::close(file);
    know_read_speed(block.read_speed);
    delay_seed.store(block.delays);
    run.send(pack<BlockReply>(FreshStarted{}));
    serve_input(std::move(run), order_of(block, **study, static_cast<ProcessBoard*>(boards)));
  } catch (const std::exception& error) {
    ::dprintf(STDERR_FILENO, "%s\n", error.what());
  }
  ::_exit(1);
}

}  // namespace antcrew::study_layer
