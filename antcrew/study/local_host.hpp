// Tries cells in this very process: simple to debug, but a crash of one ends them all, and nothing is checked with
// another input.
#pragma once

#include <memory>
#include <vector>

#include "antcrew/study/host.hpp"
#include "antcrew/study/layer.hpp"

namespace antcrew::study_layer {

class LocalHost : public Host {
 public:
  LocalHost(const StudyBase& study, HostLimits limits) : study_(study), limits_(std::move(limits)) {}

  std::optional<Fault> open(const Point& at, const std::vector<CellSpec>& cells, BlockFacts& facts) override;
  Visit visit(std::size_t cell, const VisitOrder& order) override;
  Visit meter(std::size_t cell, int calls, bool one_worker) override;
  void renew() override;
  std::optional<double> crowd(int) override { return std::nullopt; }
  void close() override;

 private:
  const StudyBase& study_;
  HostLimits limits_;
  std::vector<CellSpec> cells_;
  std::vector<std::unique_ptr<Visitor>> visitors_;
  Anything input_;
  Anything reference_answer_;
  Reference reference_;
};

// Makes the input of a point and calls the baseline once. Used by every host, in the process where cells are tried.
struct MadeBlock {
  Anything input;
  Anything reference_answer;
  Reference reference;
  std::uint64_t bytes_of_a_call = 0;  // that the baseline takes beyond the input, at most
  std::optional<Fault> fault;
};
MadeBlock make_block(const StudyBase& study, const Point& at, BlockFacts& facts, ProcessBoard* board);

}  // namespace antcrew::study_layer
