"""The catalogue's examples: an expression on its own, or a query of one value."""

from __future__ import annotations

import datetime
from dataclasses import dataclass

from gravel.figures import Figures
from gravel.inspecting.examples import outcome as of_expression
from gravel.language.errors import meaning
from gravel.language.functions.casts import python_literal
from gravel.language.functions.catalogue import Function
from gravel.language.scope import Given
from gravel.querying.context import QueryContext
from gravel.querying.session import Session


@dataclass(frozen=True)
class FunctionExample(Figures):
    """An example of a function, and what it gives."""

    expression: str
    result: str


@dataclass(frozen=True)
class FunctionError(Figures):
    """An error that a function can raise for a row."""

    sqlstate: str
    meaning: str


@dataclass(frozen=True)
class FunctionEntry(Figures):
    """What `gravel functions` tells of a function."""

    name: str
    family: str
    signatures: tuple[str, ...]
    meaning: str
    examples: tuple[FunctionExample, ...]
    errors: tuple[FunctionError, ...]


@dataclass(frozen=True)
class FunctionList(Figures):
    """What `gravel functions` tells."""

    functions: tuple[FunctionEntry, ...]


def described(function: Function) -> FunctionEntry:
    """A function of the catalogue with its examples run."""
    return FunctionEntry(
        function.name,
        function.family,
        tuple(signature.text for signature in function.signatures),
        function.meaning,
        tuple(FunctionExample(text, outcome(text)) for text in function.examples),
        tuple(FunctionError(state, meaning(state)) for state in function.errors),
    )


def outcome(text: str, today: datetime.date | None = None) -> str:
    """The result as SQL text, or `error` with its SQLSTATE. Raises Diagnostic, DataProblem."""
    if not text.startswith("SELECT "):
        return of_expression(text, today)
    result = Session(QueryContext(given=Given(today=today or datetime.date.today()))).query(text)
    return python_literal(result.vectors[0].values[0].as_py(), result.types[0])
