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


_VERBS = {
    "are": "is",
    "come": "comes",
    "have": "has",
    "lose": "loses",
    "meet": "meets",
    "share": "shares",
    "take": "takes",
}
_VERB = re.compile(rf"\A((?:on the (?:left|right) )?)({'|'.join(_VERBS)})\b")
_THEY = re.compile(r"\Aas (group|partition|row|value)s( of .+)? they differ\b")


def said_of(count: int, detail: str) -> str:
    """What is said of so many rows, a detail in the plural: 2 rows: have NULL, 1 row: has NULL."""
    if count != 1:
        return f"{number_of(count)}: {detail}"
    detail = _VERB.sub(lambda match: match[1] + _VERBS[match[2]], detail)
    detail = _THEY.sub(r"as a \1\2 it differs", detail)
    return f"1 row: {detail.replace(', so they are lost', ', so it is lost')}"
