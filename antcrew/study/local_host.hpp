// Tries cells in this very process: simple to debug, but a crash of one ends them all.
#pragma once

#include <memory>
#include <vector>

#include "antcrew/study/host.hpp"

namespace antcrew {

class LocalHost : public Host {
 public:
  explicit LocalHost(const StudyBase& study) : study_(study) {}

  std::optional<Fault> open(const Point& at, const std::vector<CellSpec>& cells) override;
  Visit visit(std::size_t cell, int round) override;
  void close() override;

 private:
  Visit first_visit(std::size_t cell);

  const StudyBase& study_;
  std::vector<CellSpec> cells_;
  std::vector<std::unique_ptr<Session>> sessions_;
  Anything input_;
  Anything reference_;
};

}  // namespace antcrew
