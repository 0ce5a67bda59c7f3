// Text inside the markup of pages and SVG images.
#pragma once

#include <string>

#include "antcrew/report/layer.hpp"

namespace antcrew::internal {

// As it reads, whatever it holds; also inside an attribute's quotes.
inline std::string escaped(const std::string& text) {
  std::string out;
  for (std::size_t k = 0; k < text.size(); ++k) {
    const char c = text[k];
    const bool control = static_cast<unsigned char>(c) < 0x20 && c != '\t' && c != '\n' && c != '\r';
    const bool no_character = text.compare(k, 3, "\xEF\xBF\xBE") == 0 || text.compare(k, 3, "\xEF\xBF\xBF") == 0;
    if (control || no_character) {  // XML has no way to write these
      out += "\xEF\xBF\xBD";
      k += no_character ? 2 : 0;
      continue;
    }
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
