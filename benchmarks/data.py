"""Tables for the benchmarks: stays at a harbour, nine columns, about 120 bytes a row, from a fixed seed.

A third of the names have accents, one row in a hundred has a remark of 120 to 500 characters, and two columns have
about as many values as rows: what is slow on such data does not show on a tidy table."""

from __future__ import annotations

import sys
from decimal import Decimal
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.sinks.csv import encode, header

COLUMNS = [
    "stay_id",
    "boat",
    "skipper",
    "berth",
    "from_day",
    "status",
    "services",
    "amount",
    "remark",
]
_SYLLABLES = [
    "al",
    "bre",
    "cor",
    "dun",
    "els",
    "fjo",
    "gri",
    "hal",
    "ise",
    "jor",
    "kel",
    "lun",
    "mar",
    "nor",
    "ost",
    "per",
    "quay",
    "rif",
    "sal",
    "tern",
]
_ACCENTED = ["åsk", "bré", "çor", "dün", "élë", "fjö", "grï", "háł", "ısê", "žor"]
_REMARK = [
    "the",
    "mooring",
    "líne",
    "on",
    "the",
    "port",
    "side",
    "was",
    "replaced",
    "after",
    "the",
    "storm;",
    "the",
    "owner",
    "–",
    "not",
    "aboard",
    "–",
    "was",
    "told",
    "by",
    "post.",
]
_STATUS = ["paid", "Paid", "PAID", "open", "Open", "open ", "waived", "cancelled", "n/a", ""]
_SERVICES = ["water", "power", "crane", "diesel", "laundry", "mail", "winter storage"]


def _words(dice: np.random.Generator, count: int, syllables: int) -> list[str]:
    """Made names, a third of them with accents."""
    picks = dice.integers(0, len(_SYLLABLES), (count, syllables))
    accents = dice.integers(0, 3 * len(_ACCENTED), count)
    names = []
    for row, accent in zip(picks, accents, strict=True):
        parts = [_SYLLABLES[at] for at in row]
        if accent < len(_ACCENTED):
            parts[accent % syllables] = _ACCENTED[accent]
        names.append("".join(parts).capitalize())
    return names


def _remarks(dice: np.random.Generator, rows: int) -> pa.Array:
    """A long remark in one row of a hundred."""
    remarks: list[str | None] = [None] * rows
    for row in np.flatnonzero(dice.random(rows) < 0.01):
        words = dice.integers(0, len(_REMARK), 90)
        text = " ".join(_REMARK[at] for at in words)
        remarks[row] = text[: int(dice.integers(120, 500))]
    return pa.array(remarks, pa.string())


def _untidy(dice: np.random.Generator, texts: pa.Array) -> pa.Array:
    """One text in twelve with other case or spaces."""
    kind = dice.integers(0, 36, len(texts))
    made = texts
    for number, change in enumerate(
        (
            pc.utf8_upper,
            lambda t: pc.binary_join_element_wise(t, " ", ""),
            lambda t: pc.replace_substring(t, " ", "  "),
        )
    ):
        made = pc.if_else(pa.array(kind == number), change(texts), made)
    return made


def columns(rows: int, first: int, dice: np.random.Generator) -> list[pa.Array]:
    """The columns of `rows` stays; their numbers begin with `first`."""
    surnames, given, boats = (
        _words(np.random.default_rng(n), size, parts)
        for n, size, parts in ((1, 400, 3), (2, 60, 2), (3, 5000, 3))
    )
    people = pa.array([f"{a}, {b}" for a in surnames for b in given])
    take = lambda values, n: pa.array(values).take(pa.array(dice.integers(0, n, rows)))  # noqa: E731
    boat = _untidy(
        dice,
        pc.binary_join_element_wise(
            take(boats, len(boats)), take(["Gull", "Tide", "Lark", "Rope"], 4), " "
        ),
    )
    skipper = _untidy(dice, people.take(pa.array(dice.integers(0, len(people), rows))))
    skipper = pc.if_else(pa.array(dice.random(rows) < 0.05), pa.scalar(None, pa.string()), skipper)
    berth = take([f"{pier}-{number:02d}" for pier in "ABCD" for number in range(1, 61)], 240)
    berth = pc.if_else(
        pa.array(dice.random(rows) < 0.03), take([" ", "n/a", "unknown", "-"], 4), berth
    )
    days = pc.cast(
        pa.array(dice.integers(18000, 20000, rows), pa.int32()).cast(pa.date32()), pa.string()
    )
    lists = pc.binary_join_element_wise(*(take(_SERVICES, 7) for _ in range(4)), ";")
    services = pc.if_else(pa.array(dice.random(rows) < 0.65), lists, take([*_SERVICES, None], 8))
    cents = dice.integers(500, 500000, rows)
    amount = pc.multiply(
        pc.cast(pa.array(cents), pa.decimal128(19, 0)),
        pa.scalar(Decimal("0.01"), pa.decimal128(3, 2)),
    )
    numbers = pc.cast(pa.array(np.arange(first, first + rows)), pa.string())
    return [
        numbers,
        boat,
        skipper,
        berth,
        days,
        take(_STATUS, 10),
        services,
        pc.cast(amount, pa.string()),
        _remarks(dice, rows),
    ]


def write(path: Path, rows: int) -> None:
    """Write a table of that many rows, unless it is there."""
    if path.exists():
        return
    dice = np.random.default_rng(20260101)
    begun = path.with_suffix(".part")
    with open(begun, "wb") as file:
        file.write(header(COLUMNS))
        for first in range(1, rows + 1, 500_000):
            file.write(encode(columns(min(500_000, rows + 1 - first), first, dice)))
    begun.rename(path)


if __name__ == "__main__":
    write(Path(sys.argv[1]), int(sys.argv[2]))
