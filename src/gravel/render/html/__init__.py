"""HTML pages from the same results as the terminal: self-contained, readable without a network, on
paper and by ear."""
