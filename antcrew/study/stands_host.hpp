// Tries every cell in a process of its own, a stand, so that a crash, a hang or a leak stays where it happened.
//
// No user code runs in the calling process. It must have one thread when a block is opened.
#pragma once

#include <sys/types.h>

#include <memory>
#include <vector>

#include "antcrew/base/layers.hpp"
#include "antcrew/study/channel.hpp"
#include "antcrew/study/host.hpp"
#include "antcrew/study/internal/kept_output.hpp"
#include "antcrew/study/sampler.hpp"

namespace antcrew::study_layer {

class StandsHost : public Host {
 public:
  StandsHost(const StudyBase& study, HostLimits limits);
  ~StandsHost() override;

  std::optional<Fault> open(const Point& at, const std::vector<CellSpec>& cells, BlockFacts& facts) override;
  Visit visit(std::size_t cell, const VisitOrder& order) override;
  Visit check(std::size_t cell, std::size_t other_size) override;
  Visit meter(std::size_t cell, int calls) override;
  void renew() override;
  std::optional<double> crowd(int copies) override;
  void close() override;

 private:
  struct Stand {
    internal::Channel channel;
    pid_t pid = 0;
    bool stopped = false;
  };

  void start_block(bool own_inputs);
  std::optional<Fault> wait_for_input(BlockFacts& facts);
  bool ensure_stand(std::size_t cell);
  int end_stand(Stand& stand);
  [[noreturn]] void lose_block();
  std::string ask_block(const std::string& request);
  struct Waited {
    std::optional<std::string> message;  // none = the other end died, or made no progress for too long
    bool timed_out = false;
    bool paused = false;  // a look came far too late: this process or the whole machine was stopped meanwhile
  };
  Waited wait(internal::Channel& channel, StandBoard& board, double limit_s, pid_t process = 0,
              internal::Sampler* sampler = nullptr);
  Visit meter(std::size_t cell, int calls, bool looked_at);
  void ask_stand(Stand& stand, const VisitOrder& order);
  Fault why_no_answer(std::size_t cell, const Waited& waited, int round);
  void keep_prints(Visit& visit, bool fresh) const;
  void tell_returned_children(std::size_t cell, int round, Visit& visit);
  double call_limit_s() const noexcept;
  void map_boards(std::size_t count);
  void unmap_boards() noexcept;

  const StudyBase& study_;
  HostLimits limits_;
  Point at_;
  std::vector<CellSpec> cells_;
  std::vector<Stand> stands_;
  internal::Channel block_;
  pid_t block_pid_ = 0;
  StandBoard* boards_ = nullptr;
  internal::KeptOutput prints_;
  std::size_t board_count_ = 0;
  double reference_s_ = 0;
  double oom_kills_ = 0;  // of the whole machine when the block began
};

}  // namespace antcrew::study_layer
