"""What was measured or given: frozen value objects that are never overwritten, and the amendments that put
them right."""
