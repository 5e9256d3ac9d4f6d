"""Words of messages: lists of them as text, and things that are counted."""

from __future__ import annotations

import re


def words(text: str) -> frozenset[str]:
    """The words of a text, split at white space."""
    return frozenset(text.split())


def number_of(count: int, thing: str = "row") -> str:
    """How many there are: 1 row, 2,000 rows."""
    return f"{count:,} {thing}" if count == 1 else f"{count:,} {thing}s"


_SINGULAR = {
    " stay": " stays",
    " stand ": " stands ",
    " are skipped": " is skipped",
    "they are": "it is",
}


def phrase_of(count: int, rows_that: str) -> str:
    """What is said of so many rows, of a phrase in the plural: 2 rows stay, 1 row stays."""
    if count != 1:
        return f"{count:,} {rows_that}"
    phrase = re.sub(r"\b(row|group|record|piece)s\b", r"\1", rows_that, count=1)
    for plural, singular in _SINGULAR.items():
        phrase = phrase.replace(plural, singular)
    return f"1 {phrase}"
