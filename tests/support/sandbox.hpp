// A child process in a sandbox that refuses some system calls, as old kernels and containers do.
#pragma once

#include <doctest/doctest.h>
#include <linux/filter.h>
#include <linux/seccomp.h>
#include <sys/prctl.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <csignal>
#include <cstddef>
#include <cstdio>
#include <exception>
#include <string>
#include <vector>

namespace test {

inline bool refuse_from_here(const std::vector<long>& calls) {
  std::vector<sock_filter> program;
  program.push_back(BPF_STMT(BPF_LD | BPF_W | BPF_ABS, offsetof(seccomp_data, nr)));
  for (const long call : calls) {
    program.push_back(BPF_JUMP(BPF_JMP | BPF_JEQ | BPF_K, static_cast<unsigned>(call), 0, 1));
    program.push_back(BPF_STMT(BPF_RET | BPF_K, SECCOMP_RET_ERRNO | EPERM));
  }
  program.push_back(BPF_STMT(BPF_RET | BPF_K, SECCOMP_RET_ALLOW));
  sock_fprog filter{static_cast<unsigned short>(program.size()), program.data()};
  return ::prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) == 0 && ::prctl(PR_SET_SECCOMP, SECCOMP_MODE_FILTER, &filter) == 0;
}

// All but what threads and memory need, and a sanitizer for itself.
inline std::vector<long> what_may_be_refused() {
#if defined(__SANITIZE_THREAD__) || defined(__SANITIZE_ADDRESS__)
  return {SYS_sched_setaffinity, SYS_membarrier, SYS_memfd_create, SYS_getcpu, SYS_pidfd_open, SYS_close_range};
#else
  return {SYS_sched_getaffinity, SYS_sched_setaffinity, SYS_membarrier, SYS_memfd_create, SYS_prctl, SYS_getcpu,
          SYS_pidfd_open,        SYS_close_range,       SYS_gettid};
#endif
}

// 0: fn returned nothing. Otherwise how the child ended; what it printed, its complaint at the end, becomes a message.
template <class Fn>
int in_sandbox(const std::vector<long>& calls, Fn&& fn) {
  std::fflush(nullptr);
  std::FILE* printed = std::tmpfile();
  const pid_t child = ::fork();
  if (child == 0) {
    if (printed != nullptr) ::dup2(::fileno(printed), STDERR_FILENO);
    std::signal(SIGALRM, SIG_DFL);  // whatever handler a test left there
    ::alarm(120);
    std::string complaint = "the sandbox cannot be made here";
    try {
      if (!refuse_from_here(calls)) ::_exit(77);
      complaint = fn();
    } catch (const std::exception& error) {
      complaint = error.what();
    } catch (...) {
      complaint = "something was thrown";
    }
    if (!complaint.empty()) std::fprintf(stderr, "%s\n", complaint.c_str());
    std::fflush(stderr);
    ::_exit(complaint.empty() ? 0 : 1);
  }
  int status = 0;
  while (::waitpid(child, &status, 0) < 0 && errno == EINTR) {
  }
  if (printed != nullptr && status != 0) {
    std::string text(4000, '\0');
    std::rewind(printed);
    text.resize(std::fread(text.data(), 1, text.size(), printed));
    MESSAGE("in the sandbox: " << text);
  }
  if (printed != nullptr) std::fclose(printed);
  return WIFEXITED(status) ? WEXITSTATUS(status) : 1000 + WTERMSIG(status);
}

}  // namespace test
