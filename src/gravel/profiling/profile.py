"""The profile of a table: a state for each batch and column, an associative merge, then one more
pass over what only the whole could decide (texts of the winners, lists, forms, pairs of
columns)."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from datetime import date
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.arrow_values import text_of
from gravel.engine.distinct import Counted, Room
from gravel.engine.frame import view
from gravel.engine.frequent import Frequent, FrequentPart, frequent_part
from gravel.engine.hashing import hashes
from gravel.engine.known_values import KnownValues
from gravel.engine.memory import DEFAULT_MEMORY
from gravel.engine.parallel import ordered_map
from gravel.engine.sets import distinct_values
from gravel.kernels.rules import tidied
from gravel.language.functions.casts import to_text
from gravel.language.functions.damage import SURE_PLACEHOLDERS
from gravel.language.functions.spelling import match_key, shape
from gravel.language.types import DOUBLE, TEXT, Kind, Type
from gravel.profiling import fits, forms, lists, relations, spread
from gravel.profiling.column_kind import is_code_list
from gravel.profiling.findings import findings
from gravel.profiling.marks import DELIMITERS
from gravel.profiling.partial import ColumnPartial, part_of
from gravel.profiling.result import (
    AlmostKey,
    ColumnProfile,
    Damage,
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
    SHAPES,
    TOP,
    ColumnState,
    Gathered,
    RowDistinctState,
    gather,
    whole_rows,
)
from gravel.sources.source import Batch, Malformed, Source
from gravel.sources.type_inference import Fitting

_BYTES_A_VALUE = 120  # as they are held, and while two parts are put together
_MOST_KNOWN = 1 << 18  # values of a column that are not looked at anew in each batch
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
    room = Room(max(4, memory // _BYTES_A_VALUE))
    first = _FirstPass(table, drawn or table, room)
    first.run()
    table.settle({i: state.fitting for i, state in enumerate(first.states)})
    width = range(len(table.columns))
    types = table.types(width)
    # Columns of few rows are work for the interpreter, of which there is one.
    small = first.rows < _SHORT
    in_files = not all(state.values.in_memory for state in first.states)
    # What is read from files takes memory for each thread.
    threads = 1 if small or in_files else None
    gathered = list(
        ordered_map(
            lambda i: gather(first.states[i], types[i] == TEXT, room.values), width, threads
        )
    )
    second = _SecondPass(table, room, first, gathered)
    second.run()
    day = today or date.today()
    columns = tuple(ordered_map(lambda i: second.column(i, day), width, threads))
    facts = second.facts(columns)
    result = findings(columns, facts, first.rows)
    message = None if drawn is None else SampleInfo(first.rows, drawn.of)
    return Profile(
        table.name,
        first.rows,
        columns,
        facts,
        result,
        tuple(first.malformed),
        tuple(table.notes),
        table.read_as,
        message,
    )


class _FirstPass:
    """States of all columns, whole rows, and the first rows' hashes."""

    def __init__(self, table: Source, read_from: Source | Sample, room: Room) -> None:
        self.table, self.read_from = table, read_from
        width = len(table.columns)
        most = min(_MOST_KNOWN, room.values // (8 * width))
        self.states = [ColumnState(room, KnownValues(most)) for _ in range(width)]
        self.whole = RowDistinctState(room)
        self.rows = 0
        self.malformed: list[Malformed] = []
        self.head: list[list[np.ndarray]] = [[] for _ in range(width)]

    def run(self) -> None:
        """Read the whole table."""
        table, width = self.table, len(self.table.columns)
        fixed = {
            i
            for i, name in enumerate(table.columns)
            if name in table.texts or name in table.declared
        }
        nothing = Fitting(frozenset())

        def work(
            piece: Any,
        ) -> tuple[int, tuple[Malformed, ...], list[ColumnPartial], Counted, list[np.ndarray]]:
            batch = self.read_from.read(piece)
            parts = [
                part_of(
                    batch.columns[i],
                    batch.rows,
                    nothing if i in fixed else self.states[i].fitting,
                    self.states[i].known,
                )
                for i in range(width)
            ]
            plain = [part.plain for part in parts]
            return batch.count, batch.malformed, parts, whole_rows(plain, batch.rows), plain

        for count, malformed, parts, whole, plain in ordered_map(work, self.read_from.pieces()):
            if self.rows < relations.SAMPLE:
                for kept, item in zip(self.head, plain, strict=True):
                    kept.append(item[: relations.SAMPLE - self.rows])
            self.rows += count
            self.malformed += malformed
            if count:
                self.whole.add(whole, count)
                for state, part in zip(self.states, parts, strict=True):
                    state.add(part)

    def sample(self, index: int) -> np.ndarray:
        """Hashes of a column's first values."""
        return np.concatenate(self.head[index]) if self.head[index] else np.zeros(0, np.uint64)


class _SecondPass:
    """What only the whole could decide, in one more pass over the columns that need it."""

    def __init__(
        self, table: Source, room: Room, first: _FirstPass, gathered: list[Gathered]
    ) -> None:
        self.table, self.room, self.first, self.gathered = table, room, first, gathered
        self.types = table.types(range(len(table.columns)))
        self.texts: dict[int, dict[int, str]] = {
            index: dict(state.texts.values()) for index, state in enumerate(first.states)
        }
        self.shape_examples: dict[int, list[tuple[int, int]]] = {}
        self.by_value: dict[int, tuple[Frequent, str | None, str | None]] = {}

    def run(self) -> None:
        """Decide, then read again."""
        width = range(len(self.table.columns))
        doubtful = [
            i
            for i in width
            if not self.first.states[i].by_type and _ambiguous(self.table, i, self.types[i])
        ]
        self.by_value = {i: _by_value(self.first, i, self.types[i]) for i in doubtful}
        self._look_up({i: self._samples(i) for i in width})
        self.lists = {i: sign for i in width if (sign := self._delimiter(i))}
        self.forms = {i: result for i in width if (result := self._forms(i))}
        self._candidates()
        tops = list(
            ordered_map(
                lambda i: self.first.states[i].shapes.top(SHAPES),
                width,
                1 if self.first.rows < _SHORT else None,
            )
        )
        wanted = {}
        for i in width:
            self.shape_examples[i] = tops[i]
            wanted[i] = self._wanted(i) | {row for row, _ in tops[i]}
        self._deepen(wanted)
        self._look_up(self._exception_rows())

    def _samples(self, index: int) -> set[int]:
        result, state = self.gathered[index], self.first.states[index]
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
            share = result.by_bit[name] / max(1, self.first.rows - self.first.states[index].nulls)
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
            state, matches = self.first.states[index], self.gathered[index]
            distinct = self._distinct(index)
            if rows and distinct == rows:
                self.keys.append((name,))
            elif distinct > 1 and index not in self.by_value:
                columns.append(relations.DependencyCandidate(index, matches.distinct, state.nulls))
        columns = columns[: relations.COLUMNS]
        self.searched = len(columns)
        sample = {column.index: self.first.sample(column.index) for column in columns}
        room = self.room
        names = [
            column
            for column in columns
            if self.types[column.index].kind not in (Kind.DECIMAL, Kind.DOUBLE)
        ]
        self.pairs = (
            relations.new_pairs(relations.likely_pairs(names, sample, rows), room) if rows else {}
        )
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
        self.dependencies = (
            relations.new_pairs(relations.likely_dependencies(columns, sample, rows), room)
            if rows
            else {}
        )

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
            len(self.by_value[index][0].distinct)
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
        rows, result, state = self.first.rows, self.gathered[index], self.first.states[index]
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
        self.list_parts = dict.fromkeys(self.lists, lists.ListPart())
        self.form_states = {
            (i, form): forms.FormState() for i, subset in self.forms.items() for form in subset
        }
        related = [*self.pairs, *self.dependencies]
        wanted = sorted({*self.lists, *self.forms, *(i for pair in related for i in pair)})
        if not wanted:
            self._look_up(texts)
            return
        missing = self._missing(texts)

        def work(
            piece: Any,
        ) -> tuple[
            dict[int, Any], dict[tuple[int, str], Any], list[Counted], list[Counted], _Texts
        ]:
            batch = self.first.read_from.read(piece, sorted({*wanted, *missing})).texts()
            columns = batch.columns
            hashed = {i: hashes(columns[i]) for i in {i for pair in related for i in pair}}
            said = {
                i: relations.without(hashed[i], self.unsaid[i])
                for i in {i for pair in self.dependencies for i in pair}
            }
            return (
                {i: lists.list_part(columns[i], sign) for i, sign in self.lists.items()},
                {(i, form): forms.form_part(columns[i], form) for i, form in self.form_states},
                [relations.pair_part(hashed[a], hashed[b], batch.rows) for a, b in self.pairs],
                [relations.known_pairs(said[a], said[b], batch.rows) for a, b in self.dependencies],
                _texts_of(batch, missing),
            )

        for list_parts, form_parts, pairs, dependencies, result in ordered_map(
            work, self.first.read_from.pieces()
        ):
            self._keep(result)
            for index, part in list_parts.items():
                self.list_parts[index] = self.list_parts[index].merge(part)
            for key, output in form_parts.items():
                self.form_states[key].add(output)
            for state, counted in zip(
                [*self.pairs.values(), *self.dependencies.values()],
                [*pairs, *dependencies],
                strict=True,
            ):
                state.add(counted)

    def _exception_rows(self) -> dict[int, set[int]]:
        """Settle pairs and dependencies; the rows whose texts tell the exceptions, by column."""
        rows = self.first.rows
        self.pair_keys = [pair for pair, state in self.pairs.items() if len(state) == rows]
        self.determined: list[tuple[int, int, relations.Dependency]] = []
        wanted: dict[int, set[int]] = {}
        for (by, column), state in self.dependencies.items():
            common = self.gathered[column].top[0][1] if self.gathered[column].top else 0
            result = relations.dependency(state, common)
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
            columns = sorted(missing)
            holding = self.first.read_from.holding(
                distinct_values(np.concatenate(list(missing.values()))).tolist()
            )
            for result in ordered_map(
                lambda piece: _texts_of(self.first.read_from.read(piece, columns), missing), holding
            ):
                self._keep(result)

    def _missing(self, wanted: dict[int, set[int]]) -> dict[int, np.ndarray]:
        """Of the wanted rows of each column those whose texts are not known yet, ascending."""
        left = {i: rows - self.texts[i].keys() for i, rows in wanted.items()}
        return {i: np.array(sorted(rows), np.int64) for i, rows in left.items() if rows}

    def _keep(self, result: _Texts) -> None:
        for index, rows, texts in result:
            self.texts[index].update(zip(rows, texts, strict=True))

    # -- results
    def column(self, index: int, today: date) -> ColumnProfile:
        """One column's profile."""
        table, state, matches = self.table, self.first.states[index], self.gathered[index]
        kind, texts, bits = self.types[index], self.texts[index], self.gathered[index].by_bit
        known = self.first.rows - state.nulls
        low, high = state.bounds.low, state.bounds.high
        top = tuple((texts[row], count) for row, count in matches.top)
        if index in self.by_value:
            # One value may be written in two ways here: values are compared, in a pass over this
            # column alone.
            frequent, low, high = self.by_value[index]
            top = tuple(
                (shown[0] or "", count)
                for shown, count in frequent.top(
                    TOP, lambda rows: _texts_at(self.first, index, kind, rows)
                )
            )
        elif kind.kind in (Kind.INTEGER, Kind.DECIMAL) and state.bounds.low_number is not None:
            low, high = (
                format(state.bounds.low_number, "f" if kind.kind is Kind.DECIMAL else ""),
                format(state.bounds.high_number, "f" if kind.kind is Kind.DECIMAL else ""),
            )
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
        part = self.list_parts.get(index)
        output = ColumnProfile(
            name=table.columns[index],
            type=kind,
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
            distinct_shapes=len(state.shapes),
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
                self.form_states[index, form].result(form) for form in self.forms.get(index, ())
            ),
            all_values=_ranked((texts[row], rows) for row, rows in matches.every),
        )
        return _without_words_that_are_values(output, known)

    def _fits(self, index: int) -> tuple[Fit, ...]:
        result, texts = self.gathered[index], self.texts[index]
        results = []
        for item in fits.CANDIDATES:
            rows = result.by_bit.get(item.name, 0)
            if item.template:
                template = item.target.format or ""
                strict = fits.STRICTER.get(template)
                if not rows or (strict and rows == result.by_bit.get(f"form {strict}", 0)):
                    continue
            results.append(
                Fit(
                    item.type,
                    rows,
                    _ranked(
                        (texts[row], count) for row, count in result.mismatches.get(item.name, ())
                    ),
                )
            )
        return tuple(results)

    def _shapes(self, index: int) -> tuple[ValueShape, ...]:
        tops = self.shape_examples[index]
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
        if not first.whole.repeated:
            return False
        equal = 1.0  # the probability that two rows are
        for result, state in zip(self.gathered, first.states, strict=True):
            equal *= (result.squares + state.nulls**2) / rows**2
        return rows * (rows - 1) / 2 * equal >= _BY_CHANCE * first.whole.repeated

    def facts(self, columns: tuple[ColumnProfile, ...]) -> TableFacts:
        """What is said of the table as a whole."""
        names, first = self.table.columns, self.first
        together: dict[tuple[int, int], list[str]] = {}
        almost = []
        for index, state in enumerate(first.states):
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
                    (self.texts[by][row], self.texts[column][row], rows, self.texts[column][usual])
                    for row, rows, usual in dependency.exceptions
                )
            determined.append(Determined(names[by], names[column], dependency.rows, exceptions))
        pairs = [(names[a], names[b]) for a, b in self.pair_keys]
        return TableFacts(
            first.whole.repeated,
            (*self.keys, *pairs),
            tuple(almost),
            tuple(tuple(group) for group in together.values() if len(group) > 1),
            tuple(determined),
            self.searched,
            {} if isinstance(self.first.read_from, Sample) else self.table.mismatches,
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
    for (day_first, month_first), rows in gathered.both.items():
        counts = [
            gathered.by_bit.get(f"form {form}", 0) - rows for form in (day_first, month_first)
        ]
        stricter = fits.STRICTER.get(day_first, "")
        if not rows or (
            stricter in results
            and results[stricter] == Orders(stricter, results[stricter].month_first, rows, *counts)
        ):
            continue
        results.pop(stricter, None)
        results[day_first] = Orders(day_first, month_first, rows, *counts)
    return tuple(results.values())


_Texts = list[tuple[int, list[int], list[str]]]


def _texts_of(batch: Batch, wanted: dict[int, np.ndarray]) -> _Texts:
    """(column, rows, texts) of the wanted rows that a batch has."""
    results: _Texts = []
    if not batch.count:
        return results
    for index, asked in wanted.items():
        rows = asked[
            np.searchsorted(asked, batch.rows[0]) : np.searchsorted(
                asked, batch.rows[-1], side="right"
            )
        ]
        if len(rows):
            texts = text_of(batch.columns[index].take(pa.array(np.searchsorted(batch.rows, rows))))
            results.append((index, rows.tolist(), texts.to_pylist()))
    return results


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


def _by_value(first: _FirstPass, index: int, kind: Type) -> tuple[Frequent, str | None, str | None]:
    """Distinct values, least and greatest of a column by its type instead of by its texts; type
    mismatches are left out."""
    frequent = Frequent()
    low: Any = None
    high: Any = None

    def work(piece: Any) -> tuple[FrequentPart | None, Any, Any]:
        batch = first.read_from.read(piece, [index])
        values = view(batch.columns[index], kind).values
        good = pc.is_valid(values)
        subset = values.filter(good)
        if not len(subset):
            return None, None, None
        bounds = list(pc.min_max(subset).values())
        texts = to_text(subset, kind)
        rows = batch.rows[good.to_numpy(zero_copy_only=False)]
        return frequent_part([texts], rows), bounds[0], bounds[1]

    for part, least, most in ordered_map(work, first.read_from.pieces()):
        if part is not None:
            frequent.add(part)
            low = least if low is None or least.as_py() < low.as_py() else low
            high = most if high is None or most.as_py() > high.as_py() else high
    shown = [
        None if bound is None else to_text(pa.array([bound.as_py()], kind.arrow), kind)[0].as_py()
        for bound in (low, high)
    ]
    return frequent, shown[0], shown[1]


def _texts_at(
    first: _FirstPass, index: int, kind: Type, rows: list[int]
) -> dict[int, tuple[str | None, ...]]:
    """The texts of a column's values in some source rows."""
    results: dict[int, tuple[str | None, ...]] = {}
    for piece in first.read_from.holding(rows):
        batch = first.read_from.read(piece, [index])
        texts = to_text(view(batch.columns[index], kind).values, kind)
        for row in rows:
            position = int(np.searchsorted(batch.rows, row))
            if position < batch.count and batch.rows[position] == row:
                results[row] = (texts[position].as_py(),)
    return results
