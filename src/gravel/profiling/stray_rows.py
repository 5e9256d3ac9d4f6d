"""Rows of a table that are none of its data: further lines of header, and totals."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence

from gravel.kernels.rules import tidied
from gravel.language.types import TEXT
from gravel.profiling.findings.fit import FEW, best_fit, unfit_words
from gravel.profiling.result import ColumnProfile, StrayRows, ValueRows, ValueShape

_MOST = 5  # rows of a kind that are looked at as a whole
_LEAST = 4  # rows below which no row is unlike the others
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
    columns: Sequence[ColumnProfile], totals: Sequence[Sequence[ValueRows]], texts: Texts
) -> tuple[StrayRows, ...]:
    """The rows that are none of the data. `totals`: by column the words for a sum; `texts`: by
    column the texts of the rows that were looked at."""
    if not columns or columns[0].rows < _LEAST:
        return ()
    unlike = {place: values for place, column in enumerate(columns) if (values := _unfit(column))}
    again = _names_again(columns, unlike, texts)
    second = None if again and again.values[0].row == 1 else _second_header(columns, unlike, texts)
    sums = (
        _totals(columns, place, values, place in unlike, texts)
        for place, values in enumerate(totals)
        if values
    )
    return tuple(item for item in (again, second, *sums) if item is not None)


def stands_in(item: ValueRows | ValueShape, stray: Sequence[StrayRows]) -> bool:
    """Whether a value, or a shape, stands in rows alone that are none of the data."""
    return any(
        (item.row, item.rows) == (value.row, value.rows)
        for others in stray
        for value in others.values
    )


def _unfit(column: ColumnProfile) -> tuple[ValueRows, ...]:
    """The few values that do not fit the type of all others, words for nothing apart."""
    best = best_fit(column.fits) if column.type == TEXT else None
    if best is None:
        return ()
    said = best.known - column.empty - column.blank - unfit_words(column, best)
    if best.rows == said or said - best.rows > max(2, FEW * said):
        return ()
    nothing = {word.value for word in column.placeholders}
    return tuple(
        item for item in best.mismatches if item.value.strip() and item.value not in nothing
    )


def _names_again(
    columns: Sequence[ColumnProfile], unlike: Mapping[int, Sequence[ValueRows]], texts: Texts
) -> StrayRows | None:
    """The header within the table: columns of numbers or days that hold their own names."""
    for place, values in unlike.items():
        name = columns[place].name
        for item in values:
            if not _is_name(item.value, name):
                continue
            cells = [column_texts.get(item.row) for column_texts in texts]
            names = [
                _is_name(cell, column.name)
                for cell, column in zip(cells, columns, strict=True)
                if cell is not None
            ]
            if sum(names) * 2 > len(names) > 1:
                return StrayRows("header", name, (item,), (item.value,))
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
    return StrayRows("second header", columns[place].name, (first,), examples)


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
    sums, empty = [], []
    for other, column in enumerate(columns):
        cells = [texts[other].get(item.row) for item in values[:_MOST]]
        if other == place:
            continue
        if None in cells and column.nulls * 2 < column.rows:
            empty.append(column.name)
        if any(cell is not None and _is_sum(column, cell) for cell in cells):
            sums.append(column.name)
    return StrayRows(
        "total",
        label.name,
        tuple(values),
        tuple(item.value for item in values),
        tuple(sums),
        tuple(empty),
        bool(sums) or unlike or len(empty) * 2 >= max(1, len(columns) - 1),
    )


def _is_sum(column: ColumnProfile, text: str) -> bool:
    """Whether a number is the sum of a column's others: all come to twice the number, or to three
    times where the sums of parts are among them."""
    if column.numbers is None or column.numbers.fit < _LEAST:
        return False
    try:
        number = float(text)
    except ValueError:
        return False
    whole = column.numbers.mean * column.numbers.fit
    return number != 0 and any(
        abs(whole - times * number) <= _ACCURACY * abs(whole) for times in (2, 3)
    )
