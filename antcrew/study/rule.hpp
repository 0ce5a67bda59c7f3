// A rule that a program loads: from which size on, and with how many workers, to go parallel, as a study found out.
//
//   const Rule rule = Rule::load("tides.rule.json");  // once; `antcrew worth RECORD --to tides.rule.json` wrote it
//   const int workers = rule.workers_for(soundings.size());
//   return workers > 1 ? heights_by(crew_of(workers), soundings) : heights(soundings);
//
// A rule holds on the machine and for the build that it was measured on. Elsewhere it does not apply: then the answer
// is always 1, the sequential version, and reason() says why. A build is another one by its compiler, by whether it was
// optimised, and by its flags where the build system tells them. Where fewer processors can be used than were used when
// it was measured, by a quota or a set of processors, it answers what paid with so few then. Any thread may ask; nobody
// may move it meanwhile.
#pragma once

#include <cstddef>
#include <string>
#include <vector>

#include "antcrew/study/build.hpp"
#include "antcrew/study/layer.hpp"

namespace antcrew {

class Rule {
 public:
  // Throws Error: rule.file (it cannot be read), rule.syntax (it is no rule), rule.version (a newer one).
  explicit Rule(const std::string& path, const FileBuild& build = build_of_this_file());

  // The same for programs that go on without: of a file that is missing or broken it makes a rule that does not apply,
  // whose reason() is what the constructor would have thrown. Throws nothing.
  static Rule load(const std::string& path, const FileBuild& build = build_of_this_file()) noexcept;

  // Of a text; `where` names it in messages. processor, usable: of this machine.
  static Rule from_text(const std::string& text, const std::string& where, const FileBuild& build,
                        const std::string& processor, int usable);

  // 1 = the sequential version. Never more than the processors that were usable when the rule was loaded. A few
  // comparisons: some nanoseconds.
  int workers_for(std::size_t size) const noexcept {
    int workers = 1;
    for (const Step& step : steps_) {
      if (size < step.from_size) break;
      workers = step.workers;
    }
    return workers;
  }

  // False where this machine or build is not the one that was measured.
  bool applies() const noexcept { return reason_.empty(); }
  const std::string& reason() const noexcept { return reason_; }
  // Whose worker count it is: name and crew.
  const std::string& variant() const noexcept { return variant_; }

 private:
  Rule() = default;
  struct Step {
    std::size_t from_size;
    int workers;
  };
  std::vector<Step> steps_;  // by size, ascending; empty where it does not apply
  std::string variant_;
  std::string reason_;
};

}  // namespace antcrew
