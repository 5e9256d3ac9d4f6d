"""The order in which fixes belong: what one of them leaves, the next one meets."""

from __future__ import annotations

from collections.abc import Iterable

from gravel.profiling.result import Finding

# Rows that are none of the data first, spaces and blanks next: the words and spellings of the later
# ones are looked for in tidied values.
_ORDER = (
    "header lines",
    "total rows",
    "footer lines",
    "empty rows",
    "mojibake",
    "control characters",
    "spaces",
    "inner spaces",
    "blank",
    "placeholders",
    "sentinel values",
    "empty list items",
    "padded list items",
    "declared type",
    "type mismatches",
    "mixed formats",
    "another format",
    "stored as text",
    "lost zeros",
    "case",
    "variants",
)


def in_order(result: Iterable[Finding]) -> list[Finding]:
    """The findings in the order of their steps."""
    return sorted(result, key=lambda item: _ORDER.index(item.finding))
