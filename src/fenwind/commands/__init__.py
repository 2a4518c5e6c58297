"""The command line, one module a verb; the same procedures as the desk, without a window."""
