"""A profile put together from what its two passes have found: of each column, and of the table as a
whole."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from datetime import date
from decimal import Decimal

import pyarrow as pa

from gravel.kernels.rules import tidied
from gravel.language.functions.casts import to_text
from gravel.language.functions.damage import SURE_PLACEHOLDERS
from gravel.language.functions.spelling import match_key, shape
from gravel.language.types import DOUBLE, TEXT, Kind
from gravel.profiling import fits, spread
from gravel.profiling.column_kind import is_code_list
from gravel.profiling.day_forms import MONTH_NAMES, RIVALS, STRICTER, TARGETS
from gravel.profiling.findings.fit import FEW, best_fit
from gravel.profiling.findings.stray_rows import stray_rows
from gravel.profiling.result import (
    AlmostKey,
    ColumnProfile,
    Damage,
    DependencyException,
    Determined,
    Fit,
    KeptRule,
    Lengths,
    LetterCaseCounts,
    Orders,
    Spaces,
    Spelling,
    TableFacts,
    ValueRows,
    ValueShape,
)
from gravel.profiling.sample import Sample
from gravel.profiling.second_pass import SecondPass
from gravel.profiling.state import TOP, Gathered


class Assembly:
    """Puts the results of the passes together."""

    def __init__(self, passes: SecondPass) -> None:
        self.passes, self.table, self.first = passes, passes.table, passes.first
        self.types, self.texts = passes.types, passes.texts
        self.gathered, self.shapes = passes.gathered, passes.shapes

    def column(self, index: int, today: date) -> ColumnProfile:
        """One column's profile."""
        table, state, matches = self.table, self.first.columns[index], self.gathered[index]
        kind, texts, bits = self.types[index], self.texts[index], self.gathered[index].by_bit
        known = self.first.rows - state.nulls
        low, high = state.bounds.low, state.bounds.high
        top = tuple((texts[row], count) for row, count in matches.top)
        if index in self.passes.by_value:
            # One value may be written in two ways here: values are compared, in a pass over this
            # column alone.
            typed = self.passes.by_value[index]
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
        part = self.passes.closer.list_parts.get(index)
        output = ColumnProfile(
            name=table.columns[index],
            type=kind,
            rows=self.first.rows,
            nulls=state.nulls,
            empty=count("empty"),
            blank=count("blank"),
            padded=count("padded"),
            distinct=self.passes.distinct(index),
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
            loses_in_cast=count("loses"),
            shapes=self._shapes(index),
            distinct_shapes=self.shapes[index].distinct,
            variants=spellings,
            variant_groups=max(
                len(spellings),
                matches.spelling_groups if len(matches.spellings) < matches.spelling_groups else 0,
            ),
            placeholders=_placed(texts, matches.words),
            placeholder_rows=count("placeholder"),
            list=part.result(self.passes.lists[index]) if part and part.rows else None,
            damage=Damage(count("misdecoded"), count("replacement"), count("formula")),
            numbers=numbers,
            dates=days,
            formats=tuple(
                self.passes.closer.form_states[index, form].result(form)
                for form in self.passes.forms.get(index, ())
            ),
            all_values=_ranked((texts[row], rows) for row, rows in matches.every),
        )
        return _without_words_that_are_values(output, known)

    def _fits(self, index: int) -> tuple[Fit, ...]:
        result, texts = self.gathered[index], self.texts[index]
        known = self.first.rows - self.first.columns[index].nulls

        def fit(name: str, rows: int, shown: str) -> Fit:
            mismatches = result.mismatches.get(name, ())
            return Fit(shown, rows, _placed(texts, mismatches), known)

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
            ValueShape(text, rows, example, row)
            for text, example, (row, rows) in zip(shapes, examples, tops, strict=True)
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
        if not self.passes.repeated:
            return False
        equal = 1.0  # the probability that two rows are
        for result, state in zip(self.gathered, first.columns, strict=True):
            equal *= (result.squares + state.nulls**2) / rows**2
        return rows * (rows - 1) / 2 * equal >= _BY_CHANCE * self.passes.repeated

    def facts(self, columns: tuple[ColumnProfile, ...]) -> TableFacts:
        """What is said of the table as a whole."""
        names, first = self.table.columns, self.first
        together: dict[tuple[int, int], list[str]] = {}
        almost = []
        for index, state in enumerate(first.columns):
            if 0 < state.nulls < first.rows:
                together.setdefault((state.nulls, state.null_sum), []).append(names[index])
            if self.passes.is_almost_key(index):
                result, texts = self.gathered[index], self.texts[index]
                values = None
                if result.repeated_values <= 200:
                    values = _placed(texts, result.repeated)
                almost.append(
                    AlmostKey(names[index], result.repeated_rows + state.nulls, state.nulls, values)
                )
        determined = []
        for by, column, dependency in self.passes.determined:
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
        pairs = [(names[a], names[b]) for a, b in self.passes.pair_keys]
        totals = [
            _placed(self.texts[index], result.totals) for index, result in enumerate(self.gathered)
        ]
        stray = stray_rows(
            columns,
            totals,
            [self.texts[index] for index in range(len(names))],
            first.last if self.passes.repeated <= max(0, first.empty - 1) else (),
        )
        return TableFacts(
            first.empty,
            self.passes.repeated,
            (*self.passes.keys, *pairs),
            tuple(almost),
            tuple(tuple(group) for group in together.values() if len(group) > 1),
            tuple(determined),
            self.passes.searched,
            {} if isinstance(self.passes.read_from, Sample) else self.table.mismatches,
            self._repeated_by_chance(),
            frozenset(self.table.binary),
            stray,
            tuple(
                KeptRule(
                    rule.kind,
                    tuple(names[i] for i in rule.columns),
                    kept.holds,
                    kept.fails,
                    rule.broken,
                )
                for rule, kept in zip(self.passes.rules, self.passes.closer.rule_rows, strict=True)
                if kept.nearly_all
            ),
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
    best = best_fit(column_profile.fits)
    others = known - column_profile.placeholder_rows - column_profile.empty - column_profile.blank
    # Numbers and days are no titles, codes or names, of which such a word may be one.
    if best is not None and best.rows > (1 - FEW) * others:
        return column_profile

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


def _placed(texts: Mapping[int, str], result: Iterable[tuple[int, int]]) -> tuple[ValueRows, ...]:
    """Values by their first rows, which are told too."""
    return tuple(ValueRows(texts[row], rows, row) for row, rows in result)


def _digits(number: Decimal | float | None) -> str:
    """An exact number as its digits, never with an exponent."""
    return format(number, "f") if isinstance(number, Decimal) else str(number)
