# Tells a study program how it was compiled: flags and build type end up in its records.
function(antcrew_build_facts target)
  string(TOUPPER "${CMAKE_BUILD_TYPE}" type)
  string(STRIP "${CMAKE_CXX_FLAGS} ${CMAKE_CXX_FLAGS_${type}}" flags)
  string(REGEX REPLACE "[ \t]+" " " flags "${flags}")
  target_compile_definitions(${target} INTERFACE
    "ANTCREW_BUILD_TYPE=\"${CMAKE_BUILD_TYPE}\"" "ANTCREW_BUILD_FLAGS=\"${flags}\"")
endfunction()

# Parses headers once for a program, so that building it again after an edit takes less than half the time: those of most
# studies, or the ones that are named, such as <antcrew/antcrew.hpp>.
function(antcrew_precompile target)
  if(NOT ARGN)
    set(ARGN <antcrew/studies.hpp>)
  endif()
  target_precompile_headers(${target} PRIVATE ${ARGN})
endfunction()
