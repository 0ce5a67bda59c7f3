#!/usr/bin/env bash
# Builds the crew of ranks and its tests with each MPI that is installed, Open MPI and MPICH (packages libopenmpi-dev,
# libmpich-dev with mpich), and runs them with 1, 2, 3 and 5 ranks. Ends with 77 where there is neither.
set -eu
cd "$(dirname "$0")/.."
export OMPI_ALLOW_RUN_AS_ROOT=1 OMPI_ALLOW_RUN_AS_ROOT_CONFIRM=1 OMPI_MCA_rmaps_base_oversubscribe=1
tried=0
for mpi in ${ANTCREW_MPI:-openmpi mpich}; do
  command -v "mpicxx.$mpi" >/dev/null || { echo "$mpi: not installed"; continue; }
  tried=1
  build=build/try-$mpi
  cmake -S . -B "$build" -G Ninja -DCMAKE_BUILD_TYPE=Debug -DMPI_CXX_COMPILER="mpicxx.$mpi" \
    -DMPIEXEC_EXECUTABLE="$(command -v "mpiexec.$mpi")" >"$build.log" 2>&1 || { tail "$build.log"; exit 1; }
  ninja -C "$build" ranks_inside ranks_program >"$build.log" 2>&1 || { tail -30 "$build.log"; exit 1; }
  for ranks in 1 2 3 5; do
    echo "$mpi, $ranks ranks"
    timeout -k 3 200 "mpiexec.$mpi" -n $ranks "$build/tests/ranks_inside" -nc >"$build.log" 2>&1 ||
      { cat "$build.log"; exit 1; }
    grep "test cases" "$build.log"
  done
  # A rank that dies ends all, within the launcher's own time.
  timeout -k 3 60 "mpiexec.$mpi" -n 3 "$build/tests/ranks_program" dies /tmp >/dev/null 2>&1 &&
    { echo "$mpi: a dead rank was taken for success"; exit 1; }
  pgrep -f "$build/tests/ranks_program" >/dev/null && { echo "$mpi: ranks were left behind"; exit 1; }
done
[ $tried = 1 ] || exit 77
echo "the crew of ranks works with what is installed"
