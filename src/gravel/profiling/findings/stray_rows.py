"""Rows of a table that are none of its data: further lines of header, totals, and what stands below
it."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence

from gravel.kernels.rules import tidied
from gravel.language.types import TEXT
from gravel.profiling.findings.fit import FEW, best_fit, unfit_words
from gravel.profiling.result import ColumnProfile, StrayRows, ValueRows, ValueShape

_MOST = 5  # rows of a kind that are looked at as a whole
_LEAST = 4  # rows below which no row is unlike the others
_HALF = 0.5  # the share of header lines that are no others: files of a row each have as many
_DECIMALS = 10  # more than these are fractions
_ACCURACY = 1e-9  # of a sum of doubles, as a share of it

Texts = Sequence[Mapping[int, str | None]]


def rows_to_look_at(
    totals: Sequence[Sequence[tuple[int, int]]],
    mismatches: Sequence[Mapping[str, Sequence[tuple[int, int]]]],
) -> list[int]:
    """The source rows that may be none of the data: by column the first rows of words for a sum,
    and of the values that do not fit a type."""
    unlike = Counter(
        row
        for column in mismatches
        for row in {row for values in column.values() for row, _ in values}
    )
    several = sorted((-columns, row) for row, columns in unlike.items() if columns > 1)
    return sorted(
        {row for column in totals for row, _ in column[:_MOST]}
        | {row for _, row in several[:_MOST]}
    )


def stray_rows(
    columns: Sequence[ColumnProfile],
    totals: Sequence[Sequence[ValueRows]],
    texts: Texts,
    last: Sequence[int],
) -> tuple[StrayRows, ...]:
    """The rows that are none of the data. `totals`: by column the words for a sum; `texts`: by
    column the texts of the rows that were looked at; `last`: the table's last rows, where each is
    there once."""
    if not columns or columns[0].rows < _LEAST:
        return ()
    unlike = {
        place: values for place, column in enumerate(columns) if (values := _unfit(column, FEW))
    }
    again = _names_again(columns, texts)
    second = None if again and again.values[0].row == 1 else _second_header(columns, unlike, texts)
    results = [item for item in (again, second) if item is not None]
    results += (
        item
        for place, values in enumerate(totals)
        if values and (item := _totals(columns, place, values, place in unlike, texts))
    )
    taken = {value.row for item in results for value in item.values}
    return (*results, *_footers(columns, texts, [row for row in last if row not in taken]))


def stands_in(item: ValueRows | ValueShape, stray: Sequence[StrayRows]) -> bool:
    """Whether a value, or a shape, stands in rows alone that are none of the data."""
    return any(
        (item.row, item.rows) == (value.row, value.rows)
        for others in stray
        for value in others.values
    )


def types_without(columns: Sequence[ColumnProfile], stray: Sequence[StrayRows]) -> dict[str, str]:
    """By name the types, as a CAST takes them, of the columns that are TEXT because of such rows
    alone."""
    results = {}
    for column in columns:
        best = best_fit(column.fits) if column.type == TEXT else None
        if best is None or column.empty + column.blank + column.loses_in_cast:
            continue
        left = best.known - best.rows
        if left and left == sum(item.rows for item in best.mismatches if stands_in(item, stray)):
            results[column.name] = _decimals(column) if best.type == "DECIMAL" else best.type
    return results


def _decimals(column: ColumnProfile) -> str:
    """The type of numbers with as many decimals as any of them has; with more than people write
    they are fractions."""
    numbers = (shape.shape.strip(" ") for shape in column.shapes)
    scale = max(
        len(number.partition(".")[2]) for number in numbers if re.fullmatch(r"[-+.9]+", number)
    )
    every = len(column.shapes) == column.distinct_shapes
    return f"DECIMAL(38,{scale})" if every and scale <= _DECIMALS else "DOUBLE PRECISION"


def _unfit(column: ColumnProfile, most: float) -> tuple[ValueRows, ...]:
    """The values that do not fit the type of all others, words for nothing apart, where they are
    two rows or at most such a share."""
    best = best_fit(column.fits) if column.type == TEXT else None
    if best is None:
        return ()
    said = best.known - column.empty - column.blank - unfit_words(column, best)
    if best.rows == said or said - best.rows > max(2, most * said):
        return ()
    nothing = {word.value for word in column.placeholders}
    return tuple(
        item for item in best.mismatches if item.value.strip() and item.value not in nothing
    )


def _names_again(columns: Sequence[ColumnProfile], texts: Texts) -> StrayRows | None:
    """The header within the table: columns of numbers or days that hold their own names."""
    for own in columns:
        for item in _unfit(own, _HALF):
            if not _is_name(item.value, own.name):
                continue
            cells = [column_texts.get(item.row) for column_texts in texts]
            names = [
                _is_name(cell, column.name)
                for cell, column in zip(cells, columns, strict=True)
                if cell is not None
            ]
            if sum(names) * 2 > len(names) > 1:
                return StrayRows("header", own.name, (item,), (item.value,))
    return None


def _is_name(value: str, name: str) -> bool:
    return tidied(value).casefold() == tidied(name).casefold()


def _second_header(
    columns: Sequence[ColumnProfile], unlike: Mapping[int, Sequence[ValueRows]], texts: Texts
) -> StrayRows | None:
    """The first row, where it fits no column of numbers or days, and two values of it at least are
    unlike all others: units, or the rest of the names."""
    values = {place: item for place, items in unlike.items() for item in items if item.row == 1}
    fits = any(
        place not in values
        and texts[place].get(1) is not None
        and (column.type != TEXT or place in unlike or _fits_as_a_whole(column))
        for place, column in enumerate(columns)
    )
    if len(values) < 2 or fits or len({item.rows for item in values.values()}) > 1:
        return None
    place, first = next(iter(values.items()))
    examples = tuple(item.value for item in values.values())
    empty = tuple(_empty(columns, texts, 1))
    return StrayRows("second header", columns[place].name, (first,), examples, empty)


def _fits_as_a_whole(column: ColumnProfile) -> bool:
    best = best_fit(column.fits)
    return best is not None and best.rows == best.known


def _totals(
    columns: Sequence[ColumnProfile],
    place: int,
    values: Sequence[ValueRows],
    unlike: bool,
    texts: Texts,
) -> StrayRows | None:
    """Rows with a word for a sum, and what else says that they are one."""
    label = columns[place]
    if sum(item.rows for item in values) * 2 > label.rows:
        return None
    rows = [item.row for item in values[:_MOST]]
    empty = dict.fromkeys(name for row in rows for name in _empty(columns, texts, row))
    sums = [
        column.name
        for other, column in enumerate(columns)
        if other != place and any(_is_sum(column, texts[other].get(row)) for row in rows)
    ]
    return StrayRows(
        "total",
        label.name,
        tuple(values),
        tuple(item.value for item in values),
        tuple(empty),
        tuple(sums),
        bool(sums) or unlike or len(empty) * 2 >= max(1, len(columns) - 1),
    )


def _footers(
    columns: Sequence[ColumnProfile], texts: Texts, last: Sequence[int]
) -> Iterator[StrayRows]:
    """The last rows, where they have a text in one column alone, and the others are seldom NULL."""
    by_place: dict[int, list[ValueRows]] = {}
    for row in last:
        known = [place for place in range(len(columns)) if texts[place].get(row) is not None]
        seldom = len(_empty(columns, texts, row))
        if len(known) != 1 or seldom < max(2, (len(columns) - 1) / 2):
            continue
        (place,) = known
        text = texts[place][row] or ""
        if columns[place].type == TEXT and any(map(str.isalpha, text)):
            by_place.setdefault(place, []).append(ValueRows(text, 1, row))
    for place, values in by_place.items():
        others = (column.name for other, column in enumerate(columns) if other != place)
        examples = tuple(item.value for item in values)
        yield StrayRows("footer", columns[place].name, tuple(values), examples, tuple(others))


def _empty(columns: Sequence[ColumnProfile], texts: Texts, row: int) -> list[str]:
    """The columns that are NULL in a row, and not in most."""
    return [
        column.name
        for place, column in enumerate(columns)
        if texts[place].get(row) is None and column.nulls * 2 < column.rows
    ]


def _is_sum(column: ColumnProfile, text: str | None) -> bool:
    """Whether a number is the sum of a column's others: all come to twice the number, or to three
    times where the sums of parts are among them."""
    if text is None or column.numbers is None or column.numbers.fit < _LEAST:
        return False
    try:
        number = float(text)
    except ValueError:
        return False
    whole = column.numbers.mean * column.numbers.fit
    return number != 0 and any(
        abs(whole - times * number) <= _ACCURACY * abs(whole) for times in (2, 3)
    )
