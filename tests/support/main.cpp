#define DOCTEST_CONFIG_IMPLEMENT
#include <cstdlib>

#include <doctest/doctest.h>

// What the tests read of the tool is what a terminal of today shows, whatever runs them.
int main(int argc, char** argv) {
  ::setenv("LC_ALL", "C.UTF-8", 1);
  return doctest::Context(argc, argv).run();
}
