"""How a finding shows values and counts."""

from __future__ import annotations

from unicodedata import combining

from gravel.inspecting.drawing import marks_apart

_LONG = 40


def shown(value: str) -> str:
    """A value in quotes, cut where it is long; what cannot be seen in it as an escape."""
    text = repr(value if len(value) <= _LONG else value[: _LONG - 1] + "…")
    if not marks_apart(text):
        return text
    return "".join(
        char.encode("unicode_escape").decode("ascii") if combining(char) else char for char in text
    )


def row_count(count: int) -> str:
    """1 row, 2 rows."""
    return "1 row" if count == 1 else f"{count:,} rows"
