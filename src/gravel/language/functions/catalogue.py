"""The catalogue: one entry holds all there is to know of a function. Help, docs, hints and tests
are made from it."""

from __future__ import annotations

import importlib
import inspect
import re
from collections.abc import Callable, Mapping
from functools import lru_cache
from typing import Any, NamedTuple

from msgspec import Struct

from gravel.language.types import Type

FAMILIES = {
    "operators": "Operators and comparisons",
    "nulls": "Null and blank",
    "casing": "Case and spaces",
    "text": "Text",
    "spelling": "Spelling and shape",
    "patterns": "Regular expressions",
    "lists": "Lists in a field",
    "json": "JSON in a field",
    "damage": "Damage and placeholders",
    "wellknown": "Well-known forms",
    "types": "Types",
    "numbers": "Numbers",
    "dates": "Dates and times",
    "aggregates": "Aggregates",
    "windows": "Window functions",
}


class NotADate(ValueError):
    """What is asked of a date, or of a timestamp, is asked of a value of another type."""


class KernelResult(NamedTuple):
    """What a kernel that can fail gives: values (NULL where a row failed) and codes of
    language.errors, 0 for none."""

    values: Any
    errors: Any


class FunctionParameter(Struct, frozen=True):
    """An argument of a signature: `kind` is a type's name, NUMBER, ARRAY, ANY, AS TEXT (any type,
    as its text), or T."""

    name: str
    kind: str
    optional: bool = False
    repeated: bool = False


class FunctionSignature(Struct, frozen=True):
    """One way to call a function. `result` is a type's name or T, the common type of all T
    arguments."""

    text: str
    parameters: tuple[FunctionParameter, ...]
    result: str

    def accepts(self, count: int) -> bool:
        """Whether that many arguments will do."""
        least = sum(not parameter.optional for parameter in self.parameters)
        return least <= count and (
            count <= len(self.parameters) or any(p.repeated for p in self.parameters)
        )

    def parameter(self, position: int) -> FunctionParameter:
        """The parameter an argument goes to."""
        return self.parameters[min(position, len(self.parameters) - 1)]


class Function(Struct, frozen=True):
    """An entry. `kernel` takes Arrow arrays (scalars for constants), NULL where an argument is
    NULL, and gives an array, or a KernelResult where rows can fail; None where the engine itself
    decides (CASE, CAST). `result_type` gives the type where it depends on the arguments' types and
    constant values; `check` says what is wrong with constant arguments (... stands for one that is
    none), or None."""

    name: str
    family: str
    signatures: tuple[FunctionSignature, ...]
    meaning: str
    examples: Mapping[str, str]
    errors: tuple[str, ...] = ()
    kernel: Callable[..., Any] | None = None
    result_type: Callable[[list[Type], list[Any]], Type] | None = None
    wants_type: bool = False
    check: Callable[[list[Any]], str | None] | None = None

    def __hash__(self) -> int:
        return hash(self.name)

    def __reduce__(self) -> tuple[Callable[[str], Function], tuple[str]]:
        return entry_of, (self.name,)  # an entry travels as its name


def entry_of(name: str) -> Function:
    """The entry that has exactly this name. Raises KeyError."""
    return catalogue()[name]


_entries: dict[str, Function] = {}


def function(
    *signatures: str,
    meaning: str,
    examples: Mapping[str, str],
    errors: tuple[str, ...] = (),
    result: Callable[[list[Type], list[Any]], Type] | None = None,
    check: Callable[[list[Any]], str | None] | None = None,
    name: str = "",
) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Enter the decorated kernel into the catalogue.

    A signature reads `NAME(x TEXT, n INTEGER [, y TEXT]...) TEXT`; an operator's reads `x NUMBER +
    y NUMBER : NUMBER`. `examples` maps expressions to their results, both as SQL, or `error` with
    its SQLSTATE; every one is run as a test. `name` tells apart entries that are written alike (the
    + of dates).
    """

    def enter(kernel: Callable[..., Any]) -> Callable[..., Any]:
        describe(
            *signatures,
            family=kernel.__module__.rsplit(".", 1)[1],
            meaning=meaning,
            examples=examples,
            errors=errors,
            result=result,
            kernel=kernel,
            check=check,
            name=name,
        )
        return kernel

    return enter


def describe(
    *signatures: str,
    family: str,
    meaning: str,
    examples: Mapping[str, str],
    errors: tuple[str, ...] = (),
    result: Callable[[list[Type], list[Any]], Type] | None = None,
    kernel: Callable[..., Any] | None = None,
    check: Callable[[list[Any]], str | None] | None = None,
    name: str = "",
) -> None:
    """Enter a function; without a kernel, one that the engine decides itself."""
    parsed = [_signature(text) for text in signatures]
    name = name or parsed[0][0]
    wants = kernel is not None and "to" in inspect.signature(kernel).parameters
    shapes = tuple(signature for _, signature in parsed)
    _entries[name] = Function(
        name, family, shapes, meaning, examples, errors, kernel, result, wants, check
    )


def _signature(text: str) -> tuple[str, FunctionSignature]:
    call = re.fullmatch(r"(\w+)\((.*)\) ([A-Z ]+)", text)
    if call:
        name, inside, result = call.groups()
        return name, FunctionSignature(text, tuple(_parameters(inside)), result)
    shown, result = text.rsplit(" : ", 1)
    required, _, optional = shown.partition(" [")
    named = re.compile(
        r"\b(\w+) (NUMBER|AS TEXT|TEXT|T|BOOLEAN|DATE|INTEGER|ANY|ARRAY|MOMENT|INTERVAL)\b"
    )
    parameters = [FunctionParameter(name, kind) for name, kind in named.findall(required)]
    parameters += [
        FunctionParameter(name, kind, optional=True) for name, kind in named.findall(optional)
    ]
    return " ".join(named.sub(" ", required).split()), FunctionSignature(
        text, tuple(parameters), result
    )


def _parameters(inside: str) -> list[FunctionParameter]:
    results = []
    for part in re.findall(r"\[[^\]]*\](?:\.\.\.)?|[^,\[]+", inside):
        optional, repeated = part.startswith("["), part.endswith("...")
        words = part.strip(" [].").lstrip(", ").split(" ", 1)
        if len(words) == 2:
            results.append(FunctionParameter(words[0], words[1].strip(), optional, repeated))
    return results


@lru_cache(maxsize=1)
def catalogue() -> dict[str, Function]:
    """All entries by name, in the order of families."""
    for family in FAMILIES:
        importlib.import_module(f"gravel.language.functions.{family}")
    return _entries


SYNONYMS = {
    "CHAR_LENGTH": "LENGTH",
    "CHARACTER_LENGTH": "LENGTH",
    "CEIL": "CEILING",
    "TRIM": "BTRIM",
    "%": "MOD",
}


def find(name: str) -> Function | None:
    """The entry of that name, in any case; shared synonyms lead to it."""
    upper = name.upper()
    return catalogue().get(SYNONYMS.get(upper, upper))
