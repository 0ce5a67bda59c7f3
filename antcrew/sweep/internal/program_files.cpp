#include "antcrew/sweep/internal/program_files.hpp"

#include <fmt/chrono.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <set>

#include "antcrew/base/error.hpp"
#include "antcrew/base/hash.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/study/visit.hpp"

namespace antcrew::internal {
namespace {

namespace fs = std::filesystem;

constexpr std::size_t most_files = 100;
constexpr std::int64_t most_program_bytes = 256ll << 20;  // of one: what is longer is data

// Not data, which a command may well change.
bool is_program(const std::string& path) {
  std::error_code trouble;
  if (!fs::is_regular_file(path, trouble)) return false;
  if (::access(path.c_str(), X_OK) == 0) return true;
  static const std::set<std::string> scripts{".py", ".sh", ".pl", ".rb",  ".jl",  ".r",   ".R",  ".lua",
                                             ".js", ".ts", ".m",  ".awk", ".sed", ".tcl", ".php"};
  if (scripts.count(fs::path(path).extension().string()) > 0) return true;
  std::ifstream file(path, std::ios::binary);
  char first[2] = {};
  file.read(first, 2);
  return first[0] == '#' && first[1] == '!';
}

}  // namespace

std::optional<ProgramFiles::Seen> ProgramFiles::seen(const std::string& path) {
  struct stat facts {};
  if (::stat(path.c_str(), &facts) != 0 || !S_ISREG(facts.st_mode)) return std::nullopt;
  return Seen{static_cast<std::int64_t>(facts.st_mtim.tv_sec) * 1'000'000'000 + facts.st_mtim.tv_nsec,
              static_cast<std::int64_t>(facts.st_ino), static_cast<std::int64_t>(facts.st_size)};
}

void ProgramFiles::add(const std::string& path, const std::string& shown, int whose) {
  const auto known = std::find(paths_.begin(), paths_.end(), path);
  if (known != paths_.end()) whose_[static_cast<std::size_t>(known - paths_.begin())].insert(whose);
  if (path.empty() || facts_.size() >= most_files || known != paths_.end()) return;
  const auto now = seen(path);
  if (!now || now->bytes > most_program_bytes) return;
  FileFacts facts;
  facts.name = printable(shown, 200);
  facts.hash = file_hash(path);
  facts.changed =
      fmt::format("{:%Y-%m-%dT%H:%M:%SZ}", fmt::gmtime(static_cast<std::time_t>(now->changed_ns / 1'000'000'000)));
  facts_.push_back(std::move(facts));
  paths_.push_back(path);
  whose_.push_back({whose});
  seen_.push_back(*now);
}

ProgramFiles::ProgramFiles(const CommandStudy& study) {
  const std::string& folder = study.parts().folder;
  const auto add_words = [&](const std::vector<std::string>& words, const std::string& where, int whose,
                             const Runnable& of) {
    const std::string path_list = text_of(study, of, path_of(of.environment), Place());
    for (std::size_t k = 0; k < words.size(); ++k) {
      const std::string& word = words[k];
      if (word.empty() || word.find("@(") != std::string::npos) continue;
      try {
        if (k == 0) add(found_program(word, folder, where, path_list), word, whose);
      } catch (const Error&) {  // told when it is to be run
      }
      const std::string path = (fs::path(folder) / word).lexically_normal().string();
      if (k > 0 && is_program(path)) add(path, word, whose);
    }
  };
  const auto add_runnable = [&](const Runnable& one, int whose) {
    add_words(one.launcher, one.command.where, whose, one);
    // Behind a launcher the first word is a program, too.
    add_words(one.command.words, one.command.where, whose, one);
  };
  if (!study.parts().file.empty()) add(fs::absolute(study.parts().file).string(), study.parts().file, of_none);
  add_runnable(study.parts().baseline, CellSpec::the_baseline);
  for (std::size_t i = 0; i < study.variants().size(); ++i) add_runnable(study.runnable(i), static_cast<int>(i));
  for (const auto* list : {&study.parts().before_all, &study.parts().before_each, &study.parts().after_each}) {
    for (const Command& command : *list) add_words(command.words, command.where, of_all, study.parts().baseline);
  }
  for (const Command* command : {&study.parts().answer.decides, &study.parts().answer.filter})
    add_words(command->words, "answer", of_all, study.parts().baseline);
}

std::optional<SharedInputs::Seen> SharedInputs::look_at(const std::string& path) {
  struct stat facts {};
  if (::stat(path.c_str(), &facts) != 0 || !S_ISREG(facts.st_mode)) return std::nullopt;
  Seen seen{path,
            static_cast<std::int64_t>(facts.st_mtim.tv_sec) * 1'000'000'000 + facts.st_mtim.tv_nsec,
            static_cast<std::int64_t>(facts.st_ino),
            static_cast<std::int64_t>(facts.st_size),
            {}};
  return seen;
}

SharedInputs::SharedInputs(const std::vector<std::string>& paths) {
  for (const std::string& path : paths) {
    const bool known = std::any_of(seen_.begin(), seen_.end(), [&](const Seen& one) { return one.path == path; });
    auto seen = known ? std::nullopt : look_at(path);
    if (!seen) continue;
    if (seen->bytes <= most_program_bytes) seen->hash = file_hash(path);
    seen_.push_back(std::move(*seen));
  }
}

std::optional<std::string> SharedInputs::changed() {
  for (Seen& before : seen_) {
    auto now = look_at(before.path);
    if (!now) return before.path + " is gone";
    if (now->changed_ns == before.changed_ns && now->inode == before.inode && now->bytes == before.bytes) continue;
    now->hash = before.hash;
    if (before.hash.empty() || file_hash(before.path) != before.hash) return before.path + " has another content";
    before = std::move(*now);  // touched, or written again as it was
  }
  return std::nullopt;
}

std::string ProgramFiles::hash() const {
  std::string all;
  for (const FileFacts& file : facts_) all += file.name + " " + file.hash + "\n";
  return text_hash(all);
}

std::optional<std::string> ProgramFiles::changed(int variant) const {
  for (std::size_t k = 0; k < paths_.size(); ++k) {
    if (whose_[k].count(variant) == 0 && whose_[k].count(of_all) == 0) continue;
    const auto now = seen(paths_[k]);
    if (now && *now == seen_[k]) continue;
    if (!now) return facts_[k].name + " is gone";
    if (file_hash(paths_[k]) != facts_[k].hash) return facts_[k].name + " is not what it was when the study began";
    seen_[k] = *now;  // touched, or written again as it was
  }
  return std::nullopt;
}

}  // namespace antcrew::internal
