#include "antcrew/study/internal/kept_output.hpp"

#include <fcntl.h>
#include <linux/falloc.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <utility>

#include "antcrew/base/printable.hpp"

namespace antcrew::internal {
namespace {

constexpr std::uint64_t page = 4096;
constexpr std::uint64_t first_kept = 2 * page;
constexpr std::uint64_t last_kept = 2 * page;
constexpr std::uint64_t worth_giving_back = 1 << 20;
constexpr std::size_t most_lines = 10;
constexpr std::size_t most_kept_columns = 100;

}  // namespace

KeptOutput::KeptOutput() : file_(::memfd_create("output", MFD_CLOEXEC)) {
  if (file_ >= 0) {
    ::fcntl(file_, F_SETFL, O_APPEND);  // several processes of a cell process may print at once
  } else {
    file_ = ::open("/dev/null", O_WRONLY | O_CLOEXEC);
  }
}

KeptOutput::~KeptOutput() {
  if (file_ >= 0) ::close(file_);
}

std::uint64_t KeptOutput::end() const noexcept {
  struct stat facts {};
  return ::fstat(file_, &facts) == 0 && S_ISREG(facts.st_mode) ? static_cast<std::uint64_t>(facts.st_size) : 0;
}

void KeptOutput::give_back(std::uint64_t from, std::uint64_t to) noexcept {
  if (to <= from) return;
  ::fallocate(file_, FALLOC_FL_PUNCH_HOLE | FALLOC_FL_KEEP_SIZE, static_cast<off_t>(from),
              static_cast<off_t>(to - from));
}

void KeptOutput::begin() {
  const std::uint64_t before = std::exchange(began_at_, end());
  if (began_at_ > before) give_back(before, began_at_);
  given_back_to_ = began_at_;
}

void KeptOutput::look() {
  const std::uint64_t now = end();
  const std::uint64_t from = std::max(given_back_to_, began_at_ + first_kept);
  if (now < from + worth_giving_back + last_kept) return;
  give_back(from, now - last_kept);
  given_back_to_ = now - last_kept;
}

std::uint64_t KeptOutput::bytes() const {
  return end() - began_at_;
}

std::string KeptOutput::part(std::uint64_t from, std::uint64_t length) const {
  std::string text(length, '\0');
  const ssize_t got = ::pread(file_, text.data(), text.size(), static_cast<off_t>(from));
  text.resize(got > 0 ? static_cast<std::size_t>(got) : 0);
  return text;
}

std::vector<std::string> KeptOutput::first_lines() const {
  const std::string text = part(began_at_, std::min<std::uint64_t>(bytes(), first_kept));
  std::vector<std::string> lines;
  std::size_t from = 0;
  while (lines.size() < most_lines && from < text.size()) {
    const std::size_t to = std::min(text.find('\n', from), text.size());
    lines.push_back(printable(std::string_view(text).substr(from, to - from), most_kept_columns));
    from = to + 1;
  }
  return lines;
}

std::string KeptOutput::last_line() const {
  const std::uint64_t length = std::min<std::uint64_t>(bytes(), last_kept);
  const std::string text = part(end() - length, length);
  return printable(last_saying_line(text), 2 * most_kept_columns);
}

}  // namespace antcrew::internal
