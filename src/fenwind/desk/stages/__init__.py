"""The sheets of the stages, one module each."""
