#include "antcrew/log/phase.hpp"

#include <doctest/doctest.h>
#include <sys/wait.h>
#include <unistd.h>

#include <map>
#include <thread>
#include <vector>

#include "support/command.hpp"

using namespace antcrew;
using internal::Journal;

namespace {

class OpenJournal {
 public:
  OpenJournal() : journal_(Journal::create()) { internal::open_journal.store(journal_); }
  ~OpenJournal() {
    internal::open_journal.store(nullptr);
    Journal::destroy(journal_);
  }
  OpenJournal(const OpenJournal&) = delete;
  OpenJournal& operator=(const OpenJournal&) = delete;
  Journal* operator->() const { return journal_; }

 private:
  Journal* journal_;
};

}  // namespace

TEST_CASE("phases nest, and each has its whole time") {
  const OpenJournal journal;
  {
    const Phase outer("outer");
    const std::int64_t start = now_ns();
    for (int i = 0; i < 3; ++i) {
      const Phase inner("inner");
      while (now_ns() - start < (i + 1) * 1'000'000) {
      }
    }
  }
  const auto phases = journal->phases();
  CHECK(phases.at("outer").count == 1);
  CHECK(phases.at("inner").count == 3);
  CHECK(phases.at("inner").seconds >= 0.0029);
  CHECK(phases.at("outer").seconds >= phases.at("inner").seconds);
}

TEST_CASE("from many threads and from a forked process, none is lost") {
  const OpenJournal journal;
  std::vector<std::thread> threads;
  for (int t = 0; t < 8; ++t) {
    threads.emplace_back([] {
      for (int i = 0; i < 1000; ++i) {
        const Phase phase("piece");
        Work work("items");
        work.add(2);
      }
    });
  }
  for (std::thread& thread : threads) thread.join();
  const pid_t child = fork();
  if (child == 0) {
    { const Phase phase("far"); }
    {
      Work work("items");
      work.add(5);
    }
    _exit(0);
  }
  waitpid(child, nullptr, 0);
  CHECK(journal->phases().at("piece").count == 8000);
  CHECK(journal->phases().at("far").count == 1);
  CHECK(journal->counters().at("items") == 16'005);
  CHECK(journal->lost() == 0);
}

TEST_CASE("when the journal is full the rest is counted, not forgotten") {
  const OpenJournal journal;
  for (int i = 0; i < 300'000; ++i) const Phase phase("many");
  CHECK(journal->phases().at("many").count + journal->lost() == 300'000);
  CHECK(journal->lost() > 0);
  journal->clear();
  CHECK(journal->phases().empty());
  CHECK(journal->lost() == 0);
}

TEST_CASE("more counters than there is room for: the sum of the rest is kept") {
  const OpenJournal journal;
  static const std::vector<std::string> names = [] {
    std::vector<std::string> made;
    for (int i = 0; i < 70; ++i) made.push_back("counter " + std::to_string(i));
    return made;
  }();
  for (const std::string& name : names) {
    Work work(name.c_str());
    work.add(3);
  }
  CHECK(journal->counters().at("counter 63") == 3);
  CHECK(journal->quantities().at("under further names") == 18);
}

TEST_CASE("quantities are kept apart from the work; of one name the first use decides until the next trial") {
  const OpenJournal journal;
  {
    Quantity buffers("buffers");
    buffers.add(4);
    Work nodes("nodes");
    nodes.add(7);
  }
  {
    Work again("buffers");
    again.add(1);
  }
  CHECK(journal->quantities() == std::map<std::string, double>{{"buffers", 5}});
  CHECK(journal->counters() == std::map<std::string, double>{{"nodes", 7}});
  journal->clear();
  {
    Work buffers("buffers");
    buffers.add(1);
  }
  CHECK(journal->quantities().empty());
  CHECK(journal->counters().at("buffers") == 1);
}

TEST_CASE("a phase without a name for its variable is a compiler warning") {
  const test::TemporaryFolder folder;
  const auto compiles = [&](const std::string& statement) {
    test::write_file(folder / "phase.cpp", "#include \"antcrew/log/phase.hpp\"\nint main() { " + statement + " }\n");
    return test::run_command(
               {ANTCREW_COMPILER, "-std=c++20", "-Werror", "-I" ANTCREW_SOURCE, "-fsyntax-only", folder / "phase.cpp"})
               .exit == 0;
  };
  CHECK(compiles("antcrew::Phase phase(\"merge\"); antcrew::Work work(\"nodes\"); work.add(1);"));
  CHECK_FALSE(compiles("antcrew::Phase(\"merge\");"));
  CHECK_FALSE(compiles("antcrew::Phase{\"merge\"};"));
  CHECK_FALSE(compiles("antcrew::Work(\"nodes\");"));
  CHECK_FALSE(compiles("antcrew::Quantity(\"buffers\");"));
}
