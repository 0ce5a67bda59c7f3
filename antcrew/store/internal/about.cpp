#include "antcrew/store/internal/about.hpp"

#include <exception>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/record/record_file.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/store/internal/quick_json.hpp"

namespace antcrew::internal {

About about(const Looked& looked) {
  About told;
  told.run.stored = looked.stored;
  told.run.bytes = looked.bytes;
  told.state = looked.record;
  try {
    const record_layer::Record record = record_layer::load_record(looked.stored.path, &parse_quickly);
    told.run.title = record.title;
    told.run.created = record.created;
    told.run.processor = record.machine.processor;
    told.run.system = record.machine.system;
    told.run.complete = record.complete;
    const analysis_layer::Analysed study = analyse(record);
    told.run.answer = report_layer::answer_in_short(study);
    told.run.kind = name_of(study.conclusion.answer);
    for (const analysis_layer::CellFigures& f : study.cells) {
      if (f.cell->kind != record_layer::Cell::Kind::baseline) told.cells.emplace(f.cell->key(), name_of(f.verdict));
    }
  } catch (const std::exception& error) {  // one bad record hides no others
    told.run.trouble = error.what();
  }
  return told;
}

}  // namespace antcrew::internal
