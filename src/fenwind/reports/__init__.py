"""A report model, what goes into it, and the writers that turn it into HTML and plain text."""
