"""The profile of a table: a state for each batch and column, an associative merge, then one more
pass over what only the whole could decide (texts of the winners, lists, forms, pairs of
columns)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from datetime import date
from decimal import Decimal
from functools import partial
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct

from gravel.engine.distinct import Top, range_size, range_top, whole_top
from gravel.engine.engine import Engine, OfBatch, Question
from gravel.engine.hashing import hashes
from gravel.engine.memory import DEFAULT_MEMORY, give_back_freed_blocks
from gravel.engine.parallel import ordered_map
from gravel.engine.sets import distinct_values
from gravel.inspecting.commands import see_command
from gravel.kernels.rules import tidied
from gravel.language.functions.casts import to_text
from gravel.language.functions.damage import SURE_PLACEHOLDERS
from gravel.language.functions.spelling import match_key, shape
from gravel.language.types import DOUBLE, TEXT, Kind, Type
from gravel.profiling import fits, forms, lists, relations, spread
from gravel.profiling.closer import DEPENDENCY, PAIR, CloserState, texts_in
from gravel.profiling.column_kind import is_code_list
from gravel.profiling.day_forms import MONTH_NAMES, RIVALS, STRICTER, TARGETS
from gravel.profiling.findings import findings
from gravel.profiling.marks import DELIMITERS
from gravel.profiling.result import (
    AlmostKey,
    ColumnProfile,
    Damage,
    DependencyException,
    Determined,
    Fit,
    Lengths,
    LetterCaseCounts,
    Orders,
    Profile,
    SampleInfo,
    Spaces,
    Spelling,
    TableFacts,
    ValueRows,
    ValueShape,
)
from gravel.profiling.sample import Sample, draw
from gravel.profiling.state import (
    ROW,
    SHAPE,
    SHAPES,
    TOP,
    VALUE,
    Gathered,
    TableState,
    gather,
    range_figures,
)
from gravel.profiling.typed_values import typed_values
from gravel.sources.source import Source

_BYTES_A_VALUE = 120  # as they are held, and while two parts are put together
_ALMOST = 0.05
_SHORT = 50_000


def profile(
    table: Source,
    *,
    today: date | None = None,
    memory: int = DEFAULT_MEMORY,
    sample: int | None = None,
) -> Profile:
    """Profile every column. `memory` bounds what distinct values are held in; `sample` looks at so
    many rows only, chosen evenly by a hash of their numbers. Raises TableProblem."""
    drawn = None if sample is None else draw(table, sample)
    read_from = drawn or table
    room = max(4, memory // _BYTES_A_VALUE)
    fixed = (i for i, name in enumerate(table.columns) if name in {*table.texts, *table.declared})
    width = range(len(table.columns))
    first = TableState(len(width), frozenset(fixed), room)
    read_from.engine.run(first, read_from)
    table.settle({i: state.fitting for i, state in enumerate(first.columns)})
    types = table.types(width)
    # Columns of few rows are work for the interpreter, of which there is one.
    threads = 1 if first.rows < _SHORT or not first.in_memory else None
    said = _ask_values(read_from.engine, first, types, threads)
    first.forget_values()
    if threads == 1:
        give_back_freed_blocks()
    second = _SecondPass(table, read_from, first, said)
    second.run()
    day = today or date.today()
    columns = tuple(ordered_map(lambda i: second.column(i, day), width, threads))
    facts = second.facts(columns)
    result = tuple(
        replace(item, see=see_command(table, item.where, item.finding) or None)
        for item in findings(columns, facts, first.rows)
    )
    message = None if drawn is None else SampleInfo(first.rows, drawn.of)
    return Profile(
        table.name,
        first.rows,
        facts,
        result,
        columns,
        tuple(first.malformed),
        tuple(table.notes),
        table.read_as,
        message,
    )


class FirstAnswers(Struct, frozen=True):
    """What the distinct values of the first pass say: of each column, of the shapes in each, and
    how many rows are equal to an earlier one, NULLs taken as equal."""

    columns: list[Gathered]
    shapes: list[Top]
    repeated: int


def _ask_values(
    engine: Engine, first: TableState, types: Mapping[int, Type], threads: int | None
) -> FirstAnswers:
    width = range(len(types))
    values: list[Question[Any, Any]] = [
        Question(
            first.distinct[VALUE, i],
            partial(range_figures, types[i] == TEXT),
            partial(gather, types[i] == TEXT, first.room.values),
        )
        for i in width
    ]
    shapes: list[Question[Any, Any]] = [
        Question(first.distinct[SHAPE, i], partial(range_top, SHAPES), partial(whole_top, SHAPES))
        for i in width
    ]
    rows: Question[Any, Any] = Question(first.distinct[ROW], range_size, sum)
    *answers, distinct_rows = engine.ask([*values, *shapes, rows], threads)
    return FirstAnswers(answers[: len(width)], answers[len(width) :], first.rows - distinct_rows)


class _SecondPass:
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
        wanted = {i: self._wanted(i) | {row for row, _ in self.shapes[i].best} for i in width}
        self._deepen(wanted)
        self._look_up(self._exception_rows())

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
                [form for form in forms.forms_of(values) if form in ("LUHN", "ISBN")]
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
            distinct = self._distinct(index)
            if rows and distinct == rows:
                self.keys.append((name,))
            elif distinct > 1 and index not in self.by_value:
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

    def _distinct(self, index: int) -> int:
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
        if self._almost_key(index):
            rows |= {row for row, _ in result.repeated}
        if result.numbers is not None:
            rows |= {row for row in result.numbers[1:] if row}
        return rows

    def _almost_key(self, index: int) -> bool:
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
        wanted = sorted({*self.lists, *self.forms, *(i for pair in related for i in pair)})
        missing = self._missing(texts) if wanted else {}
        self.closer = CloserState(
            self.lists,
            self.forms,
            self.pairs,
            self.dependencies,
            self.unsaid,
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

    # -- results
    def column(self, index: int, today: date) -> ColumnProfile:
        """One column's profile."""
        table, state, matches = self.table, self.first.columns[index], self.gathered[index]
        kind, texts, bits = self.types[index], self.texts[index], self.gathered[index].by_bit
        known = self.first.rows - state.nulls
        low, high = state.bounds.low, state.bounds.high
        top = tuple((texts[row], count) for row, count in matches.top)
        if index in self.by_value:
            # One value may be written in two ways here: values are compared, in a pass over this
            # column alone.
            typed = self.by_value[index]
            top, low, high = typed.top, typed.low, typed.high
        elif kind.kind in (Kind.INTEGER, Kind.DECIMAL) and state.bounds.low_number is not None:
            low, high = (_digits(state.bounds.low_number), _digits(state.bounds.high_number))
        elif kind == DOUBLE and state.by_type:
            low, high = to_text(
                pa.array([state.bounds.low_number, state.bounds.high_number], pa.float64()), DOUBLE
            ).to_pylist()

        def count(name: str) -> int:
            return bits.get(name, 0)

        upper, lower, capitalised, mixed = (
            count(name) for name in ("upper", "lower", "capitalised", "mixed")
        )
        spellings = self._spellings(index) if kind == TEXT else ()
        lengths = Lengths(
            state.bounds.shortest[0] if state.bounds.shortest else None,
            state.bounds.longest[0] if state.bounds.longest else None,
            state.total / known if known else None,
            state.bounds.shortest[1] if state.bounds.shortest else None,
            state.bounds.longest[1] if state.bounds.longest else None,
        )
        numbers = None
        if matches.numbers is not None:
            numbers, below, above = matches.numbers
            numbers = replace(
                numbers,
                far_low=texts[below] if below else None,
                far_high=texts[above] if above else None,
            )
        days = (
            None
            if matches.days is None
            else spread.dates(*spread.settled_days(*matches.days), today)
        )
        part = self.closer.list_parts.get(index)
        output = ColumnProfile(
            name=table.columns[index],
            type=kind,
            rows=self.first.rows,
            nulls=state.nulls,
            empty=count("empty"),
            blank=count("blank"),
            padded=count("padded"),
            distinct=self._distinct(index),
            min=low,
            max=high,
            length=lengths,
            top=top,
            spaces=Spaces(
                count("leading"),
                count("trailing"),
                count("runs"),
                count("odd"),
                count("control"),
                count("untidy"),
                count("ends"),
                count("inner"),
                count("lines"),
            ),
            case=LetterCaseCounts(
                upper, lower, capitalised, mixed, known - upper - lower - capitalised - mixed
            ),
            fits=self._fits(index) if kind == TEXT and known else (),
            both_orders=_orders(matches),
            loses=count("loses"),
            shapes=self._shapes(index),
            distinct_shapes=self.shapes[index].distinct,
            spellings=spellings,
            spelling_groups=max(
                len(spellings),
                matches.spelling_groups if len(matches.spellings) < matches.spelling_groups else 0,
            ),
            placeholders=_ranked((texts[row], rows) for row, rows in matches.words),
            placeholder_rows=count("placeholder"),
            list=part.result(self.lists[index]) if part and part.rows else None,
            damage=Damage(count("misdecoded"), count("replacement"), count("formula")),
            numbers=numbers,
            dates=days,
            forms=tuple(
                self.closer.form_states[index, form].result(form)
                for form in self.forms.get(index, ())
            ),
            all_values=_ranked((texts[row], rows) for row, rows in matches.every),
        )
        return _without_words_that_are_values(output, known)

    def _fits(self, index: int) -> tuple[Fit, ...]:
        result, texts = self.gathered[index], self.texts[index]
        known = self.first.rows - self.first.columns[index].nulls

        def fit(name: str, rows: int, shown: str) -> Fit:
            mismatches = result.mismatches.get(name, ())
            return Fit(shown, rows, _ranked((texts[row], many) for row, many in mismatches), known)

        counts = {item.name: result.by_bit.get(item.name, 0) for item in fits.TYPES}
        results = [fit(item.name, counts[item.name], item.type) for item in fits.TYPES]
        counts |= result.by_template
        # A form of which every value is of the other too says nothing.
        for pair in MONTH_NAMES:
            names = sorted(pair, key=lambda name: (counts.get(name, 0), name != pair[1]))
            if result.both.get(pair, 0) == counts.get(names[0], 0):
                counts[names[0]] = 0
        for template, target in TARGETS.items():
            rows = counts.get(template, 0)
            if rows and rows != counts.get(STRICTER.get(template, "")):
                results.append(fit(template, rows, str(target)))
        return tuple(results)

    def _shapes(self, index: int) -> tuple[ValueShape, ...]:
        tops = self.shapes[index].best
        if not tops:
            return ()
        examples = [self.texts[index][row] for row, _ in tops]
        shapes = shape(pa.array(examples, pa.string())).to_pylist()
        return tuple(
            ValueShape(text, rows, example)
            for text, example, (_, rows) in zip(shapes, examples, tops, strict=True)
        )

    def _spellings(self, index: int) -> tuple[Spelling, ...]:
        """The groups, with their keys; hashes brought them together, the keys themselves confirm
        it."""
        results: list[Spelling] = []
        texts = self.texts[index]
        for group in self.gathered[index].spellings:
            values = [ValueRows(texts[row], rows) for row, rows in group]
            keys = match_key(pa.array([value.value for value in values], pa.string())).to_pylist()
            for key in dict.fromkeys(keys):
                subset = tuple(value for value, its in zip(values, keys, strict=True) if its == key)
                if key is not None and len(subset) > 1:
                    results.append(Spelling(key, subset))
        return tuple(results)

    def _repeated_by_chance(self) -> bool:
        rows, first = self.first.rows, self.first
        if not self.repeated:
            return False
        equal = 1.0  # the probability that two rows are
        for result, state in zip(self.gathered, first.columns, strict=True):
            equal *= (result.squares + state.nulls**2) / rows**2
        return rows * (rows - 1) / 2 * equal >= _BY_CHANCE * self.repeated

    def facts(self, columns: tuple[ColumnProfile, ...]) -> TableFacts:
        """What is said of the table as a whole."""
        names, first = self.table.columns, self.first
        together: dict[tuple[int, int], list[str]] = {}
        almost = []
        for index, state in enumerate(first.columns):
            if 0 < state.nulls < first.rows:
                together.setdefault((state.nulls, state.null_sum), []).append(names[index])
            if self._almost_key(index):
                result, texts = self.gathered[index], self.texts[index]
                values = None
                if result.repeated_values <= 200:
                    values = _ranked((texts[row], rows) for row, rows in result.repeated)
                almost.append(
                    AlmostKey(names[index], result.repeated_rows + state.nulls, state.nulls, values)
                )
        determined = []
        for by, column, dependency in self.determined:
            exceptions = None
            if dependency.exceptions is not None:
                exceptions = tuple(
                    DependencyException(
                        self.texts[by][row],
                        self.texts[column][row],
                        rows,
                        self.texts[column][usual],
                    )
                    for row, rows, usual in dependency.exceptions
                )
            determined.append(Determined(names[by], names[column], dependency.rows, exceptions))
        pairs = [(names[a], names[b]) for a, b in self.pair_keys]
        return TableFacts(
            self.repeated,
            (*self.keys, *pairs),
            tuple(almost),
            tuple(tuple(group) for group in together.values() if len(group) > 1),
            tuple(determined),
            self.searched,
            {} if isinstance(self.read_from, Sample) else self.table.mismatches,
            self._repeated_by_chance(),
            frozenset(self.table.binary),
        )


# of the repeated rows: so many pairs would be equal even if the columns had nothing to do with each
# other
_BY_CHANCE = 0.01


def _without_words_that_are_values(column_profile: ColumnProfile, known: int) -> ColumnProfile:
    """The column without the words for nothing that are values in it: in a key, in a list of codes,
    among titles."""
    if (
        not column_profile.placeholders
        or sum(word.rows for word in column_profile.placeholders) < column_profile.placeholder_rows
    ):
        return column_profile
    key, codes = column_profile.distinct == known > 1, is_code_list(column_profile, known)
    titles, few = column_profile.distinct * 2 > known, column_profile.distinct <= TOP

    def means_nothing(word: ValueRows) -> bool:
        if tidied(word.value).lower() in SURE_PLACEHOLDERS:
            return not (key and any(map(str.isalpha, word.value)))
        return not (
            key or titles or (codes and len(word.value) <= 3) or (word.rows == 1 and not few)
        )

    kept = tuple(word for word in column_profile.placeholders if means_nothing(word))
    return replace(
        column_profile,
        placeholders=kept,
        placeholder_rows=sum(word.rows for word in kept),
        all_placeholders=len(kept) == len(column_profile.placeholders),
    )


def _orders(gathered: Gathered) -> tuple[Orders, ...]:
    """The templates of two orders that some value fits both of; one with FM instead of that
    without, where it has more."""
    results: dict[str, Orders] = {}
    for day_first, month_first in RIVALS:
        rows = gathered.both.get((day_first, month_first), 0)
        counts = [gathered.by_template.get(form, 0) - rows for form in (day_first, month_first)]
        stricter = STRICTER.get(day_first, "")
        if not rows or (
            stricter in results
            and results[stricter] == Orders(stricter, results[stricter].month_first, rows, *counts)
        ):
            continue
        results.pop(stricter, None)
        results[day_first] = Orders(day_first, month_first, rows, *counts)
    return tuple(results.values())


def _ranked(result: Iterable[tuple[str, int]]) -> tuple[ValueRows, ...]:
    return tuple(ValueRows(*item) for item in result)


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


def _digits(number: Decimal | float | None) -> str:
    """An exact number as its digits, never with an exponent."""
    return format(number, "f") if isinstance(number, Decimal) else str(number)
