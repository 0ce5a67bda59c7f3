// Threads that have returned but are not gone yet.
#include <doctest/doctest.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <thread>

#include "antcrew/machine/usage.hpp"

TEST_CASE("a thread that has returned is on its way out, those that work are not") {
  CHECK(antcrew::machine_layer::exiting_threads() == 0);
  const pid_t child = ::fork();
  if (child == 0) {
    // A process's first thread stays listed until the last one has ended.
    std::thread([] {
      for (int look = 0; look < 2000; ++look) {
        if (antcrew::machine_layer::exiting_threads() == 1 && antcrew::machine_layer::thread_count() == 2) ::_exit(0);
        std::this_thread::sleep_for(std::chrono::milliseconds(1));
      }
      ::_exit(1);
    }).detach();
    ::syscall(SYS_exit, 0);  // of this thread only
  }
  int status = -1;
  ::waitpid(child, &status, 0);
  CHECK(status == 0);
}
