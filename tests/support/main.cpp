#define DOCTEST_CONFIG_IMPLEMENT
#include <doctest/doctest.h>
#include <execinfo.h>
#include <fcntl.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <csignal>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <string>

// A test case that hangs says which it is and where each of its threads and children is, long before ctest gives up.
namespace {

constexpr unsigned longest_case_s = ANTCREW_LONGEST_CASE_S;
char running_case[400] = "none";
pid_t tests_process = 0;

void say(const char* text) {
  [[maybe_unused]] const auto written = ::write(STDERR_FILENO, text, std::strlen(text));
}

void show_own_stack(int) {
  void* frames[40];
  const int depth = ::backtrace(frames, 40);
  say("-- a thread is at\n");
  ::backtrace_symbols_fd(frames, depth, STDERR_FILENO);
}

// Not what a signal handler should do in an ordinary program; this one has nothing left to lose.
void give_up(int) {
  say("\nHUNG, given up, in the test case: ");
  say(running_case);
  say("\n");
  show_own_stack(0);
  if (::getpid() != tests_process) ::_exit(97);
  const pid_t own = ::gettid();
  for (const auto& thread : std::filesystem::directory_iterator("/proc/self/task")) {
    const pid_t id = std::stoi(thread.path().filename().string());
    if (id != own) ::syscall(SYS_tgkill, ::getpid(), id, SIGUSR2);
    std::ifstream children(thread.path() / "children");
    for (pid_t child = 0; children >> child;) ::kill(child, SIGUSR2);
  }
  ::sleep(3);  // for what they print
  ::_exit(97);
}

struct Watchdog : doctest::IReporter {
  explicit Watchdog(const doctest::ContextOptions&) {}
  void test_case_start(const doctest::TestCaseData& test) override {
    std::strncpy(running_case, test.m_name, sizeof running_case - 1);
    ::alarm(longest_case_s);
  }
  void test_case_end(const doctest::CurrentTestCaseStats&) override { ::alarm(0); }
  void report_query(const doctest::QueryData&) override {}
  void test_run_start() override {}
  void test_run_end(const doctest::TestRunStats&) override {}
  void test_case_reenter(const doctest::TestCaseData&) override {}
  void test_case_exception(const doctest::TestCaseException&) override {}
  void subcase_start(const doctest::SubcaseSignature&) override {}
  void subcase_end() override {}
  void log_assert(const doctest::AssertData&) override {}
  void log_message(const doctest::MessageData&) override {}
  void test_case_skipped(const doctest::TestCaseData&) override {}
};

REGISTER_LISTENER("watchdog", 1, Watchdog);

}  // namespace

int main(int argc, char** argv) {
  ::setenv("ANTCREW_STORE", "off", 1);  // runs of tests are nobody's history
  tests_process = ::getpid();
  void* none[1];
  ::backtrace(none, 1);  // loads what it needs, which a handler should not
  std::signal(SIGALRM, give_up);
  std::signal(SIGUSR2, show_own_stack);
  return doctest::Context(argc, argv).run();
}
