# What antcrew links. Used by our own build and by the installed package, so that both agree.
macro(antcrew_find_dependencies)
  set(THREADS_PREFER_PTHREAD_FLAG ON)
  find_package(Threads REQUIRED)
  find_package(fmt REQUIRED)
  find_package(PkgConfig REQUIRED)
  pkg_check_modules(HWLOC REQUIRED IMPORTED_TARGET hwloc)
  pkg_check_modules(DW REQUIRED IMPORTED_TARGET libdw)
endmacro()
