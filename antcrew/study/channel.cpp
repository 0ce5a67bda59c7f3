#include "antcrew/study/channel.hpp"

#include <fmt/format.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <cerrno>
#include <cstdint>
#include <cstring>

#include "antcrew/base/bad_message.hpp"
#include "antcrew/base/error.hpp"

namespace antcrew::internal {
namespace {

void check_length(std::uint64_t bytes) {
  if (bytes > Channel::longest)
    throw BadMessage(fmt::format("a message of {} bytes, more than the {} that one can be", bytes, Channel::longest));
}

}  // namespace

std::pair<Channel, Channel> Channel::pair(const char* layer) {
  int ends[2];
  if (::socketpair(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0, ends) != 0) {
    could_not_run(std::string(layer) + ".channel", layer,
                  std::string("no socket for a process of the run (") + std::strerror(errno) + ")",
                  "raise the limit of open files (ulimit -n) or try fewer cells");
  }
  return {Channel(ends[0]), Channel(ends[1])};
}

void Channel::close() noexcept {
  if (descriptor_ >= 0) ::close(descriptor_);
  if (passed_ >= 0) ::close(passed_);
  descriptor_ = passed_ = -1;
}

bool Channel::write_all(const char* data, std::size_t size) noexcept {
  while (size > 0) {
    const ssize_t wrote = ::send(descriptor_, data, size, MSG_NOSIGNAL);
    if (wrote < 0 && errno == EINTR) continue;
    if (wrote <= 0) return false;
    data += wrote;
    size -= static_cast<std::size_t>(wrote);
  }
  return true;
}

bool Channel::send(const std::string& message) {
  const std::uint64_t size = message.size();
  check_length(size);
  char head[8];
  std::memcpy(head, &size, sizeof size);
  return write_all(head, sizeof head) && write_all(message.data(), message.size());
}

// The descriptor rides on the message's first byte.
bool Channel::send(const std::string& message, const Channel& passed) {
  const std::uint64_t size = message.size();
  check_length(size);
  char head[8];
  std::memcpy(head, &size, sizeof size);
  iovec part{head, 1};
  alignas(cmsghdr) char control[CMSG_SPACE(sizeof(int))] = {};
  msghdr header{};
  header.msg_iov = &part;
  header.msg_iovlen = 1;
  header.msg_control = control;
  header.msg_controllen = sizeof control;
  cmsghdr* rider = CMSG_FIRSTHDR(&header);
  rider->cmsg_level = SOL_SOCKET;
  rider->cmsg_type = SCM_RIGHTS;
  rider->cmsg_len = CMSG_LEN(sizeof(int));
  std::memcpy(CMSG_DATA(rider), &passed.descriptor_, sizeof(int));
  if (::sendmsg(descriptor_, &header, MSG_NOSIGNAL) != 1) return false;
  return write_all(head + 1, sizeof head - 1) && write_all(message.data(), message.size());
}

bool Channel::read_all(char* data, std::size_t size) {
  while (size > 0) {
    iovec part{data, size};
    alignas(cmsghdr) char control[CMSG_SPACE(sizeof(int))];
    msghdr header{};
    header.msg_iov = &part;
    header.msg_iovlen = 1;
    header.msg_control = control;
    header.msg_controllen = sizeof control;
    const ssize_t got = ::recvmsg(descriptor_, &header, MSG_CMSG_CLOEXEC);
    if (got < 0 && errno == EINTR) continue;
    if (got <= 0) return false;
    const cmsghdr* rider = CMSG_FIRSTHDR(&header);
    if (rider != nullptr && rider->cmsg_type == SCM_RIGHTS) {
      if (passed_ >= 0) ::close(passed_);
      std::memcpy(&passed_, CMSG_DATA(rider), sizeof(int));
    }
    data += got;
    size -= static_cast<std::size_t>(got);
  }
  return true;
}

std::optional<std::string> Channel::receive() {
  std::uint64_t size = 0;
  char head[8];
  if (!read_all(head, sizeof head)) return std::nullopt;
  std::memcpy(&size, head, sizeof size);
  check_length(size);
  std::string message(size, '\0');
  if (!read_all(message.data(), size)) return std::nullopt;
  return message;
}

std::optional<std::string> Channel::receive_looking(const std::function<double()>& look) {
  double wait_s = 0;
  while (true) {
    pollfd watched{descriptor_, POLLIN, 0};
    timespec wait{};
    wait.tv_sec = static_cast<time_t>(wait_s);
    wait.tv_nsec = static_cast<long>((wait_s - static_cast<double>(wait.tv_sec)) * 1e9);
    if (::ppoll(&watched, 1, &wait, nullptr) > 0) return receive();
    wait_s = look();
  }
}

std::optional<std::string> Channel::receive(double look_s, const std::function<void()>& idle) {
  bool first = true;
  return receive_looking([&] {
    if (!first) idle();
    first = false;
    return look_s;
  });
}

Channel Channel::take_passed() {
  return Channel(std::exchange(passed_, -1));
}

}  // namespace antcrew::internal
