// A folder with scripts, and studies of them: small, quick, one variant called "it".
#pragma once

#include <sys/stat.h>

#include <memory>
#include <stdexcept>
#include <string>
#include <vector>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/sweep/run_sweep.hpp"
#include "antcrew/sweep/study_file.hpp"
#include "support/command.hpp"

namespace test::station {

using namespace antcrew;
using namespace antcrew::layers;

struct Station {
  test::TemporaryFolder folder;

  void script(const std::string& name, const std::string& text) const {
    test::write_file(folder / name, "#!/bin/sh\n" + text + "\n");
    ::chmod((folder / name).c_str(), 0755);
  }
  std::unique_ptr<CommandStudy> study(const std::string& text) const {
    return study_from_text("format = 1\ntitle = \"Planted\"\n" + text, folder / "planted.toml", folder.path());
  }
  Record run(const std::string& text, const Plan& plan, const RunHooks& hooks = {},
             const Record* begun = nullptr) const {
    return run_sweep(*study(text), plan, hooks, folder / "kept", begun);
  }
};

inline Plan quick(int rounds, std::vector<int> workers = {1}) {
  Plan plan;
  plan.workers = std::move(workers);
  plan.rounds = rounds;
  plan.budget_s = 60;
  plan.confirm = false;
  plan.crowd = false;
  plan.meter = Metering::none;
  return plan;
}

inline const CellFigures& figures(const Analysed& study, const std::string& variant, int workers) {
  for (const CellFigures& f : study.cells) {
    if (f.cell->variant == variant && f.cell->workers == workers) return f;
  }
  throw std::runtime_error("no cell " + variant);
}

inline const Cell& cell(const Record& record, const std::string& variant, int workers) {
  for (const Cell& one : record.cells) {
    if (one.variant == variant && one.workers == workers) return one;
  }
  throw std::runtime_error("no cell " + variant);
}

// A study of two commands of a shell; the baseline prints 5.
inline std::string shells(const std::string& baseline, const std::string& variant, const std::string& more = {}) {
  return more + "\n[baseline]\nshell = '''" + baseline + "'''\n[[variant]]\nname = \"it\"\nshell = '''" + variant +
         "'''\n";
}

struct Found {
  Verdict verdict;
  std::string evidence;
  Record record;
};

inline Found verdict_of(const Station& place, const std::string& variant, const std::string& more = {},
                        const std::string& baseline = "sleep 0.02; echo 5", int rounds = 2) {
  Record record = place.run(shells(baseline, variant, more), quick(rounds, {2}));
  const Analysed study = analyse(record);
  const CellFigures& f = figures(study, "it", 2);
  return {f.verdict, f.evidence, record};
}

}  // namespace test::station
