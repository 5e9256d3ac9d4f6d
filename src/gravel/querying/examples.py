"""The catalogue's examples: an expression on its own, or a query of one value."""

from __future__ import annotations

import datetime

from gravel.inspecting.examples import outcome as of_expression
from gravel.language.bind import Given
from gravel.language.functions.casts import python_literal
from gravel.querying.context import QueryContext
from gravel.querying.session import Session


def outcome(text: str, today: datetime.date | None = None) -> str:
    """The result as SQL text, or `error` with its SQLSTATE. Raises Diagnostic, DataProblem."""
    if not text.startswith("SELECT "):
        return of_expression(text, today)
    result = Session(QueryContext(given=Given(today=today or datetime.date.today()))).query(text)
    return python_literal(result.vectors[0].values[0].as_py(), result.types[0])
