// What every page brings along: made from files at build time.
#pragma once

#include <string_view>

#include "antcrew/report/layer.hpp"

namespace antcrew::internal {

struct PageAsset {
  std::string_view text;
  const char* sha256;  // in hexadecimal digits
};
extern const PageAsset page_style;    // report/page/page.css
extern const PageAsset page_script;   // report/page/page.js
extern const PageAsset page_figures;  // report/page/figures.js
extern const PageAsset page_charts;   // Chart.js
extern const PageAsset page_licence;  // its licence

}  // namespace antcrew::internal
