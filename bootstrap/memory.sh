# Sourced by the launchers and by the benchmarks. glibc hands large blocks back to the system as soon as they are freed
# and faults their pages in again at the next step; statistics over thousands of marks then spend a third of their time
# on that. Keep what was freed, up to a megabyte a block (mallopt(3)).
export MALLOC_MMAP_THRESHOLD_="${MALLOC_MMAP_THRESHOLD_:-1048576}"
export MALLOC_TRIM_THRESHOLD_="${MALLOC_TRIM_THRESHOLD_:-67108864}"
