"""What an expression may read: columns by their names, parameters, the day, subqueries."""

from __future__ import annotations

import datetime
import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from msgspec import Struct, field

from gravel.language import nodes, tree
from gravel.language.diagnostics import Diagnostic
from gravel.language.types import Type
from gravel.problems import nearest

_STARTED = datetime.datetime.now(datetime.UTC)


class Given(Struct, frozen=True):
    """What a run gives its expressions: named parameters, the day that CURRENT_DATE is, and what
    decides a subquery: its type, its distinct known values as an Arrow array, whether a NULL is
    among them."""

    parameters: Mapping[str, nodes.Constant] = field(default_factory=dict)
    today: datetime.date = field(default_factory=datetime.date.today)
    members: Callable[[tree.Query, str], tuple[Type, Any, bool]] | None = None

    @property
    def now(self) -> datetime.datetime:
        """CURRENT_TIMESTAMP: one moment for the whole run, on the day that it is."""
        return datetime.datetime.combine(self.today, _STARTED.timetz())


class Scope(Struct, frozen=True):
    """The columns an expression may name, with their types; `declared` ones may hold values that do
    not fit."""

    names: tuple[str, ...]
    types: tuple[Type, ...]
    declared: frozenset[str] = frozenset()
    given: Given = field(default_factory=Given)
    # What a query has computed already (an aggregate, a grouped expression, a subquery): the column
    # that stands for a node.
    stands: Callable[[tree.Node], int | None] | None = None
    resolve: Callable[[tree.Name, str], int] | None = (
        None  # how a name finds its column, where tables have names too
    )
    failing: frozenset[int] = (
        frozenset()
    )  # columns, by position, in which some rows have an error already


def quotes_hint(name: tree.Name, text: str) -> str:
    """What to write where a name that is none of a column is likely meant as a text; else ''."""
    compared = re.search(r"(?:[=<>]|\bLIKE|\bIN\s*\()\s*\Z", text[: name.start], re.IGNORECASE)
    if not name.table and (name.quoted or compared):
        return f"a text stands in single quotes: '{name.text}'"
    return ""


def find_column(name: tree.Name, names: Sequence[str], text: str) -> int:
    """The position of the column a name means: an exact match wins, else one without regard to case
    unless quoted.

    Raises Diagnostic with the nearest name."""
    if name.text in names:
        return names.index(name.text)
    if not name.quoted:
        folded = [
            index for index, known in enumerate(names) if known.casefold() == name.text.casefold()
        ]
        if len(folded) == 1:
            return folded[0]
        if folded:
            both = " and ".join(f'"{names[index]}"' for index in folded)
            raise Diagnostic(
                f"{name.text} could be {both}",
                text,
                name.start,
                name.end,
                hint="quote the one you mean",
            )
    near = nearest(name.text, list(names))
    shown = near if re.fullmatch(r"[^\W\d]\w*", near) else f'"{near}"'
    hint = (
        f"did you mean {shown}?"
        if near
        else "its columns: " + ", ".join(names[:12]) + (" …" if len(names) > 12 else "")
    )
    if not near:
        hint = quotes_hint(name, text) or hint
    raise Diagnostic(f"there is no column {name.text}", text, name.start, name.end, hint=hint)
