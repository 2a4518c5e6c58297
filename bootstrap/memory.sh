# Sourced by the launchers and by the benchmarks. glibc hands large blocks back to the system as soon as they are freed
# and faults their pages in again at the next step; statistics over thousands of marks then spend a third of their time
# on that. Keep what was freed, up to the size of a screen picture at a time (mallopt(3)).
export MALLOC_MMAP_THRESHOLD_="${MALLOC_MMAP_THRESHOLD_:-33554432}"
export MALLOC_TRIM_THRESHOLD_="${MALLOC_TRIM_THRESHOLD_:-134217728}"
