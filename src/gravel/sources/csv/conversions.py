"""Columns of numbers and days as they are written elsewhere: 1.234,50 and 31.12.2024."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.evaluate import run
from gravel.engine.frame import Frame
from gravel.language import nodes, parse
from gravel.language.bind import bind
from gravel.language.functions.casts import to_text
from gravel.language.scope import Scope
from gravel.language.types import DATE, TEXT
from gravel.sources.read_options import ReadOptions


class Conversions:
    """What is done to the texts of some columns so that they are numbers and days: those of which
    every value is one in the form that is asked for."""

    def __init__(self, reading: ReadOptions, texts: Sequence[int] = ()) -> None:
        self._decimal, self._group, self._texts = reading.decimal, reading.group, texts
        self._numbers = _number_pattern(reading.decimal, reading.group)
        self._days = [_day(template) for template in reading.dates]
        self._columns: dict[int, nodes.Expression | None] = {}

    def settle(self, batches: Iterable[list[pa.Array | None]]) -> None:
        """Find the columns, from all rows."""
        numbers: dict[int, bool] = {}
        seen: set[int] = set()  # columns with a sign that plain numbers have not
        days: dict[int, list[bool]] = {}
        for columns in batches:
            for index, column in enumerate(columns):
                if column is None or column.null_count == len(column) or index in self._texts:
                    continue
                known = column.drop_null()
                if numbers.get(index, True):
                    fits = pc.all(pc.match_substring_regex(known, self._numbers)).as_py()
                    numbers[index] = bool(fits)
                    signs = [sign for sign in (self._decimal, self._group) if sign not in ("", ".")]
                    signs += ["."] if self._group == "." else []
                    if fits and any(pc.any(pc.match_substring(known, s)).as_py() for s in signs):
                        seen.add(index)
                before = days.get(index, [True] * len(self._days))
                days[index] = [
                    held and _fits(known, day) for held, day in zip(before, self._days, strict=True)
                ]
        for index, held in days.items():
            day = next((day for day, fits in zip(self._days, held, strict=True) if fits), None)
            if day is not None:
                self._columns[index] = day
        asks_numbers = self._decimal != "." or self._group
        for index, held_numbers in numbers.items():
            if asks_numbers and held_numbers and index in seen and index not in self._columns:
                self._columns[index] = None

    def column(self, index: int, texts: pa.Array) -> pa.Array:
        """A column as the language writes its numbers and days."""
        if index not in self._columns:
            return texts
        day = self._columns[index]
        if day is not None:
            return _as_days(texts, day)
        result = pc.utf8_trim(texts, " ")
        if self._group:
            result = pc.replace_substring(result, self._group, "")
        return pc.replace_substring(result, self._decimal, ".")


def _number_pattern(decimal: str, group: str) -> str:
    whole = rf"(\d{{1,3}}({re.escape(group)}\d{{3}})+|\d+)" if group else r"\d+"
    return rf"^ *[+-]?{whole}({re.escape(decimal)}\d+)?([eE][+-]?\d+)? *$"


def _day(template: str) -> nodes.Expression:
    """DATE_OF of a column by a template. Raises Diagnostic."""
    text = f"DATE_OF(c, '{template.replace(chr(39), chr(39) * 2)}')"
    return bind(parse.expression(text), Scope(("c",), (TEXT,)), text)


def _fits(texts: pa.Array, day: nodes.Expression) -> bool:
    result = run(day, Frame(len(texts), [texts], (TEXT,)))
    return result.errors is None and result.values.null_count == 0


def _as_days(texts: pa.Array, day: nodes.Expression) -> pa.Array:
    result = run(day, Frame(len(texts), [texts], (TEXT,))).spread(len(texts))
    return to_text(result.values, DATE)
