"""Cells as text with their type and errors: what views and JSON are made from."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from msgspec import Struct

from gravel.language.errors import sqlstate
from gravel.language.types import Kind, Type

if TYPE_CHECKING:
    from gravel.engine.vector import Vector

_EXACT = 2**53


class RowError(Struct, frozen=True):
    """A cell whose expression failed for its row."""

    sqlstate: str


Cell = str | None | RowError


def cells(vector: Vector, kind: Type) -> list[Cell]:
    """The cells of a vector: texts, None for NULL, or a RowError."""
    from gravel.language.functions.casts import to_text

    texts: list[Cell] = to_text(vector.values, kind).to_pylist()
    if vector.errors is not None:
        for row in vector.errors.nonzero()[0]:
            texts[row] = RowError(sqlstate(int(vector.errors[row])))
    return texts


def json_value(cell: Cell, kind: Kind) -> Any:
    """A cell as JSON has it: integers to 2^53 and finite doubles as numbers, booleans as such, all
    others as strings."""
    if isinstance(cell, RowError):
        return {"error": cell.sqlstate}
    if cell is None:
        return None
    if kind is Kind.INTEGER:
        number = int(cell)
        return number if -_EXACT <= number <= _EXACT else cell
    if kind is Kind.DOUBLE:
        real = float(cell)
        return real if real == real and abs(real) != float("inf") else cell
    if kind is Kind.BOOLEAN:
        return cell.lower() == "true"
    return cell
