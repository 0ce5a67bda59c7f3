// An analysed study as one page of HTML that works from disk, without a network.
//
//   write(path, page_html(analyse(record)));
//
// Its first screen says what was found, where the time went and what to try, and how far to trust it; all figures, the
// table of cells, the evidence, the machine and the raw data follow. What comes from a study is text: it stands escaped
// in the page or in its data, and a content security policy lets nothing run but the page's own script. Pure.
#pragma once

#include <string>

#include "antcrew/report/layer.hpp"
#include "antcrew/report/study_view.hpp"

namespace antcrew::report_layer {

std::string page_html(const StudyView& view);

// Trials stay out of a page that would be larger with them; it says so.
inline constexpr std::size_t most_page_bytes = 2'000'000;

}  // namespace antcrew::report_layer
