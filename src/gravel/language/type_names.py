"""Types by their names."""

from __future__ import annotations

import re

from gravel.language.types import (
    BOOLEAN,
    DATE,
    DECIMAL,
    DOUBLE,
    INTEGER,
    TEXT,
    TIME,
    TIMESTAMP,
    ZONED,
    Kind,
    Target,
    Type,
    decimal,
)
from gravel.problems import CallProblem, nearest

_TYPE_WORDS: dict[tuple[str, ...], Target] = {
    ("INTEGER",): Target(INTEGER),
    ("INT",): Target(INTEGER),
    ("BIGINT",): Target(INTEGER),
    ("SMALLINT",): Target(INTEGER, bits=16),
    ("DOUBLE", "PRECISION"): Target(DOUBLE),
    ("DOUBLE",): Target(DOUBLE),
    ("BOOLEAN",): Target(BOOLEAN),
    ("TEXT",): Target(TEXT),
    ("DATE",): Target(DATE),
    ("TIME",): Target(TIME),
    ("TIMESTAMP",): Target(TIMESTAMP),
    ("TIMESTAMP", "WITHOUT", "TIME", "ZONE"): Target(TIMESTAMP),
    ("TIMESTAMP", "WITH", "TIME", "ZONE"): Target(ZONED),
}


def target(words: tuple[str, ...], numbers: tuple[int, ...]) -> Target:
    """What a type's words and numbers name. Raises ValueError."""
    name = " ".join(words)
    if words[-1:] == ("ARRAY",) and len(words) > 1:
        item = target(words[:-1], numbers)
        if item.type.kind is Kind.ARRAY:
            raise ValueError(f"{name} is not a type: the items of an array are no arrays")
        return Target(Type(Kind.ARRAY, item=item.type), item.length, item.bits)
    if words in (("DECIMAL",), ("NUMERIC",)):
        if not numbers:
            return Target(DECIMAL)
        precision, scale = (numbers[0], 0) if len(numbers) == 1 else numbers[:2]
        if not 1 <= precision <= 38 or not 0 <= scale <= precision:
            raise ValueError(
                f"{name}({precision},{scale}) is not a type: 1 to 38 digits, of them 0 to all after"
                " the point"
            )
        return Target(decimal(precision, scale))
    if words in (("VARCHAR",), ("CHARACTER", "VARYING")):
        if numbers and not 1 <= numbers[0] < 2**31:
            raise ValueError(
                f"{name}({str(numbers[0])[:20]}) is not a type: a length is from 1 to 2147483647"
            )
        return Target(TEXT, length=numbers[0] if numbers else None)
    if words not in _TYPE_WORDS or numbers:
        raise ValueError(
            f"there is no type {name}" + (f"({', '.join(map(str, numbers))})" if numbers else "")
        )
    return _TYPE_WORDS[words]


def type_hint(name: str) -> str:
    """What may have been meant by a type that there is not."""
    known = [" ".join(words) for words in _TYPE_WORDS] + ["DECIMAL", "VARCHAR"]
    near = nearest(name, known)
    return (
        f"did you mean {near}?"
        if near
        else "types: INTEGER, DECIMAL(p,s), DOUBLE PRECISION, BOOLEAN, TEXT, DATE, TIMESTAMP, and"
        " arrays of these (TEXT ARRAY)"
    )


def named_type(text: str) -> Target:
    """The type a text such as 'DECIMAL(6,2)' names. Raises CallProblem."""
    match = re.fullmatch(r"\s*([A-Za-z ]+?)\s*(?:\(\s*(\d+)\s*(?:,\s*(\d+)\s*)?\))?\s*", text)
    words = tuple(match[1].upper().split()) if match else (text,)
    try:
        return target(
            words, tuple(int(number) for number in (match.groups()[1:] if match else ()) if number)
        )
    except ValueError as error:
        raise CallProblem(str(error), hint=type_hint(" ".join(words))) from None
