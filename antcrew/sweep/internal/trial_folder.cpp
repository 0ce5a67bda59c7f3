#include "antcrew/sweep/internal/trial_folder.hpp"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <functional>
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
  std::string first, last;
  if (trouble || size <= kept_of_output || !read_beginning(path, kept_of_output / 2, first) ||
      !read_ending(path, kept_of_output / 2, last))
    return;
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
  fs::path temporary = fs::temp_directory_path(trouble);
  if (!trouble) temporary = fs::absolute(temporary, trouble);  // commands run in folders of their own
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

namespace {

// From `from` on, which is told the size. False where it cannot be read.
bool read_part(const std::string& path, const std::function<std::uint64_t(std::uint64_t)>& from,
               std::uint64_t most_bytes, std::string& text) {
  text.clear();
  const int file = ::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK | O_NOCTTY);
  if (file < 0) return false;
  struct stat facts {};
  bool good = ::fstat(file, &facts) == 0 && S_ISREG(facts.st_mode);
  if (good) {
    const auto size = static_cast<std::uint64_t>(facts.st_size);
    const std::uint64_t begin = from(size);
    good = begin <= size;
    const std::uint64_t length = good ? std::min(size - begin, most_bytes) : 0;
    try {
      text.resize(length);
    } catch (...) {
      ::close(file);
      throw;
    }
    std::uint64_t read = 0;
    while (good && read < length) {
      const ssize_t got = ::pread(file, text.data() + read, length - read, static_cast<off_t>(begin + read));
      if (got < 0 && errno == EINTR) continue;
      good = got >= 0;
      if (got <= 0) break;
      read += static_cast<std::uint64_t>(got);
    }
    text.resize(read);
  }
  ::close(file);
  return good;
}

}  // namespace

bool read_file(const std::string& path, std::uint64_t most_bytes, std::string& text) {
  return read_part(
      path, [&](std::uint64_t size) { return size > most_bytes ? size + 1 : 0; }, most_bytes, text);
}

bool read_beginning(const std::string& path, std::uint64_t most_bytes, std::string& text) {
  return read_part(
      path, [](std::uint64_t) { return 0; }, most_bytes, text);
}

bool read_ending(const std::string& path, std::uint64_t most_bytes, std::string& text) {
  return read_part(
      path, [&](std::uint64_t size) { return size > most_bytes ? size - most_bytes : 0; }, most_bytes, text);
}

std::string not_its_own(const std::string& path, const std::string& folder) {
  struct stat facts {};
  if (::lstat(path.c_str(), &facts) != 0) return {};
  std::error_code trouble;
  const fs::path place = fs::canonical(folder, trouble);
  const fs::path real = trouble ? fs::path() : fs::canonical(path, trouble);
  if (trouble) return "a link that leads nowhere";
  const auto [end, unused] = std::mismatch(place.begin(), place.end(), real.begin(), real.end());
  if (end != place.end()) return "a link to another place, " + printable(real.string(), 80);
  if (::stat(path.c_str(), &facts) != 0 || !S_ISREG(facts.st_mode)) return "no file (a pipe, a device, a folder)";
  return facts.st_nlink > 1 ? "one of several names of a file" : std::string();
}

std::vector<std::string> first_lines(const std::string& path) {
  constexpr std::size_t most_lines = 10;
  constexpr std::size_t most_columns = 100;
  constexpr std::size_t most_bytes = 8192;
  std::string text;
  read_beginning(path, most_bytes, text);
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
  std::string text;
  if (!read_ending(path, most_bytes, text)) return {};
  return printable(last_saying_line(text), most_columns);
}

}  // namespace antcrew::internal
