#include <antcrew/crew/thread_crew.hpp>

int main() {
  antcrew::ThreadCrew crew(2);
  const auto doubled = crew.collect(100, [](std::size_t i) { return 2 * i; });
  return doubled[50] == 100 ? 0 : 1;
}
