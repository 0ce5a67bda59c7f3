#define DOCTEST_CONFIG_IMPLEMENT
#include <doctest/doctest.h>

#include <cstdlib>

int main(int argc, char** argv) {
  ::setenv("ANTCREW_STORE", "off", 1);  // runs of tests are nobody's history
  return doctest::Context(argc, argv).run();
}
