"""What a table holds, whatever order its rows have: two sums of row hashes, over values in one form
each."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from decimal import Decimal, InvalidOperation
from functools import partial
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.arrow_values import text_of
from gravel.engine.frame import view
from gravel.engine.hashing import combined, mixed
from gravel.kernels.arrays import to_arrow
from gravel.language.functions.casts import to_text
from gravel.language.types import BINARY, TEXT, Kind, Type
from gravel.sources.source import Batch, scan
from gravel.words import number_of

_PLAIN = (Kind.TEXT, Kind.BINARY, Kind.ARRAY, Kind.INTERVAL, Kind.NULL)


def canonical(texts: pa.Array, kind: Type) -> pa.Array:
    """Texts of a type, each value written in one way (1.50 as 1.5); what is not a value of the
    type, or would lose digits, stays."""
    if kind.kind in _PLAIN:
        return text_of(texts)
    result = view(texts, kind)
    # Zero of either sign is one value, and a store may keep either.
    written = to_text(
        pc.add(result.values, 0.0) if kind.kind is Kind.DOUBLE else result.values, kind
    )
    lossy = inexact(texts, written, kind) if pa.types.is_string(texts.type) else None
    if lossy is not None:
        written = pc.if_else(to_arrow(lossy), texts, written)
    message = pc.coalesce(written, texts) if result.errors is not None else written
    return _without_zeros(message) if kind.kind in (Kind.INTEGER, Kind.DECIMAL) else message


def _without_zeros(texts: pa.Array) -> pa.Array:
    """Exact numbers by value: 14 and 14.00 are one, since a store may add zeros after the point."""
    with_point = pc.fill_null(
        pc.match_substring_regex(texts, r"^-?[0-9]+\.[0-9]+$"), False
    ).to_numpy(zero_copy_only=False)
    if with_point.any():
        subset = pc.utf8_rtrim(pc.utf8_rtrim(texts.filter(to_arrow(with_point)), "0"), ".")
        texts = pc.replace_with_mask(
            texts, to_arrow(with_point), pc.if_else(pc.equal(subset, "-0"), "0", subset)
        )
    return texts


def inexact(texts: pa.Array, written: pa.Array, kind: Type) -> np.ndarray | None:
    """The rows whose text has more digits than its value in a type has (0.125 in a DECIMAL of scale
    2), or None."""
    if kind.kind not in (Kind.DECIMAL, Kind.DOUBLE):
        return None
    other = pc.fill_null(pc.not_equal(texts, written), False).to_numpy(zero_copy_only=False)
    if not other.any():
        return None
    rows = np.flatnonzero(other)
    pairs = zip(
        texts.take(to_arrow(rows)).to_pylist(),
        written.take(to_arrow(rows)).to_pylist(),
        strict=True,
    )
    same = _same_number if kind.kind is Kind.DECIMAL else _same_double
    bad = np.fromiter((not same(supplied, result) for supplied, result in pairs), bool, len(rows))
    if not bad.any():
        return None
    matches = np.zeros(len(texts), bool)
    matches[rows[bad]] = True
    return matches


def _same_double(supplied: str, result: str) -> bool:
    """Seventeen digits tell a double; more of them say what no double says."""
    digits = supplied.strip().lower().partition("e")[0].strip("+-").replace(".", "").strip("0")
    return (
        len(digits) <= 17
        or _same_number(supplied, result)
        or Decimal(supplied) == Decimal(float(result))
    )


def _same_number(supplied: str, result: str) -> bool:
    try:
        return Decimal(supplied) == Decimal(result) or Decimal(result).is_nan()
    except InvalidOperation:
        return True  # a form that only the language reads, such as Infinity in other letters


class Content:
    """Rows taken in so far. Two tables with the same rows, in any order, have the same `value`."""

    def __init__(self) -> None:
        self.rows = 0
        self._sums = [0, 0]

    def add(self, columns: Sequence[pa.Array]) -> Content:
        """Take in rows; itself."""
        if not columns or not len(columns[0]):
            return self
        first = combined(list(columns))
        # The second sum is of the same hashes mixed again, so that changes that cancel out in one
        # sum do not in the other.
        for index, hashes in enumerate((first, mixed([first, first], second=True))):
            self._sums[index] = (self._sums[index] + int(hashes.sum(dtype=np.uint64))) % (1 << 64)
        self.rows += len(columns[0])
        return self

    def merge(self, other: Content) -> None:
        """Take in what another has taken in."""
        self.rows += other.rows
        self._sums = [
            (item + more) % (1 << 64) for item, more in zip(self._sums, other._sums, strict=True)
        ]

    @property
    def value(self) -> str:
        """32 hexadecimal digits."""
        return f"{self._sums[0]:016x}{self._sums[1]:016x}"


def content_of(
    table: Any,
    types: Sequence[Type],
    wanted: Sequence[int] | None = None,
    forms: dict[int, Callable[[Any], Any]] | None = None,
) -> Content:
    """A table's content, of some of its columns (their positions), each as a type. `forms`: what is
    done to the texts of a column first. Raises TableProblem."""
    chosen = list(range(len(table.columns)) if wanted is None else wanted)
    result = Content()
    if forms:  # which ask a database, one at a time
        for columns in scan(
            table,
            lambda batch: [canonical(batch.columns[index], types[index]) for index in chosen],
            chosen,
        ):
            result.add(
                [
                    forms[index](column) if index in forms else column
                    for index, column in zip(chosen, columns, strict=True)
                ]
            )
        return result
    for part in scan(
        table,
        lambda batch: Content().add(
            [canonical(batch.columns[index], types[index]) for index in chosen]
        ),
        chosen,
    ):
        result.merge(part)
    return result


def kept_type(kind: Type) -> Type:
    """The type that a store is given for a column: what none of them has is text."""
    return (
        TEXT
        if kind.kind in (Kind.ARRAY, Kind.INTERVAL, Kind.NULL)
        else BINARY
        if kind.kind is Kind.BINARY
        else kind
    )


def compared(
    rows: Any, again: Any, columns: Sequence[tuple[str, Type]]
) -> tuple[bool, str, Content]:
    """Whether a table read back holds what another does, value by value and whatever the order of
    rows and columns; the figures in words; what it holds."""
    kinds = [kind for _, kind in columns]
    proved = content_of(rows, kinds)
    if set(again.columns) != {name for name, _ in columns}:
        return False, f"its columns are {', '.join(again.columns)}", proved
    order = [again.columns.index(name) for name, _ in columns]
    by_place = dict(zip(order, kinds, strict=True))
    stored = content_of(again, [by_place[position] for position in range(len(order))], order)
    if (proved.rows, proved.value) == (stored.rows, stored.value):
        other = _of_other_type(again, columns)
        if other:
            return False, f"{other} is kept as another type than it was given as", stored
        return (
            True,
            f"{number_of(stored.rows)} by {len(columns)} columns read back and compared by value",
            stored,
        )
    result = what_differs(rows, range(len(columns)), again, order, columns)
    return False, result or f"{number_of(stored.rows)} read back, {proved.rows:,} proved", stored


def _of_other_type(again: Any, columns: Sequence[tuple[str, Type]]) -> str:
    """The first column that should hold bytes and holds none, or the other way round, where a store
    tells the two apart."""
    supplied = {name for name, kind in columns if kind.kind is Kind.BINARY}
    if again.binary - supplied:
        return sorted(again.binary - supplied)[0]
    if not (again.binary or again.snapshot or again.path.suffix.lower() in (".parquet", ".arrow")):
        return ""
    for name in sorted(supplied - again.binary):
        place = again.columns.index(name)
        known = [
            len(batch.columns[place]) - batch.columns[place].null_count
            for batch in scan(again, lambda batch: batch, [place])
        ]
        if any(known):
            return name
    return ""


def _canonical_column(place: int, kind: Type, batch: Batch) -> Any:
    return canonical(batch.columns[place], kind)


def what_differs(
    rows: Any,
    ours: Sequence[int],
    again: Any,
    theirs: Sequence[int],
    columns: Sequence[tuple[str, Type]],
    forms: dict[int, Callable[[Any], Any]] | None = None,
) -> str:
    """The first column whose values differ, with some that it does not have as they were, or ''.
    `forms`: as for `content_of`, of `ours`."""
    for (name, kind), *places in zip(columns, ours, theirs, strict=True):
        results: list[set[str | None]] = []
        for table, place in zip((rows, again), places, strict=True):
            parts = scan(table, partial(_canonical_column, place, kind), [place])
            form = (forms or {}).get(place) if table is rows else None
            results.append(
                {
                    value
                    for part in parts
                    for value in pc.unique(part if form is None else form(part)).to_pylist()
                }
            )
        if results[0] != results[1]:
            lost = (
                sorted(results[0] - results[1], key=str)[:2]
                or sorted(results[1] - results[0], key=str)[:2]
            )
            return f"{name} does not hold {' and '.join(map(repr, lost))} as it was"
    return ""
