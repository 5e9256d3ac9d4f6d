"""One expression evaluated on its own: for the catalogue's examples, the function reference and
parameters."""

from __future__ import annotations

import datetime

from gravel.engine.evaluate import run
from gravel.engine.frame import Frame
from gravel.language.bind import bind_text
from gravel.language.errors import sqlstate
from gravel.language.functions.casts import python_literal
from gravel.language.scope import Given, Scope


def outcome(text: str, today: datetime.date | None = None) -> str:
    """An expression's result as SQL text, or `error` with its SQLSTATE. Raises Diagnostic."""
    bound = bind_text(text, Scope((), (), given=Given(today=today or datetime.date.today())))
    result = run(bound, Frame(1, [], []))
    if result.errors is not None and result.errors[0]:
        return f"error {sqlstate(int(result.errors[0]))}"
    return python_literal(result.values[0].as_py(), bound.type)
