"""How a finding shows values and counts."""

from __future__ import annotations

_LONG = 40


def shown(value: str) -> str:
    """A value in quotes, cut where it is long."""
    return repr(value if len(value) <= _LONG else value[: _LONG - 1] + "…")


def row_count(count: int) -> str:
    """1 row, 2 rows."""
    return "1 row" if count == 1 else f"{count:,} rows"
