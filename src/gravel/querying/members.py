"""The values of a subquery in an expression of another command, decided before the rows that ask
for them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from gravel.engine.mapped import Store
from gravel.engine.memory import default_memory
from gravel.language import tree
from gravel.language.scope import Given
from gravel.language.types import Type
from gravel.querying.context import QueryContext
from gravel.sources.source import Malformed


def members_of(
    context: Given,
    base: Path | None = None,
    malformed: Callable[[str, Sequence[Malformed]], None] | None = None,
    engine: str | None = None,
) -> Callable[[tree.Query, str], tuple[Type, Any, bool]]:
    """What decides `x IN (SELECT …)`: from the query and the text it stands in to the type of its
    values, the distinct known ones as an Arrow array, and whether a NULL is among them. References
    are relative to `base`; `malformed` is told of records that are not rows; `engine`: the address
    of what reads the tables, instead of this machine."""

    def members(query: tree.Query, text: str) -> tuple[Type, Any, bool]:
        from gravel.querying.session import Session  # with all of SQL: most plans have no subquery

        session = Session(QueryContext(text, context, base=base, engine=engine))
        session.account.store = Store(default_memory(engine is not None))
        session.context.given = replace(context, members=session.subqueries.members)
        session.tables.read_only_named(query)
        result = session.subqueries.members(query, text)
        for name, records in session.tables.malformed.items():
            if records and malformed is not None:
                malformed(name, records)
        return result

    return members
