#include "antcrew/machine/study_lock.hpp"

#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>

#include <cerrno>

namespace antcrew::machine_layer {

std::string StudyLock::usual_path() {
  return "/tmp/antcrew-study-lock";  // one for all users of the machine
}

// A file of another user in a folder for all may be opened, but not with O_CREAT.
StudyLock::StudyLock(const std::string& path) : file_(::open(path.c_str(), O_RDONLY | O_CLOEXEC)) {
  if (file_ < 0) file_ = ::open(path.c_str(), O_RDONLY | O_CREAT | O_CLOEXEC, 0644);
  // Held exclusively for a moment by those who look whether they are alone, so this may wait for microseconds.
  while (file_ >= 0 && ::flock(file_, LOCK_SH) != 0 && errno == EINTR) {
  }
}

StudyLock::~StudyLock() {
  if (file_ >= 0) ::close(file_);
}

bool StudyLock::alone() noexcept {
  if (file_ < 0) return true;
  const bool alone = ::flock(file_, LOCK_EX | LOCK_NB) == 0;
  while (::flock(file_, LOCK_SH) != 0 && errno == EINTR) {
  }
  return alone;
}

}  // namespace antcrew::machine_layer
