#define DOCTEST_CONFIG_IMPLEMENT
#include <doctest/doctest.h>
#include <execinfo.h>
#include <fcntl.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <algorithm>
#include <csignal>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <iostream>
#include <streambuf>
#include <string>
#include <utility>
#include <vector>

// A test case that fails is tried again alone, up to twice, rather than all of its program: these machines are noisy.
// What it failed of stays on record, in again.txt beside the program. A test case that hangs says which it is and where
// each of its threads and children is, long before ctest gives up.
namespace {

constexpr unsigned longest_case_s = ANTCREW_LONGEST_CASE_S;
char running_case[400] = "none";
pid_t tests_process = 0;
std::vector<std::string> failed_cases;

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
  void test_case_end(const doctest::CurrentTestCaseStats& stats) override {
    ::alarm(0);
    if (stats.failure_flags != 0) failed_cases.push_back(running_case);
  }
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

// What goes to standard output, kept as well.
class Kept : public std::streambuf {
 public:
  const std::string& text() const { return text_; }

 private:
  int overflow(int c) override {
    if (c != traits_type::eof()) text_ += static_cast<char>(c);
    return std::cout.rdbuf()->sputc(static_cast<char>(c));
  }
  std::streamsize xsputn(const char* from, std::streamsize n) override {
    text_.append(from, static_cast<std::size_t>(n));
    return std::cout.rdbuf()->sputn(from, n);
  }
  int sync() override { return std::cout.rdbuf()->pubsync(); }
  std::string text_;
};

// Many failures are no noise.
int tried_again(int result) {
  constexpr std::size_t few = 3;
  for (int again = 0; again < 2 && result != 0 && !failed_cases.empty() && failed_cases.size() <= few; ++again) {
    doctest::Context context;
    for (std::string name : std::exchange(failed_cases, {})) {
      std::replace_if(
          name.begin(), name.end(), [](char c) { return c == ',' || c == '\\'; }, '?');  // a list of patterns
      context.addFilter("test-case", name.c_str());
    }
    std::cout << "\nTRIED AGAIN: what failed above\n";
    result = context.run();
  }
  return result;
}

}  // namespace

int main(int argc, char** argv) {
  ::setenv("ANTCREW_STORE", "off", 1);  // runs of tests are nobody's history
  tests_process = ::getpid();
  void* none[1];
  ::backtrace(none, 1);  // loads what it needs, which a handler should not
  std::signal(SIGALRM, give_up);
  std::signal(SIGUSR2, show_own_stack);
  doctest::Context context(argc, argv);
  Kept kept;
  std::ostream out(&kept);
  context.setCout(&out);
  const int result = context.run();
  if (context.shouldExit() || result == 0) return result;
  const int at_last = tried_again(result);
  if (at_last == 0) std::ofstream("again.txt", std::ios::app) << argv[0] << "\n" << kept.text() << "\n";
  return at_last;
}
