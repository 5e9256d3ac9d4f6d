"""Rows as a workbook (ECMA-376) of one sheet: numbers, days and truth as such, texts as texts."""

from __future__ import annotations

import datetime
import io
from collections.abc import Callable, Sequence
from decimal import Decimal
from typing import Any

from gravel.engine.frame import view
from gravel.language.types import NUMBERS, Kind, Type
from gravel.language.writing import quoted
from gravel.problems import CallProblem, DataProblem
from gravel.sources.source import Source, scan
from gravel.words import number_of

ROWS, COLUMNS, LONGEST = 1_048_576, 16_384, 32_767  # what a sheet holds
_DIGITS = 15  # that a number of a workbook keeps
_FORMATS = {Kind.DATE: "yyyy-mm-dd", Kind.TIMESTAMP: "yyyy-mm-dd hh:mm:ss"}


def write_workbook(
    rows: Source, columns: Sequence[tuple[str, Type]], take: Callable[[bytes], None]
) -> list[str]:
    """A table as a workbook; what is to be known of it. Raises DataProblem for what a sheet does
    not hold, CallProblem where the library is missing."""
    try:
        import xlsxwriter
    except ImportError:
        raise CallProblem(
            "workbooks need the library xlsxwriter", hint="pip install 'gravel[excel]'"
        ) from None
    if len(columns) > COLUMNS:
        raise DataProblem(f"a sheet has {COLUMNS:,} columns at most, not {len(columns):,}")
    out = io.BytesIO()
    options = {"constant_memory": True, "in_memory": False, "strings_to_urls": False}
    book = xlsxwriter.Workbook(out, {**options, "strings_to_formulas": False})
    # The same rows make the same bytes.
    book.set_properties({"created": datetime.datetime(2000, 1, 1)})
    sheet = book.add_worksheet()
    formats = {kind: book.add_format({"num_format": text}) for kind, text in _FORMATS.items()}
    for place, (heading, _) in enumerate(columns):
        sheet.write_string(0, place, heading)
    long = [0] * len(columns)  # numbers that are texts
    row = last = 0  # last: the last row that has a value
    for batch in scan(rows, lambda batch: batch.texts()):
        cells = [
            _values(batch.columns[place], heading, kind)
            for place, (heading, kind) in enumerate(columns)
        ]
        for place, (_, kind) in enumerate(columns):
            if kind.kind in NUMBERS:
                long[place] += sum(isinstance(cell, str) for cell in cells[place])
        for values in zip(*cells, strict=True):
            row += 1
            if row >= ROWS:
                raise DataProblem(
                    f"a sheet has {ROWS:,} rows at most, its names among them",
                    hint="write .csv or .parquet",
                )
            for place, value in enumerate(values):
                _write(sheet, row, place, value, formats)
                last = row if value is not None else last
    if last < row:
        raise DataProblem(
            f"a sheet ends with its last value, and {number_of(row - last)} at the end"
            f" {'has' if row - last == 1 else 'have'} none",
            hint="write .csv or .parquet, or drop rows without a value first",
        )
    book.close()
    take(out.getvalue())
    notes = []
    for count, (heading, kind) in zip(long, columns, strict=True):
        if count:
            numbers = f"{number_of(count, 'number')} of {heading}"
            verb, form = ("has", "a text") if count == 1 else ("have", "texts")
            shorter = f" (ROUND({quoted(heading)}, …))" if kind.kind is not Kind.INTEGER else ""
            notes.append(
                f"{numbers} {verb} more than {_DIGITS} digits, of which a workbook keeps no more:"
                f" written as {form}{shorter}"
            )
    return notes


def _write(sheet: Any, row: int, place: int, value: Any, formats: dict[Kind, Any]) -> None:
    if value is None:
        return
    if isinstance(value, bool):
        sheet.write_boolean(row, place, value)
    elif isinstance(value, (int, float)):
        sheet.write_number(row, place, value)
    elif isinstance(value, datetime.datetime):
        sheet.write_datetime(row, place, value, formats[Kind.TIMESTAMP])
    elif isinstance(value, datetime.date):
        sheet.write_datetime(row, place, value, formats[Kind.DATE])
    else:
        sheet.write_string(row, place, value)


def _values(texts: Any, heading: str, kind: Type) -> list[Any]:
    """A column's cells. What a workbook has no exact form for is its text."""
    if kind.kind in (*NUMBERS, Kind.BOOLEAN, *_FORMATS):
        result = view(texts, kind)
        if result.errors is None or not result.errors.any():
            values = result.values.to_pylist()
            # Where all moments of the cells are at midnight they would be read as days.
            timed = kind.kind is Kind.TIMESTAMP and any(
                value is not None and _is_moment(value) and value.time() != datetime.time()
                for value in values
            )
            return [
                _cell(value, text, timed)
                for value, text in zip(values, texts.to_pylist(), strict=True)
            ]
    cells: list[Any] = texts.to_pylist()
    for text in cells:
        if text == "":
            raise DataProblem(
                f"{heading} has an empty text, which a workbook does not tell from NULL",
                hint=f"a step that sets {heading} = NULLIF({heading}, '')",
            )
        if text is not None and len(text) > LONGEST:
            raise DataProblem(
                f"{heading} has a text of {len(text):,} characters, and a cell holds {LONGEST:,}"
            )
    return cells


def _is_moment(value: datetime.datetime) -> bool:
    """Whether a cell can hold it as one."""
    return value.microsecond == 0 and value.year >= 1900 and value.tzinfo is None


def _cell(value: Any, text: str | None, timed: bool) -> Any:
    if value is None or isinstance(value, bool):
        return value
    if isinstance(value, datetime.datetime):
        return value if timed and _is_moment(value) else text
    if isinstance(value, datetime.date):
        return value if value >= datetime.date(1900, 3, 1) else text
    number = Decimal(str(value))
    # Not `normalize`, which rounds to the 28 digits of Python's own.
    digits = "".join(map(str, number.as_tuple().digits)).rstrip("0")
    exact = number.is_finite() and len(digits) <= _DIGITS
    return float(value) if exact else text
