"""One module a computation: options and positions in, a frozen result out; no state, no files, no clock."""
