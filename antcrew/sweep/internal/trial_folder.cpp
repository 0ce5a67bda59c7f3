#include "antcrew/sweep/internal/trial_folder.hpp"

#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <utility>

#include "antcrew/base/error.hpp"
#include "antcrew/base/printable.hpp"

namespace antcrew::internal {
namespace {

namespace fs = std::filesystem;

constexpr std::uint64_t kept_of_output = 64 << 10;

// A folder that nobody may enter would stay: its owner may, here.
void remove_tree(const std::string& top) {
  std::error_code trouble;
  if (top.empty() || (fs::remove_all(top, trouble), !trouble)) return;
  std::error_code unused;
  for (fs::recursive_directory_iterator it(top, fs::directory_options::skip_permission_denied, unused), end;
       !unused && it != end; it.increment(unused)) {
    if (fs::is_directory(it->symlink_status(unused))) ::chmod(it->path().c_str(), 0700);
  }
  fs::remove_all(top, trouble);
}

// The first and the last part of a long file.
void shorten(const std::string& path) {
  std::error_code trouble;
  const std::uint64_t size = fs::file_size(path, trouble);
  if (trouble || size <= kept_of_output) return;
  std::ifstream file(path, std::ios::binary);
  std::string first(kept_of_output / 2, '\0');
  std::string last(kept_of_output / 2, '\0');
  file.read(first.data(), static_cast<std::streamsize>(first.size()));
  file.seekg(static_cast<std::streamoff>(size - last.size()));
  file.read(last.data(), static_cast<std::streamsize>(last.size()));
  std::ofstream shorter(path, std::ios::binary | std::ios::trunc);
  shorter << first << "\n… " << size - first.size() - last.size() << " bytes are left out here …\n" << last;
}

}  // namespace

TrialFolder::TrialFolder(TrialFolder&& other) noexcept : top_(std::exchange(other.top_, {})) {}

TrialFolder& TrialFolder::operator=(TrialFolder&& other) noexcept {
  std::swap(top_, other.top_);
  return *this;
}

TrialFolder::~TrialFolder() {
  if (!top_.empty()) remove_tree(top_);
}

TrialFolders::TrialFolders(std::string kept_under) : kept_under_(std::move(kept_under)) {
  std::error_code trouble;
  const fs::path temporary = fs::temp_directory_path(trouble);
  std::string pattern = ((trouble ? fs::path("/tmp") : temporary) / "antcrew-trials-XXXXXX").string();
  if (::mkdtemp(pattern.data()) == nullptr)
    could_not_run("sweep.folder", "a folder for trials",
                  printable(pattern, 80) + " cannot be made (" + std::strerror(errno) + ")",
                  "name a place that can be written to in TMPDIR");
  base_ = pattern;
}

TrialFolders::~TrialFolders() {
  remove_tree(base_);
}

TrialFolder TrialFolders::fresh() {
  TrialFolder trial(base_ + "/" + std::to_string(next_++));
  if (::mkdir(trial.top().c_str(), 0700) != 0 || ::mkdir(trial.folder().c_str(), 0700) != 0) {
    could_not_run("sweep.folder", "a folder for a trial",
                  printable(trial.top(), 80) + " cannot be made (" + std::strerror(errno) + ")",
                  "make room there, or name another place in TMPDIR");
  }
  return trial;
}

std::string TrialFolders::keep(TrialFolder& trial, const std::string& name) {
  for (const std::string& file : {trial.output(), trial.errors()}) shorten(file);
  std::error_code trouble;
  fs::create_directories(kept_under_, trouble);
  fs::path to = fs::path(kept_under_) / name;
  for (int attempt = 2; !trouble && fs::exists(to, trouble); ++attempt)
    to = fs::path(kept_under_) / (name + "-" + std::to_string(attempt));
  if (!trouble) fs::rename(trial.top(), to, trouble);
  if (trouble) {  // on another disk
    trouble.clear();
    fs::copy(trial.top(), to, fs::copy_options::recursive | fs::copy_options::copy_symlinks, trouble);
    if (trouble) {
      trouble_ = trouble.message();
      return {};
    }
    return to.string();
  }
  trial.top_.clear();
  return to.string();
}

bool read_file(const std::string& path, std::uint64_t most_bytes, std::string& text) {
  std::error_code trouble;
  const std::uint64_t size = fs::file_size(path, trouble);
  if (trouble || size > most_bytes) return false;
  std::ifstream file(path, std::ios::binary);
  text.resize(size);
  file.read(text.data(), static_cast<std::streamsize>(size));
  text.resize(static_cast<std::size_t>(file.gcount()));
  return static_cast<bool>(file) || file.eof();
}

std::vector<std::string> first_lines(const std::string& path) {
  constexpr std::size_t most_lines = 10;
  constexpr std::size_t most_columns = 100;
  constexpr std::size_t most_bytes = 8192;
  std::ifstream file(path, std::ios::binary);
  std::string text(most_bytes, '\0');
  file.read(text.data(), most_bytes);
  text.resize(static_cast<std::size_t>(file.gcount()));
  std::vector<std::string> lines;
  for (std::size_t from = 0; from < text.size() && lines.size() < most_lines;) {
    const std::size_t end = std::min(text.find('\n', from), text.size());
    lines.push_back(printable(text.substr(from, end - from), most_columns));
    from = end + 1;
  }
  return lines;
}

std::string last_line(const std::string& path) {
  constexpr std::size_t most_bytes = 4096;
  constexpr std::size_t most_columns = 200;
  std::error_code trouble;
  const std::uint64_t size = fs::file_size(path, trouble);
  if (trouble || size == 0) return {};
  std::ifstream file(path, std::ios::binary);
  const std::uint64_t length = std::min<std::uint64_t>(size, most_bytes);
  file.seekg(static_cast<std::streamoff>(size - length));
  std::string text(length, '\0');
  file.read(text.data(), static_cast<std::streamsize>(length));
  const std::size_t end = text.find_last_not_of(" \t\r\n");
  if (end == std::string::npos) return {};
  const std::size_t begin = text.rfind('\n', end);
  return printable(text.substr(begin == std::string::npos ? 0 : begin + 1, end - (begin + 1) + 1), most_columns);
}

}  // namespace antcrew::internal
