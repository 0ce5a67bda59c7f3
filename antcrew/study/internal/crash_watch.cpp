#include "antcrew/study/internal/crash_watch.hpp"

#include <signal.h>
#include <unistd.h>

#include <algorithm>
#include <cstdlib>
#include <cstring>
#include <exception>

#include "antcrew/base/printable.hpp"
#include "antcrew/base/type_name.hpp"
#include "antcrew/study/internal/returned_child.hpp"

namespace antcrew::internal {

#if defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__)
const bool sanitized = true;
#elif defined(__has_feature)
#if __has_feature(address_sanitizer) || __has_feature(thread_sanitizer)
const bool sanitized = true;
#else
const bool sanitized = false;
#endif
#else
const bool sanitized = false;
#endif

namespace {

ProcessBoard* board_of_crash = nullptr;
pid_t watched_process = 0;

// Runs on the stack of the thread that crashed: when that stack has overflown it cannot run at all, and the board
// stays blank, which tells the two apart.
void on_crash(int number, siginfo_t* info, void*) {
  if (::getpid() == watched_process) {
    board_of_crash->address.store(reinterpret_cast<std::uintptr_t>(info->si_addr), std::memory_order_relaxed);
    board_of_crash->signal.store(number, std::memory_order_relaxed);
  }
  ::signal(number, SIG_DFL);
  ::raise(number);
}

// An exception that leaves a thread made by hand ends the whole process; here it is still known which one.
void on_terminate() {
  if (::getpid() == watched_process && board_of_crash->terminated.exchange(1) == 0) {
    std::string text;
    if (std::current_exception()) {
      try {
        throw;
      } catch (...) {
        const Thrown thrown = current_thrown();
        text = printable(thrown.text.empty() ? thrown.type : thrown.type + ": " + thrown.text, 200);
      }
    }
    const std::size_t length = std::min(text.size(), sizeof board_of_crash->thrown - 1);
    std::memcpy(board_of_crash->thrown, text.data(), length);
    board_of_crash->thrown[length] = '\0';
  }
  std::abort();
}

}  // namespace

void watch_crashes(ProcessBoard* board) {
  board_of_crash = board;
  watched_process = ::getpid();
  board->signal.store(0);
  board->terminated.store(0);
  std::set_terminate(on_terminate);
  if (sanitized) return;
  struct sigaction action {};
  action.sa_sigaction = on_crash;
  action.sa_flags = SA_SIGINFO | SA_NODEFER;
  for (const int number : {SIGSEGV, SIGBUS, SIGFPE, SIGILL, SIGABRT}) ::sigaction(number, &action, nullptr);
}

// The board is memory that the child shares.
void end_returned_child() noexcept {
  if (board_of_crash != nullptr) board_of_crash->returned_children.fetch_add(1);
  ::_exit(1);
}

}  // namespace antcrew::internal
