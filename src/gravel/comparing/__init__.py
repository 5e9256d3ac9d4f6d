"""Two tables compared, by key or as multisets of rows."""
