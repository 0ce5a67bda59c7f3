// How the program that includes this header was compiled. Records keep it: times of an unoptimised build mislead.
#pragma once

#include "antcrew/record/record.hpp"

// Given by the build system (the CMake package does it for every target that links antcrew::core).
#ifndef ANTCREW_BUILD_FLAGS
#define ANTCREW_BUILD_FLAGS "unknown"
#endif
#ifndef ANTCREW_BUILD_TYPE
#define ANTCREW_BUILD_TYPE "unknown"
#endif

namespace antcrew {

// Internal linkage on purpose: every program file answers for itself.
static inline record_layer::BuildFacts build_of_this_file() {
  record_layer::BuildFacts build;
#if defined(__clang__)
  build.compiler = "clang " __clang_version__;
#else
  build.compiler = "g++ " __VERSION__;
#endif
  build.flags = ANTCREW_BUILD_FLAGS;
  build.build_type = ANTCREW_BUILD_TYPE;
#if defined(__OPTIMIZE__)
  build.optimised = true;
#endif
#if defined(__SANITIZE_ADDRESS__)
  build.sanitizers = "address";
#elif defined(__SANITIZE_THREAD__)
  build.sanitizers = "thread";
#elif defined(__has_feature)
#if __has_feature(address_sanitizer)
  build.sanitizers = "address";
#elif __has_feature(thread_sanitizer)
  build.sanitizers = "thread";
#elif __has_feature(memory_sanitizer)
  build.sanitizers = "memory";
#endif
#endif
  return build;
}

}  // namespace antcrew
