// What a process and its children hold, as the kernel tells it.
#pragma once

#include <dirent.h>
#include <sys/types.h>
#include <unistd.h>

#include <fstream>
#include <string>
#include <vector>

// The thread sanitizer cannot follow threads that are begun in a fork of a process which has some.
#if defined(__SANITIZE_THREAD__)
inline constexpr bool thread_sanitizer = true;
#elif defined(__has_feature)
#if __has_feature(thread_sanitizer)
inline constexpr bool thread_sanitizer = true;
#else
inline constexpr bool thread_sanitizer = false;
#endif
#else
inline constexpr bool thread_sanitizer = false;
#endif

// Both sanitizers keep memory of their own beside the program's.
#if defined(__SANITIZE_ADDRESS__)
inline constexpr bool exact_memory = false;
#else
inline constexpr bool exact_memory = !thread_sanitizer;
#endif

inline std::vector<pid_t> children_of(pid_t process) {
  std::vector<pid_t> found;
  const std::string folder = "/proc/" + std::to_string(process) + "/task/";
  DIR* threads = ::opendir(folder.c_str());
  if (threads == nullptr) return found;
  while (const dirent* thread = ::readdir(threads)) {
    std::ifstream list(folder + thread->d_name + "/children");
    for (pid_t child = 0; list >> child;) found.push_back(child);
  }
  ::closedir(threads);
  return found;
}

inline std::size_t open_descriptors() {
  std::size_t count = 0;
  DIR* folder = ::opendir("/proc/self/fd");
  while (::readdir(folder) != nullptr) ++count;
  ::closedir(folder);
  return count;
}

// Those of crews.
inline std::size_t memory_files_mapped_by(pid_t process) {
  std::size_t count = 0;
  std::ifstream maps("/proc/" + std::to_string(process) + "/maps");
  for (std::string line; std::getline(maps, line);) count += line.find("/memfd:antcrew") != std::string::npos;
  return count;
}

inline bool is_alive(pid_t process) {
  std::ifstream status("/proc/" + std::to_string(process) + "/stat");
  std::string text;
  return std::getline(status, text) && text.find(") Z ") == std::string::npos;
}
