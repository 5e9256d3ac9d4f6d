"""Expressions that are valid and still likely wrong. Each caution is a condition over the same
rows: the rows for which it is true are the rows that deserve it. Nothing here changes a result."""
