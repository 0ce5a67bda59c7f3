// Messages between the processes of a run, over a pair of connected sockets.
//
// A message is a text with its length before it, at most `longest`; a descriptor may travel beside one. Not
// thread-safe.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <utility>

#include "antcrew/study/layer.hpp"

namespace antcrew::internal {

class Channel {
 public:
  static constexpr std::uint64_t longest = 1u << 30;  // bytes

  Channel() = default;
  explicit Channel(int descriptor) : descriptor_(descriptor) {}
  Channel(Channel&& other) noexcept : descriptor_(std::exchange(other.descriptor_, -1)) {}
  Channel& operator=(Channel&& other) noexcept {
    std::swap(descriptor_, other.descriptor_);
    return *this;
  }
  ~Channel() { close(); }

  // Two ends of one channel. Throws Error (`layer`.channel) when the system has no descriptors left.
  static std::pair<Channel, Channel> pair(const char* layer = "study");

  bool is_open() const noexcept { return descriptor_ >= 0; }
  void close() noexcept;
  // The descriptor, which is not this one's to close any more.
  int release() noexcept { return std::exchange(descriptor_, -1); }

  // False when the other end is gone. Throws BadMessage where it is too long.
  bool send(const std::string& message);
  bool send(const std::string& message, const Channel& passed);

  // None when the other end is gone. Throws BadMessage where more is announced than a message can be. While nothing
  // comes, `idle` is called every `look_s` seconds and may throw.
  std::optional<std::string> receive(double look_s, const std::function<void()>& idle);
  std::optional<std::string> receive();
  // The same, calling `look` at once and then whenever as many seconds have passed as it said; it may throw.
  std::optional<std::string> receive_looking(const std::function<double()>& look);
  // The descriptor that came beside the message just received.
  Channel take_passed();

 private:
  bool write_all(const char* data, std::size_t size) noexcept;
  bool read_all(char* data, std::size_t size);

  int descriptor_ = -1;
  int passed_ = -1;
};

}  // namespace antcrew::internal
