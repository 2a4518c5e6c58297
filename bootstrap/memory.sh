# Sourced by the launchers and by the benchmarks. glibc hands large blocks back to the system as soon as they are freed
# and faults their pages in again at the next step; statistics over thousands of marks then spend a third of their time
# on that. Keep what was freed, up to a megabyte a block (mallopt(3)).
export MALLOC_MMAP_THRESHOLD_="${MALLOC_MMAP_THRESHOLD_:-1048576}"
export MALLOC_TRIM_THRESHOLD_="${MALLOC_TRIM_THRESHOLD_:-67108864}"
# One thread for dense algebra: the matrices of a network are small, and threads that wait for each other cost more than
# they bring (docs/decisions/020-one-thread-for-algebra.md).
export OPENBLAS_NUM_THREADS="${OPENBLAS_NUM_THREADS:-1}"
