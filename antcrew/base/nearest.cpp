#include "antcrew/base/nearest.hpp"

#include <algorithm>

namespace antcrew::base_layer {
namespace {

std::size_t distance(const std::string& a, const std::string& b) {
  std::vector<std::vector<std::size_t>> d(a.size() + 1, std::vector<std::size_t>(b.size() + 1));
  for (std::size_t i = 0; i <= a.size(); ++i) {
    for (std::size_t j = 0; j <= b.size(); ++j) {
      if (i == 0 || j == 0) {
        d[i][j] = i + j;
        continue;
      }
      d[i][j] = std::min({d[i - 1][j] + 1, d[i][j - 1] + 1, d[i - 1][j - 1] + (a[i - 1] == b[j - 1] ? 0 : 1)});
      if (i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1])
        d[i][j] = std::min(d[i][j], d[i - 2][j - 2] + 1);
    }
  }
  return d[a.size()][b.size()];
}

}  // namespace

std::string nearest_word(const std::vector<std::string>& known, const std::string& wrong) {
  constexpr std::size_t longest = 200;  // nobody mistypes more
  if (wrong.size() > longest) return {};
  std::string best;
  std::size_t least = std::max<std::size_t>(2, wrong.size() / 3) + 1;
  for (const std::string& word : known) {
    if (word.size() > longest) continue;
    const bool begun = wrong.size() > 3 && word.rfind(wrong, 0) == 0;
    const std::size_t far = begun ? 1 : distance(wrong, word);
    if (far < least) {
      least = far;
      best = word;
    }
  }
  return best;
}

}  // namespace antcrew::base_layer
