"""What only the whole of a table could decide, in one more pass over the columns that need it:
texts of the winners, lists, forms, pairs of columns."""

from __future__ import annotations

from functools import partial
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct

from gravel.engine.distinct import Top, range_size
from gravel.engine.engine import OfBatch, Question
from gravel.engine.hashing import hashes
from gravel.engine.sets import distinct_values
from gravel.language.types import DOUBLE, TEXT, Kind, Type
from gravel.profiling import forms, lists, relations, rules
from gravel.profiling.closer import DEPENDENCY, PAIR, CloserState, texts_in
from gravel.profiling.findings import stray_rows
from gravel.profiling.marks import DELIMITERS
from gravel.profiling.sample import Sample
from gravel.profiling.state import TOP, Gathered, TableState
from gravel.profiling.typed_values import typed_values
from gravel.sources.source import Source

_ALMOST = 0.05


class FirstAnswers(Struct, frozen=True):
    """What the distinct values of the first pass say: of each column, of the shapes in each, and
    how many rows are equal to an earlier one, NULLs taken as equal."""

    columns: list[Gathered]
    shapes: list[Top]
    repeated: int


class SecondPass:
    """What only the whole could decide, in one more pass over the columns that need it."""

    def __init__(
        self, table: Source, read_from: Source | Sample, first: TableState, said: FirstAnswers
    ) -> None:
        self.table, self.read_from, self.first = table, read_from, first
        self.gathered, self.shapes, self.repeated = said.columns, said.shapes, said.repeated
        self.engine = read_from.engine
        self.types = table.types(range(len(table.columns)))
        self.texts: dict[int, dict[int, str]] = {
            index: dict(state.texts.values()) for index, state in enumerate(first.columns)
        }
        self.by_value = typed_values(read_from, self._ambiguous(), TOP, first.room.values)

    def run(self) -> None:
        """Decide, then read again."""
        width = range(len(self.table.columns))
        self._look_up({i: self._samples(i) for i in width})
        self.lists = {i: sign for i in width if (sign := self._delimiter(i))}
        self.forms = {i: result for i in width if (result := self._forms(i))}
        self._candidates()
        self.rules = self._likely_rules()
        wanted = {i: self._wanted(i) | {row for row, _ in self.shapes[i].best} for i in width}
        self._deepen(wanted)
        self._look_up(self._exception_rows())
        stray = stray_rows.rows_to_look_at(
            [result.totals for result in self.gathered],
            [result.mismatches for result in self.gathered],
        )
        self._look_up(
            {
                i: {*stray, *self.first.last, *(row for row, _ in result.totals)}
                for i, result in enumerate(self.gathered)
            }
        )

    def _ambiguous(self) -> dict[int, Type]:
        """The columns, with their types, whose texts do not tell their values apart."""
        return {
            index: kind
            for index, kind in self.types.items()
            if not self.first.columns[index].by_type and _ambiguous(self.table, index, kind)
        }

    def _samples(self, index: int) -> set[int]:
        result, state = self.gathered[index], self.first.columns[index]
        rows: set[int] = set()
        if self.types[index] != TEXT:
            shortest = state.bounds.shortest[0] if state.bounds.shortest else 0
            return (
                set(result.sample.get("all", []))
                if self.types[index].kind is Kind.INTEGER and shortest >= 10
                else rows
            )
        # Forms have two characters at least, none is common in text that is mostly without its
        # signs.
        if state.bounds.longest and state.bounds.longest[0] >= 2:
            rows |= set(result.sample.get("all", []))
        for name in DELIMITERS:
            if name in result.sample:
                rows |= {*result.sample[name], *result.sample.get(f"not {name}", [])}
        return rows

    def _delimiter(self, index: int) -> str:
        if self.types[index] != TEXT:
            return ""
        result, texts = self.gathered[index], self.texts[index]
        best, most = "", 0
        for name, sign in DELIMITERS.items():
            if name not in result.sample:
                continue
            holding = [texts[row] for row in result.sample[name]]
            others = [texts[row] for row in result.sample.get(f"not {name}", [])]
            share = result.by_bit[name] / max(1, self.first.rows - self.first.columns[index].nulls)
            if result.by_bit[name] > most and lists.looks_like_one(sign, holding, others, share):
                best, most = lists.usual_delimiter(sign, holding), result.by_bit[name]
        return best

    def _forms(self, index: int) -> list[str]:
        rows = self.gathered[index].sample.get("all", [])
        result = self.gathered[index].sample_rows
        values = [(self.texts[index][row], result[row]) for row in rows if row in self.texts[index]]
        if self.types[index] != TEXT:
            return (
                [form for form in forms.forms_of(values) if form in ("LUHN", "ISBN", "GTIN")]
                if values
                else []
            )
        return forms.forms_of(values)

    def _candidates(self) -> None:
        """Keys, and the pairs and dependencies that the first rows do not refute."""
        rows, columns = self.first.rows, []
        self.keys: list[tuple[str, ...]] = []
        for index, name in enumerate(self.table.columns):
            state, matches = self.first.columns[index], self.gathered[index]
            distinct = self.distinct(index)  # where texts are as many, each is a value
            if rows and distinct == rows:
                self.keys.append((name,))
            elif distinct > 1 and matches.distinct == distinct and not self._has_exponents(index):
                columns.append(relations.DependencyCandidate(index, matches.distinct, state.nulls))
        columns = columns[: relations.COLUMNS]
        self.searched = len(columns)
        sample = {column.index: self.first.columns[column.index].sample() for column in columns}
        names = [
            column
            for column in columns
            if self.types[column.index].kind not in (Kind.DECIMAL, Kind.DOUBLE)
        ]
        self.pairs = relations.likely_pairs(names, sample, rows) if rows else []
        said = {column.index: self.gathered[column.index] for column in columns}
        self._look_up(
            {
                index: {*(row for row, _ in result.words), *result.blanks}
                for index, result in said.items()
            }
        )
        self.unsaid = {column.index: self._unsaid(column.index) for column in columns}
        sample = {
            index: relations.without(hashed[: relations.FEWER], self.unsaid[index])
            for index, hashed in sample.items()
        }
        self.dependencies = relations.likely_dependencies(columns, sample, rows) if rows else []

    def _has_exponents(self, index: int) -> bool:
        """Whether a column of texts is results of a calculation, which are neither keys nor what
        says another column's value: numbers of which one in a hundred has an exponent."""
        bits, known = self.gathered[index].by_bit, self.first.rows - self.first.columns[index].nulls
        numbers = bits.get("DOUBLE PRECISION", 0)
        return numbers * 2 > known and (numbers - bits.get("DECIMAL", 0)) * 100 > numbers

    def _likely_rules(self) -> list[rules.ColumnRule]:
        """Rules that the first rows suggest, or those of a sample."""
        places = rules.columns_of_rules(self.table.columns, self.types)
        if not places:
            return []
        head = not isinstance(self.read_from, Sample)
        work = OfBatch(partial(rules.first_values, self.types, places, head), places)
        splits = self.read_from.holding(range(1, rules.HEAD + 1))
        parts = list(self.engine.map_splits(self.read_from, work, places, splits))
        values = {
            place: np.concatenate([np.zeros(0), *(part[place] for part in parts)])
            for place in places
        }
        return rules.likely_rules(self.table.columns, self.types, values)

    def _unsaid(self, index: int) -> np.ndarray:
        """Hashes of a column's values that say nothing: '', blank ones and the words for it."""
        result = self.gathered[index]
        words = [
            self.texts[index][row] for row in (*(row for row, _ in result.words), *result.blanks)
        ]
        return (
            hashes(pa.array(["", *words], pa.string()))
            if self.types[index] == TEXT
            else np.zeros(0, np.uint64)
        )

    def distinct(self, index: int) -> int:
        return (
            self.by_value[index].distinct
            if index in self.by_value
            else self.gathered[index].distinct
        )

    def _wanted(self, index: int) -> set[int]:
        result = self.gathered[index]
        rows = {row for row, _ in result.top} | {row for row, _ in result.words}
        rows |= {row for mismatch in result.mismatches.values() for row, _ in mismatch}
        rows |= {row for group in result.spellings for row, _ in group} | {
            row for row, _ in result.every
        }
        if self.is_almost_key(index):
            rows |= {row for row, _ in result.repeated}
        if result.numbers is not None:
            rows |= {row for row in result.numbers[1:] if row}
        return rows

    def is_almost_key(self, index: int) -> bool:
        rows, result, state = self.first.rows, self.gathered[index], self.first.columns[index]
        spoiling = result.repeated_rows + state.nulls
        # Days and fractions are measures: that few of them are alike makes no key of them.
        bits = result.by_bit
        measures = bits.get("day", 0) + bits.get("DECIMAL", 0) - bits.get("INTEGER", 0)
        if (
            self.types[index].kind not in (Kind.TEXT, Kind.INTEGER)
            or index in self.by_value
            or measures * 2 > rows
        ):
            return False
        return rows >= 10 and 0 < spoiling <= _ALMOST * rows

    def _deepen(self, texts: dict[int, set[int]]) -> None:
        """The second pass proper, which looks up texts on its way; where texts are all it is for,
        only the pieces that hold them are read."""
        related = [*self.pairs, *self.dependencies]
        ruled = {i for rule in self.rules for i in rule.columns}
        wanted = sorted({*self.lists, *self.forms, *ruled, *(i for pair in related for i in pair)})
        missing = self._missing(texts) if wanted else {}
        self.closer = CloserState(
            self.lists,
            self.forms,
            self.pairs,
            self.dependencies,
            self.unsaid,
            self.rules,
            tuple(self.types[i] for i in range(len(self.types))),
            missing,
            self.first.room,
        )
        if not wanted:
            self._look_up(texts)
            return
        self.engine.run(self.closer, self.read_from, sorted({*wanted, *missing}))
        for index, by_row in self.closer.texts.items():
            self.texts[index].update(by_row)

    def _exception_rows(self) -> dict[int, set[int]]:
        """Settle pairs and dependencies; the rows whose texts tell the exceptions, by column."""
        distinct = self.closer.distinct
        commonest = [result.top[0][1] if result.top else 0 for result in self.gathered]
        sizes: list[Question[Any, Any]] = [
            Question(distinct[PAIR, pair], range_size, sum) for pair in self.pairs
        ]
        dependencies: list[Question[Any, Any]] = [
            Question(
                distinct[DEPENDENCY, pair],
                relations.range_exceptions,
                partial(relations.dependency, commonest[pair[1]]),
            )
            for pair in self.dependencies
        ]
        answers = self.engine.ask([*sizes, *dependencies], 1)
        self.pair_keys = [
            pair for pair, size in zip(self.pairs, answers, strict=False) if size == self.first.rows
        ]
        self.determined: list[tuple[int, int, relations.Dependency]] = []
        wanted: dict[int, set[int]] = {}
        results = answers[len(self.pairs) :]
        for (by, column), result in zip(self.dependencies, results, strict=True):
            if result is None:
                continue
            self.determined.append((by, column, result))
            for row, _, usual in result.exceptions or ():
                wanted.setdefault(by, set()).add(row)
                wanted.setdefault(column, set()).update((row, usual))
        return wanted

    def _look_up(self, wanted: dict[int, set[int]]) -> None:
        """Texts of some columns in some source rows, in one pass over the pieces that hold them."""
        missing = self._missing(wanted)
        if missing:
            rows = distinct_values(np.concatenate(list(missing.values()))).tolist()
            work = OfBatch(partial(texts_in, missing), sorted(missing))
            splits = self.read_from.holding(rows)
            for result in self.engine.map_splits(self.read_from, work, sorted(missing), splits):
                for index, by_row in result.items():
                    self.texts[index].update(by_row)

    def _missing(self, wanted: dict[int, set[int]]) -> dict[int, np.ndarray]:
        """Of the wanted rows of each column those whose texts are not known yet, ascending."""
        left = {i: rows - self.texts[i].keys() for i, rows in wanted.items()}
        return {i: np.array(sorted(rows), np.int64) for i, rows in left.items() if rows}


def _ambiguous(table: Source, index: int, kind: Type) -> bool:
    if kind == TEXT:
        return False
    if kind == DOUBLE and not (
        index in table.fittings and {Kind.INTEGER, Kind.DECIMAL} & table.fittings[index].kinds
    ):
        return True  # one with an exponent is ordered by its value, not by its text
    return (index in table.fittings and not table.fittings[index].uniform) or table.columns[
        index
    ] in table.declared
