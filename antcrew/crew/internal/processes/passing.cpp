#include "antcrew/crew/internal/processes/passing.hpp"

#include <sys/socket.h>
#include <sys/uio.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstring>
#include <string>

#include "antcrew/base/error.hpp"

namespace antcrew::internal {
namespace {

// The next blocks, less what is gone already of the first.
class Segments {
 public:
  explicit Segments(const std::vector<Packer::Block>& blocks) : blocks_(blocks) { skip_empty(); }
  bool done() const noexcept { return at_ == blocks_.size(); }
  std::size_t fill(std::array<iovec, 64>& parts) const noexcept {
    std::size_t count = 0;
    std::size_t offset = offset_;
    for (std::size_t k = at_; k < blocks_.size() && count < parts.size(); ++k, offset = 0) {
      const char* data = static_cast<const char*>(blocks_[k].data);
      parts[count++] = {const_cast<char*>(data) + offset, blocks_[k].bytes - offset};
    }
    return count;
  }
  void advance(std::size_t bytes) noexcept {
    while (bytes > 0) {
      const std::size_t step = std::min(bytes, blocks_[at_].bytes - offset_);
      offset_ += step;
      bytes -= step;
      if (offset_ == blocks_[at_].bytes) {
        ++at_;
        offset_ = 0;
      }
    }
    skip_empty();
  }

 private:
  void skip_empty() noexcept {
    while (at_ < blocks_.size() && offset_ == 0 && blocks_[at_].bytes == 0) ++at_;
  }
  const std::vector<Packer::Block>& blocks_;
  std::size_t at_ = 0;
  std::size_t offset_ = 0;
};

struct alignas(cmsghdr) Control {
  char bytes[CMSG_SPACE(sizeof(int))] = {};
};

void attach(msghdr& header, Control& control, int file) noexcept {
  header.msg_control = control.bytes;
  header.msg_controllen = sizeof control.bytes;
  cmsghdr* rider = CMSG_FIRSTHDR(&header);
  rider->cmsg_level = SOL_SOCKET;
  rider->cmsg_type = SCM_RIGHTS;
  rider->cmsg_len = CMSG_LEN(sizeof(int));
  std::memcpy(CMSG_DATA(rider), &file, sizeof(int));
}

std::ptrdiff_t receive(int socket, void* to, std::size_t bytes, Descriptor* file, int flags) noexcept {
  iovec part{to, bytes};
  Control control;
  msghdr header{};
  header.msg_iov = &part;
  header.msg_iovlen = 1;
  if (file != nullptr) {
    header.msg_control = control.bytes;
    header.msg_controllen = sizeof control.bytes;
  }
  ssize_t got = 0;
  do {
    got = ::recvmsg(socket, &header, MSG_CMSG_CLOEXEC | flags);
  } while (got < 0 && errno == EINTR);
  if (got > 0 && file != nullptr) {
    const cmsghdr* rider = CMSG_FIRSTHDR(&header);
    if (rider != nullptr && rider->cmsg_type == SCM_RIGHTS) {
      int number = -1;
      std::memcpy(&number, CMSG_DATA(rider), sizeof(int));
      *file = Descriptor(number);
    }
  }
  if (got < 0 && (errno == EAGAIN || errno == EWOULDBLOCK)) return 0;
  return got <= 0 ? -1 : got;
}

}  // namespace

std::pair<Descriptor, Descriptor> socket_pair() {
  int ends[2];
  if (::socketpair(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0, ends) != 0) {
    could_not_run("crew.start", "a crew of processes",
                  std::string("no socket for a worker (") + std::strerror(errno) + ")",
                  "use fewer workers, or raise the limit of open files (ulimit -n)");
  }
  return {Descriptor(ends[0]), Descriptor(ends[1])};
}

bool send_blocks(int socket, const std::vector<Packer::Block>& blocks, int file, Patience* patience) noexcept {
  std::array<iovec, 64> parts;
  for (Segments left(blocks); !left.done();) {
    Control control;
    msghdr header{};
    header.msg_iov = parts.data();
    header.msg_iovlen = left.fill(parts);
    if (file >= 0) attach(header, control, file);
    const ssize_t sent = ::sendmsg(socket, &header, MSG_NOSIGNAL | (patience == nullptr ? 0 : MSG_DONTWAIT));
    if (sent < 0 && errno == EINTR) continue;
    if (sent < 0 && patience != nullptr && (errno == EAGAIN || errno == EWOULDBLOCK)) {
      if (patience->for_room(socket)) continue;
      return false;
    }
    if (sent <= 0) return false;
    file = -1;
    left.advance(static_cast<std::size_t>(sent));
  }
  return true;
}

bool write_blocks(int file, const std::vector<Packer::Block>& blocks) noexcept {
  std::array<iovec, 64> parts;
  for (Segments left(blocks); !left.done();) {
    const std::size_t count = left.fill(parts);
    const ssize_t wrote = ::writev(file, parts.data(), static_cast<int>(count));
    if (wrote < 0 && errno == EINTR) continue;
    if (wrote <= 0) return false;
    left.advance(static_cast<std::size_t>(wrote));
  }
  return true;
}

bool receive_blocking(int socket, void* to, std::size_t bytes, Descriptor* file) noexcept {
  for (char* at = static_cast<char*>(to); bytes > 0;) {
    const std::ptrdiff_t got = receive(socket, at, bytes, file, 0);
    if (got < 0) return false;
    at += got;
    bytes -= static_cast<std::size_t>(got);
  }
  return true;
}

std::ptrdiff_t receive_some(int socket, void* to, std::size_t bytes, Descriptor* file) noexcept {
  return receive(socket, to, bytes, file, MSG_DONTWAIT);
}

}  // namespace antcrew::internal
