"""What is in each column."""
