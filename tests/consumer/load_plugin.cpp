// Loads a plug-in thirty times, each time in use and let go again.
#include <dlfcn.h>

#include <cstddef>
#include <cstdio>

int main(int, char** words) {
  const long expected = 2 * 4950 + 5 + 2 * 45 + 5 + 10;
  for (int time = 0; time < 30; ++time) {
    void* library = dlopen(words[1], RTLD_NOW);
    if (library == nullptr) return std::fprintf(stderr, "%s\n", dlerror()), 1;
    auto* sum = reinterpret_cast<long (*)(std::size_t)>(dlsym(library, "plugin_sum"));
    const long got = sum == nullptr ? 0 : sum(10);
    if (got != expected) return std::fprintf(stderr, "%ld, and %ld was expected\n", got, expected), 1;
    dlclose(library);
  }
  return 0;
}
