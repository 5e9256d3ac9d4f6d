"""What commands find, as plain values: one form for the terminal's `--format json` and for Python.

A result is a dataclass of figures: `to_dict` gives its fields by their names (one annotated
`Annotated[int, "in"]` by that name), then its properties that are marked as figures. `docs/schemas`
is made from the same classes."""

from __future__ import annotations

import math
import sys
from collections.abc import Callable, Mapping
from dataclasses import fields, is_dataclass
from decimal import Decimal
from enum import Enum
from functools import cache
from typing import Annotated, Any, TypeVar

from msgspec import Struct

_Kept = TypeVar("_Kept")
_Counted = TypeVar("_Counted")
_Method = TypeVar("_Method", bound=Callable[..., Any])

# How a field stands among the figures, told by its annotation:
Unlisted = Annotated[_Kept, "not at all: it is for the terminal or the page"]
NumberOf = Annotated[tuple[_Counted, ...], "as the number of its items"]
Inline = Annotated[_Kept, "as its own figures, one after another"]

# A value as JSON has it: whole numbers up to 2^53, finite doubles, booleans and texts as such, all
# others as text.
Scalar = str | int | float | bool | None
Number = int | float | Decimal | None
Double = Annotated[float, "a text in JSON where it is not finite"]

_EXACT = 2**53


class Figures:
    """What all results have in common."""

    def to_dict(self) -> dict[str, Any]:
        """The figures as plain values, as `--format json` has them."""
        values: dict[str, Any] = {}
        for item in figures_of(type(self)):  # type: ignore[arg-type]  # a class is hashable
            value = getattr(self, item.attribute)
            if item.form == "Inline":
                values |= value.to_dict()
            else:
                values[item.key] = len(value) if item.form == "NumberOf" else plain(value)
        return values


class FigureField(Struct, frozen=True):
    """A figure of a class: its key in JSON, the attribute that it is, its type as it is written,
    and how it stands there (NumberOf, Inline, or else). owner: the class that says so."""

    key: str
    attribute: str
    annotation: str
    form: str
    owner: type

    @property
    def type(self) -> Any:
        """Its type, evaluated where it was written."""
        scope = sys.modules[self.owner.__module__].__dict__
        return int if self.form == "NumberOf" else eval(self.annotation, {**scope})


@cache
def figures_of(kind: type) -> tuple[FigureField, ...]:
    """The figures of a class, in their order: fields, then properties."""
    listed: dict[str, FigureField] = {}
    if is_dataclass(kind):
        for item in fields(kind):
            owner = next(
                base for base in kind.__mro__ if item.name in vars(base).get("__annotations__", ())
            )
            key, annotation = item.name, str(item.type)
            form, _, inside = annotation.removesuffix("]").partition("[")
            if form == "Annotated":
                annotation, _, key = inside.rpartition(", ")
                key = key.strip("'")  # annotations are kept as Python writes them
            elif form in ("NumberOf", "Inline"):
                annotation = inside
            if form != "Unlisted":
                listed[key] = FigureField(key, item.name, annotation, form, owner)
    for base in reversed(kind.__mro__):
        for name, value in vars(base).items():
            method = getattr(value, "fget", None) or getattr(value, "func", None)
            if (called := getattr(method, "figure", None)) is not None:
                listed[called] = FigureField(
                    called, name, method.__annotations__["return"], "", base
                )
    return tuple(listed.values())


def figure(method: _Method) -> _Method:
    """Mark what a property computes as a figure of its name."""
    return figure_as(method.__name__)(method)


def figure_as(key: str) -> Callable[[_Method], _Method]:
    """Mark what a property computes as a figure of another name."""

    def mark(method: _Method) -> _Method:
        method.figure = key  # type: ignore[attr-defined]
        return method

    return mark


def plain(value: Any) -> Any:
    """A value as JSON has it: whole numbers to 2^53 and finite doubles as numbers, others as
    texts."""
    if value is None or isinstance(value, (str, bool)):
        return value.value if isinstance(value, Enum) else value
    if isinstance(value, int):
        return value if abs(value) <= _EXACT else str(value)
    if isinstance(value, float):
        return value if math.isfinite(value) else "NaN" if value != value else _infinite(value)
    if isinstance(value, Figures):
        return value.to_dict()
    if isinstance(value, Mapping):
        return {key: item if type(item) is str else plain(item) for key, item in value.items()}
    if isinstance(value, (tuple, list)):
        return [item if type(item) is str else plain(item) for item in value]
    return format(value, "f") if isinstance(value, Decimal) else str(value)


def _infinite(value: float) -> str:
    return "Infinity" if value > 0 else "-Infinity"
