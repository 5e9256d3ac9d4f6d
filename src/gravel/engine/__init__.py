"""Runs typed expressions and relational steps over Arrow batches."""
