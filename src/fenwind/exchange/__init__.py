"""Open formats in and out, one module a format. Readers report every row they cannot use; nothing is dropped
silently."""
