// How the program that includes this header was compiled. Records keep it: times of an unoptimised build mislead.
#pragma once

#include "antcrew/study/layer.hpp"

// Given by the build system (the CMake package does it for every target that links antcrew::core).
#ifndef ANTCREW_BUILD_FLAGS
#define ANTCREW_BUILD_FLAGS "unknown"
#endif
#ifndef ANTCREW_BUILD_TYPE
#define ANTCREW_BUILD_TYPE "unknown"
#endif

namespace antcrew {

// What the compiler says of a program file; the texts are literals.
struct FileBuild {
  const char* compiler;
  const char* flags;
  const char* build_type;
  bool optimised;
  const char* sanitizers;
};

// Internal linkage on purpose: every program file answers for itself.
static inline FileBuild build_of_this_file() {
  return {
#if defined(__clang__)
    "clang " __clang_version__,
#else
    "g++ " __VERSION__,
#endif
        ANTCREW_BUILD_FLAGS, ANTCREW_BUILD_TYPE,
#if defined(__OPTIMIZE__)
        true,
#else
        false,
#endif
#if defined(__SANITIZE_ADDRESS__)
        "address"
#elif defined(__SANITIZE_THREAD__)
        "thread"
#elif defined(__has_feature)
#if __has_feature(address_sanitizer)
        "address"
#elif __has_feature(thread_sanitizer)
        "thread"
#elif __has_feature(memory_sanitizer)
        "memory"
#else
        ""
#endif
#else
        ""
#endif
  };
}

}  // namespace antcrew
