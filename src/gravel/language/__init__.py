"""SQL text in, typed expressions out."""
