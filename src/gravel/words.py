"""Lists of words as text, which reads better than a list of literals."""

from __future__ import annotations


def words(text: str) -> frozenset[str]:
    """The words of a text, split at white space."""
    return frozenset(text.split())
