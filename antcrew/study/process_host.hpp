// Tries every cell in a process of its own, a cell process, so that a crash, a hang or a leak stays where it happened.
//
// No user code runs in the calling process. It must have one thread when a block is opened.
#pragma once

#include <sys/types.h>

#include <memory>
#include <vector>

#include "antcrew/study/host.hpp"
#include "antcrew/study/internal/kept_output.hpp"
#include "antcrew/study/internal/protocol.hpp"
#include "antcrew/study/layer.hpp"
#include "antcrew/study/sampler.hpp"
#include "antcrew/study/server_process.hpp"

namespace antcrew::study_layer {

class ProcessHost : public Host {
 public:
  ProcessHost(const StudyBase& study, HostLimits limits);
  ~ProcessHost() override;

  std::optional<Fault> open(const Point& at, const std::vector<CellSpec>& cells, BlockFacts& facts) override;
  Visit visit(std::size_t cell, const VisitOrder& order) override;
  Visit check(std::size_t cell, std::size_t other_size) override;
  Visit meter(std::size_t cell, int calls, bool one_worker) override;
  void renew() override;
  std::optional<double> crowd(int copies) override;
  std::optional<TogetherFacts> together(int workers) override;
  void fork_from_now_on(const std::string& trouble) override { not_afresh_ = "started anew, " + trouble; }
  void close() override;

 private:
  bool launched(const CellSpec& spec) const {
    return !spec.baseline() && study_.launched(static_cast<std::size_t>(spec.variant)) != nullptr;
  }
  void start_input_process(bool own_inputs, bool afresh);
  std::string wait_for_fresh_start();
  std::optional<Fault> wait_for_input(BlockFacts& facts);
  std::optional<Fault> open_afresh(BlockFacts& facts);
  bool ensure_process(std::size_t cell);
  int end_process(std::size_t cell);
  [[noreturn]] void lose_block(const std::string& trouble = {});
  // The reply to a request; loses the block where that is none, or another one.
  template <class Reply>
  Reply ask_input_process(const internal::InputRequest& request);
  struct Waited : internal::ServerProcess::Heard {
    bool timed_out() const noexcept { return over; }  // no progress for too long
  };
  Waited wait(internal::ServerProcess& process, ProcessBoard& board, double limit_s,
              internal::Sampler* sampler = nullptr);
  // One order, and what came of it.
  Waited order_visit(std::size_t cell, const VisitOrder& order, internal::Sampler* sampler = nullptr);
  Visit meter(std::size_t cell, const VisitOrder& order);
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
  std::vector<internal::ServerProcess> processes_;  // of the cells, started by the input process
  internal::ServerProcess input_process_;
  ProcessBoard* boards_ = nullptr;
  int boards_file_ = -1;
  std::string not_afresh_;  // why no block is started anew any more
  internal::KeptOutput prints_;
  std::size_t board_count_ = 0;
  double reference_s_ = 0;
  double oom_kills_ = 0;  // of the whole machine when the block began
};

}  // namespace antcrew::study_layer
