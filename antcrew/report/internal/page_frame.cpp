#include "antcrew/report/internal/page_frame.hpp"

#include <fmt/format.h>

#include <vector>

#include "antcrew/report/internal/markup.hpp"
#include "antcrew/report/internal/page_assets.hpp"

namespace antcrew::internal {
namespace {

std::string base64_of_hex(const std::string& hex) {
  constexpr char digits[] = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
  std::vector<unsigned> bytes;
  for (std::size_t k = 0; k + 1 < hex.size(); k += 2)
    bytes.push_back(static_cast<unsigned>(std::stoul(hex.substr(k, 2), nullptr, 16)));
  std::string out;
  for (std::size_t k = 0; k < bytes.size(); k += 3) {
    const std::size_t left = bytes.size() - k;
    const unsigned group = bytes[k] << 16 | (left > 1 ? bytes[k + 1] << 8 : 0) | (left > 2 ? bytes[k + 2] : 0);
    out += digits[group >> 18 & 63];
    out += digits[group >> 12 & 63];
    out += left > 1 ? digits[group >> 6 & 63] : '=';
    out += left > 2 ? digits[group & 63] : '=';
  }
  return out;
}

std::string policy() {
  const auto hash = [](const PageAsset& asset) { return "'sha256-" + base64_of_hex(asset.sha256) + "'"; };
  return fmt::format(
      "default-src 'none'; script-src {} {} {}; style-src {}; img-src data: blob:; base-uri 'none'; form-action 'none'",
      hash(page_charts), hash(page_figures), hash(page_script), hash(page_style));
}

// Where the first sentence ends; not inside a name, which stands in quotes.
std::size_t end_of_sentence(const std::string& text) {
  bool quoted = false;
  for (std::size_t k = 0; k + 1 < text.size(); ++k) {
    if (text[k] == '"') quoted = !quoted;
    if (!quoted && text[k] == '.' && text[k + 1] == ' ') return k;
  }
  return std::string::npos;
}

}  // namespace

std::string page_head(const std::string& title) {
  return fmt::format(
      "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n"
      "<meta http-equiv=\"Content-Security-Policy\" content=\"{}\">\n"
      "<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n<link rel=\"icon\" href=\"data:,\">\n"
      "<title>{}</title>\n<style>{}</style>\n</head>\n",
      policy(), escaped(title), page_style.text);
}

std::string page_headline(const std::string& all) {
  const std::size_t end = end_of_sentence(all);
  if (end == std::string::npos) return "<h1>" + escaped(all) + "</h1>\n";
  return "<h1>" + escaped(all.substr(0, end + 1)) + "</h1>\n<p class=\"also\">" + escaped(all.substr(end + 2)) +
         "</p>\n";
}

std::string page_footer(const std::string& made_from, const std::string& version) {
  return fmt::format(
      "<footer>Made by Ant Crew {} from {}; nothing on this page comes from a network. Figures are drawn by "
      "Chart.js.<details><summary>Its licence</summary><pre>{}</pre></details></footer>\n</main>\n"
      "<div id=\"said\" class=\"said\" role=\"status\" aria-live=\"polite\"></div>\n",
      escaped(version), made_from, escaped(std::string(page_licence.text)));
}

std::string page_scripts(const std::string& data) {
  return fmt::format(
      "<script type=\"application/json\" "
      "id=\"study\">{}</script>\n<script>{}</script>\n<script>{}</script>\n<script>{}</script>\n"
      "</body>\n</html>\n",
      data, page_charts.text, page_figures.text, page_script.text);
}

}  // namespace antcrew::internal
