"""Expressions as text, for the commands and fixes that Gravel proposes."""

from __future__ import annotations

import re
from collections.abc import Iterable

from gravel.language.types import Kind, Type
from gravel.words import words

# Words that the grammar keeps for itself, and those that a query will: a column of that name is
# quoted.
_RESERVED = words(
    "AND OR NOT IS IN BETWEEN LIKE DISTINCT FROM FOR AS ASC DESC NULL TRUE FALSE UNKNOWN CASE WHEN"
    " THEN ELSE END CAST LEADING TRAILING BOTH CURRENT_DATE WITH WITHOUT SELECT WHERE GROUP BY"
    " HAVING ORDER LIMIT OFFSET FETCH UNION INTERSECT EXCEPT ALL JOIN INNER LEFT RIGHT FULL CROSS"
    " OUTER ON USING EXISTS VALUES UNNEST OVER WINDOW PARTITION FILTER WITHIN LATERAL TABLE ANY"
    " SOME NATURAL ARRAY CURRENT_TIMESTAMP LOCALTIMESTAMP"
)


def quoted(name: str) -> str:
    """A column's name as an expression writes it."""
    plain = re.fullmatch(r"[A-Za-z_][A-Za-z0-9_]*", name) and name.upper() not in _RESERVED
    return name if plain else '"' + name.replace('"', '""') + '"'


def text_literal(value: str) -> str:
    """A text as a literal."""
    return "'" + value.replace("'", "''") + "'"


def literal(value: str, kind: Type) -> str:
    """A value, given as a column's text, as a literal of the column's type."""
    if kind.kind in (Kind.INTEGER, Kind.DECIMAL, Kind.BOOLEAN):
        return value
    if kind.kind is Kind.DOUBLE:
        return f"CAST({text_literal(value)} AS DOUBLE PRECISION)"
    if kind.kind in (Kind.DATE, Kind.TIMESTAMP):
        return f"{kind} {text_literal(value)}"
    return text_literal(value)


def is_one_of(expression: str, literals: Iterable[str]) -> str:
    """The condition that an expression is one of some literals."""
    subset = list(literals)
    return (
        f"{expression} = {subset[0]}"
        if len(subset) == 1
        else f"{expression} IN ({', '.join(subset)})"
    )
