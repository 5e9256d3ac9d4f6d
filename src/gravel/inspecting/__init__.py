"""Looking at a table: counting rows, showing them, trying an expression on them. Nothing here
writes."""
