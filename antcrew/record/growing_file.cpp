#include "antcrew/record/growing_file.hpp"

#include <fcntl.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <filesystem>
#include <random>

#include "antcrew/base/error.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/record/record_file.hpp"
#include "antcrew/record/record_json.hpp"

namespace antcrew::record_layer {
namespace {

std::string fresh_token() {
  static constexpr char digits[] = "0123456789abcdef";
  std::random_device device;
  std::string token;
  for (int i = 0; i < 16; ++i) token += digits[device() % 16];
  return token;
}

// -1 = it has contents, or a run that has not begun yet holds it.
int empty_and_nobodys(const std::string& path) {
  const int file = ::open(path.c_str(), O_WRONLY | O_CLOEXEC);
  if (file < 0) return -1;
  struct stat facts {};
  if (::fstat(file, &facts) == 0 && S_ISREG(facts.st_mode) && facts.st_size == 0 &&
      ::flock(file, LOCK_EX | LOCK_NB) == 0)
    return file;
  ::close(file);
  return -1;
}

}  // namespace

std::string rounds_path(const std::string& path) {
  return path + ".rounds";
}

GrowingFile::GrowingFile(std::string path, Existing existing) : path_(std::move(path)) {
  const std::filesystem::path folder = std::filesystem::path(path_).parent_path();
  std::error_code fault;
  if (!folder.empty()) std::filesystem::create_directories(folder, fault);
  if (fault) cannot_write(path_, fault.value());
  reserved_ = ::open(path_.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0644);
  if (reserved_ < 0 && errno != EEXIST) cannot_write(path_, errno);
  if (reserved_ < 0) reserved_ = empty_and_nobodys(path_);
  if (reserved_ >= 0) {
    ::flock(reserved_, LOCK_EX | LOCK_NB);
  } else if (existing == Existing::refused) {
    bad_input("record.exists", path_, "this file exists", "choose another name, or add --overwrite");
  } else if (::access(path_.c_str(), W_OK) != 0) {
    cannot_write(path_, errno);
  }
}

// Nothing came of it: the name is free again.
GrowingFile::~GrowingFile() {
  if (rounds_ >= 0) ::close(rounds_);
  if (reserved_ >= 0) ::unlink(path_.c_str());
  no_longer_reserved();
}

void GrowingFile::no_longer_reserved() noexcept {
  if (reserved_ >= 0) ::close(reserved_);
  reserved_ = -1;
}

void GrowingFile::begin(const Record& frame) {
  const std::string token = fresh_token();
  save_text(to_json(frame, token), path_, false);
  no_longer_reserved();
  // An older file of this name begins with another token, so it is not taken for ours in between.
  rounds_ = ::open(rounds_path(path_).c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0644);
  if (rounds_ < 0) cannot_write(rounds_path(path_), errno);
  pending_ = token + "\n";
  whole_ = 0;
  write_pending();
}

void GrowingFile::add(const RecordStep& step) {
  pending_ += to_json(step) + "\n";
  write_pending();
}

// All of it or nothing: half a line in the middle would end the reading there.
void GrowingFile::write_pending() {
  trouble_.clear();
  std::size_t done = 0;
  while (done < pending_.size()) {
    const ssize_t wrote = ::pwrite(rounds_, pending_.data() + done, pending_.size() - done,
                                   static_cast<off_t>(whole_ + static_cast<long long>(done)));
    if (wrote < 0 && errno == EINTR) continue;
    if (wrote <= 0) {
      trouble_ = std::strerror(wrote < 0 ? errno : ENOSPC);
      if (::ftruncate(rounds_, static_cast<off_t>(whole_)) != 0) trouble_ += ", and half a line stays";
      return;
    }
    done += static_cast<std::size_t>(wrote);
  }
  whole_ += static_cast<long long>(pending_.size());
  pending_.clear();
}

void GrowingFile::finish(const Record& record) {
  save_record(record, path_);
  no_longer_reserved();
  if (rounds_ >= 0) ::close(rounds_);
  rounds_ = -1;
  ::unlink(rounds_path(path_).c_str());
}

}  // namespace antcrew::record_layer
