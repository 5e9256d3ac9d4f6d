"""How a finding shows values and counts."""

from __future__ import annotations

import pyarrow as pa

from gravel.language.functions.text import tidy_spaces

_LONG = 40


def tidied(value: str) -> str:
    """A value as TIDY_SPACES leaves it."""
    result: str = tidy_spaces(pa.array([value], pa.string()))[0].as_py()
    return result


def shown(value: str) -> str:
    """A value in quotes, cut where it is long."""
    return repr(value if len(value) <= _LONG else value[: _LONG - 1] + "…")


def row_count(count: int) -> str:
    """1 row, 2 rows."""
    return "1 row" if count == 1 else f"{count:,} rows"
