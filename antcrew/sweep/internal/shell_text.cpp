#include "antcrew/sweep/internal/shell_text.hpp"

#include <algorithm>
#include <cctype>
#include <filesystem>
#include <set>

#include "antcrew/base/error.hpp"
#include "antcrew/base/printable.hpp"

namespace antcrew::internal {
namespace {

bool is_shell(const std::string& word) {
  static const std::set<std::string> shells{"sh", "bash", "dash", "zsh", "ksh", "ash", "csh", "tcsh", "fish"};
  return shells.count(std::filesystem::path(word).filename().string()) > 0;
}

}  // namespace

void refuse_names_in_shell_text(const std::string& text, const std::string& where) {
  const std::size_t at = text.find("@(");
  if (at == std::string::npos) return;
  const std::string name = text.substr(at + 2, text.find(')', at) - at - 2);
  const std::string variable = name == "workers" || name == "size" || name == "folder" || name == "study"
                                   ? "ANTCREW_" + name
                                   : "ANTCREW_DIMENSION_" + name;
  std::string upper;
  for (const char c : variable) upper += static_cast<char>(std::toupper(static_cast<unsigned char>(c)));
  bad_input("sweep.name", where, "@(" + printable(name, 40) + ") in the text of a shell",
            "write \"$" + printable(upper, 60) + "\" there: nothing is pasted into shell text");
}

void check_shell_words(const std::vector<std::string>& words, const std::string& where) {
  for (std::size_t i = 0; i + 2 < words.size() + 1; ++i) {
    const bool option = i > 0 && words[i].size() > 1 && words[i][0] == '-' && words[i][1] != '-' &&
                        words[i].find('c') != std::string::npos;
    const bool after_shell =
        option && std::any_of(words.begin(), words.begin() + static_cast<std::ptrdiff_t>(i), is_shell);
    if (after_shell && i + 1 < words.size()) refuse_names_in_shell_text(words[i + 1], where);
  }
}

}  // namespace antcrew::internal
