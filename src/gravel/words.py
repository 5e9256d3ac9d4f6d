"""Words of messages: lists of them as text, and things that are counted."""

from __future__ import annotations


def words(text: str) -> frozenset[str]:
    """The words of a text, split at white space."""
    return frozenset(text.split())


def number_of(count: int, thing: str = "row") -> str:
    """How many there are: 1 row, 2,000 rows."""
    return f"{count:,} {thing}" if count == 1 else f"{count:,} {thing}s"
