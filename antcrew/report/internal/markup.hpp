// Text inside the markup of pages and SVG images.
#pragma once

#include <string>

#include "antcrew/base/layers.hpp"

namespace antcrew::internal {

// As it reads, whatever it holds; also inside an attribute's quotes.
inline std::string escaped(const std::string& text) {
  std::string out;
  for (const char c : text) {
    switch (c) {
      case '<':
        out += "&lt;";
        break;
      case '>':
        out += "&gt;";
        break;
      case '&':
        out += "&amp;";
        break;
      case '"':
        out += "&quot;";
        break;
      case '\'':
        out += "&#39;";
        break;
      default:
        out += c;
    }
  }
  return out;
}

}  // namespace antcrew::internal
