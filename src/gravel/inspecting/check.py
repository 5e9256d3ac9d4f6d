"""Conditions that every row, or a table as a whole, should hold: how many rows do, do not, are
unknown, cannot be decided."""

from __future__ import annotations

import re
from collections.abc import Callable, Hashable, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Annotated, Any

import numpy as np
import pyarrow as pa
from msgspec import Struct, field

from gravel.engine.evaluate import run
from gravel.engine.frame import Frame
from gravel.figures import Figures, NumberOf, Unlisted, figure
from gravel.inspecting.aggregates import (
    AggregatePartial,
    AggregateState,
    BoundAggregate,
    aggregates_in,
    bind_aggregate,
    one_row,
    part_of,
)
from gravel.inspecting.binding import columns_named, explaining, reads, scope_of
from gravel.inspecting.cautions import Caution, Sightings, Watch
from gravel.kernels.arrays import to_arrow
from gravel.language import nodes, parse, tree
from gravel.language.bind import bind, bind_condition
from gravel.language.diagnostics import Diagnostic
from gravel.language.errors import meaning, sqlstate
from gravel.language.scope import Given, Scope
from gravel.language.types import Kind, Type
from gravel.problems import DataProblem
from gravel.sinks.csv import encode
from gravel.sources.source import Batch, Chosen, Malformed, Source

EXAMPLES = 5
_NAMED = re.compile(r"\s*([^\W\d][\w \-]*?)\s*:\s+(?=\S)")


class Allowed(Struct, frozen=True):
    """How many rows need not hold: a number, or a share of all rows in percent."""

    count: int = 0
    percent: Decimal | None = None

    def most(self, rows: int) -> int:
        """The number for so many rows; a share is rounded down."""
        return self.count if self.percent is None else int(self.percent * rows / 100)


def allowance(text: int | str) -> Allowed:
    """An allowance as it is written: 12, or 0.1%. Raises ValueError."""
    match = re.fullmatch(r"(\d+)|(\d+(?:\.\d+)?) ?%", str(text).strip())
    if not match or (match[2] and Decimal(match[2]) > 100):
        raise ValueError(f"{text!r} is not a number of rows and no share such as 0.1%")
    return Allowed(int(match[1])) if match[1] else Allowed(0, Decimal(match[2]))


@dataclass(frozen=True)
class Example(Figures):
    """A row that does not hold: its number (None for the table as a whole), how (fails, unknown,
    error), what the condition read, the error's SQLSTATE."""

    row: int | None
    outcome: str
    values: dict[str, str | None]
    sqlstate: str | None = None


@dataclass(frozen=True)
class Check(Figures):
    """One condition. holds + fails + unknown + errors is the table's rows, or 1 where it is about
    the table as a whole (`whole`); bad: those that count against it; most: how many may."""

    name: str
    condition: str
    holds: int
    fails: int
    unknown: int
    errors: int
    bad: Unlisted[int]
    allowed: int
    whole_table: bool
    examples: tuple[Example, ...]

    @property
    @figure
    def passed(self) -> bool:
        """Whether no more rows than allowed count against it."""
        return self.bad <= self.allowed


@dataclass(frozen=True)
class Checked(Figures):
    """What `gravel check` tells. `bad_rows` are the source rows that some check about rows counts
    against; `remarks` are on the conditions. set_aside: the file that has those rows."""

    table: str
    rows: int
    checks: tuple[Check, ...]
    cautions: tuple[Caution, ...]
    malformed: NumberOf[Malformed]
    notes: Unlisted[tuple[str, ...]]
    read: dict[str, Any]  # how its text was read
    bad_rows: Annotated[int, "rows_that_do_not_hold"]
    remarks: tuple[str, ...] = ()
    set_aside: str | None = None
    where: Chosen | None = None


def named_condition(text: str) -> tuple[str, str]:
    """`NAME: CONDITION` in its parts; a condition alone is its own name."""
    result = _NAMED.match(text)
    return (result[1], text[result.end() :]) if result else (text.strip(), text)


class _RowCheck(Struct):
    """A condition about each row, bound."""

    name: str
    text: str
    condition: nodes.Expression
    counts: np.ndarray = field(default_factory=lambda: np.zeros(4, np.int64))
    examples: list[Example] = field(default_factory=list)


class _TableCheck(Struct):
    """A condition about the table as a whole."""

    name: str
    text: str
    tree: tree.Node
    states: list[AggregateState]


def check(
    table: Source,
    conditions: Sequence[tuple[str, str]],
    *,
    unknown_fails: bool = False,
    allowed: Allowed | None = None,
    given: Given | None = None,
    aside: Callable[[bytes], None] | None = None,
) -> Checked:
    """Decide (name, condition) pairs in one pass. `aside`, if given, takes the rows that count
    against some check as lines of CSV: numbers, names of checks, columns. Raises Diagnostic,
    TableProblem, DataProblem where an aggregate fails."""
    allowed = allowed or Allowed()
    syntax = [(parse.expression(text), text) for _, text in conditions]
    scope = scope_of(table, columns_named(syntax, table.columns), given)
    rules: list[_RowCheck | _TableCheck] = []
    for (name, text), (node, _) in zip(conditions, syntax, strict=True):
        result = aggregates_in(node)
        with explaining(table, scope):
            if result:
                _refuse_mixed(node, result, text)
                rules.append(
                    _TableCheck(
                        name,
                        text,
                        node,
                        [AggregateState(bind_aggregate(item, scope, text)) for item in result],
                    )
                )
            else:
                rules.append(_RowCheck(name, text, bind_condition(text, scope)))
    by_row = [rule for rule in rules if isinstance(rule, _RowCheck)]
    states = [state for rule in rules if isinstance(rule, _TableCheck) for state in rule.states]
    watch = Watch([(item.condition, item.text) for item in by_row])
    expressions = [
        *(item.condition for item in by_row),
        *(
            part
            for state in states
            for part in (state.bound.argument, state.bound.filter)
            if part is not None
        ),
    ]
    wanted = None if aside is not None else reads(expressions, len(table.columns))
    state = CheckState(scope.types, by_row, states, watch, unknown_fails, aside is not None)
    table.engine.run(state, table, wanted, aside)
    for index, aggregate in enumerate(states):
        aggregate.distinct = state.distinct[index]
    checks = tuple(
        (
            _row_check(rule, state.rows, unknown_fails, allowed)
            if isinstance(rule, _RowCheck)
            else _whole_check(rule, scope, table.name, unknown_fails)
        )
        for rule in rules
    )
    return Checked(
        table.name,
        state.rows,
        checks,
        watch.cautions(),
        tuple(state.malformed),
        tuple(table.notes),
        table.read_as,
        state.bad_rows,
        (*watch.days(), *watch.bounds()),
        where=table.chosen,
    )


_HOLDS, _FAILS, _UNKNOWN, _ERROR = range(4)
_OUTCOMES = ("holds", "fails", "unknown", "error")


class CheckPartial(Struct, frozen=True):
    """What a batch says: of each condition the rows by outcome and examples, of each aggregate its
    part; how many rows some condition counts against, and these as they are written."""

    rows: int
    malformed: tuple[Malformed, ...]
    counts: list[np.ndarray]
    examples: list[list[Example]]
    aggregates: list[AggregatePartial]
    seen: Sightings
    bad_rows: int
    beside: bytes | None = None


class CheckState:
    """The checks of a table so far: conditions about each row and aggregates, bound to columns of
    these types. `aside`: whether the rows that do not hold are asked for."""

    def __init__(
        self,
        types: Sequence[Type],
        checks: Sequence[_RowCheck],
        aggregates: Sequence[AggregateState],
        watch: Watch,
        unknown_fails: bool,
        aside: bool = False,
    ) -> None:
        self.types, self.checks, self.aggregates, self.watch = types, checks, aggregates, watch
        self.unknown_fails, self.aside = unknown_fails, aside
        self.distinct: dict[Hashable, Any] = {
            index: state.distinct for index, state in enumerate(aggregates)
        }
        self.rows = self.bad_rows = 0
        self.malformed: list[Malformed] = []

    def map(self, batch: Batch) -> CheckPartial:
        """See State."""
        frame = Frame(batch.count, batch.columns, self.types).remembering()
        outcomes = [_outcomes(item.condition, frame) for item in self.checks]
        against = [
            (kinds == _FAILS) | (kinds == _ERROR) | ((kinds == _UNKNOWN) & self.unknown_fails)
            for kinds, _ in outcomes
        ]
        bad = np.flatnonzero(np.any(against, axis=0)) if against else np.zeros(0, np.int64)
        return CheckPartial(
            batch.count,
            batch.malformed,
            [np.bincount(kinds, minlength=4) for kinds, _ in outcomes],
            [
                _examples(item.condition, kinds, errors, frame, batch.rows)
                for item, (kinds, errors) in zip(self.checks, outcomes, strict=True)
            ],
            [part_of(state.bound, frame, batch.rows) for state in self.aggregates],
            self.watch.count(frame),
            len(bad),
            self._set_aside(batch, against, bad) if self.aside and len(bad) else None,
        )

    def _set_aside(self, batch: Batch, against: list[np.ndarray], bad: np.ndarray) -> bytes:
        names = [item.name for item in self.checks]
        failed = [
            "; ".join(name for name, rows in zip(names, against, strict=True) if rows[place])
            for place in bad
        ]
        chosen = to_arrow(bad)
        columns = [column.take(chosen) for column in batch.texts().columns]
        numbers = pa.array([str(row) for row in batch.rows[bad]], pa.string())
        return encode([numbers, pa.array(failed, pa.string()), *columns])

    def add(self, part: CheckPartial) -> None:
        """See State."""
        self._count(part, part.counts, part.examples, part.seen)
        for state, aggregate in zip(self.aggregates, part.aggregates, strict=True):
            state.add(aggregate)

    def merge(self, later: CheckState) -> None:
        """See State."""
        self._count(
            later,
            [item.counts for item in later.checks],
            [item.examples for item in later.checks],
            later.watch.seen,
        )
        for state, other in zip(self.aggregates, later.aggregates, strict=True):
            state.merge(other)

    def _count(
        self,
        more: CheckPartial | CheckState,
        counts: Sequence[np.ndarray],
        examples: Sequence[list[Example]],
        seen: Sightings,
    ) -> None:
        self.rows += more.rows
        self.bad_rows += more.bad_rows
        self.malformed += more.malformed
        self.watch.add(seen)
        for item, rows, shown in zip(self.checks, counts, examples, strict=True):
            item.counts += rows
            _keep(item, shown)


def _outcomes(condition: nodes.Expression, frame: Frame) -> tuple[np.ndarray, np.ndarray | None]:
    """What each row comes to, and the codes of its errors."""
    decided = run(condition, frame)
    kinds = np.full(frame.count, _UNKNOWN)
    kinds[decided.true(frame.count)] = _HOLDS
    kinds[decided.false(frame.count)] = _FAILS
    kinds[decided.failed(frame.count)] = _ERROR
    return kinds, decided.errors


def _examples(
    condition: nodes.Expression,
    kinds: np.ndarray,
    errors: np.ndarray | None,
    frame: Frame,
    rows: np.ndarray,
) -> list[Example]:
    """The first rows of each kind but those that hold."""
    results = []
    read = [
        column for column in nodes.columns_read(condition) if frame.stored[column.index] is not None
    ]
    texts = (
        {column.index: frame.text(column.index) for column in read}
        if (kinds != _HOLDS).any()
        else {}
    )
    for kind in (_FAILS, _UNKNOWN, _ERROR):
        for position in np.flatnonzero(kinds == kind)[:EXAMPLES]:
            values = {column.name: texts[column.index][position].as_py() for column in read}
            state = (
                sqlstate(int(errors[position])) if kind == _ERROR and errors is not None else None
            )
            results.append(Example(int(rows[position]), _OUTCOMES[kind], values, state))
    return results


def _keep(check: _RowCheck, examples: list[Example]) -> None:
    for example in examples:
        if sum(known.outcome == example.outcome for known in check.examples) < EXAMPLES:
            check.examples.append(example)


def _row_check(check: _RowCheck, rows: int, unknown_fails: bool, allowed: Allowed) -> Check:
    holds, fails, unknown, errors = (int(count) for count in check.counts)
    bad = fails + errors + (unknown if unknown_fails else 0)
    order = {outcome: index for index, outcome in enumerate(_OUTCOMES)}
    examples = tuple(
        sorted(check.examples, key=lambda example: (order[example.outcome], example.row or 0))
    )
    return Check(
        check.name,
        check.text,
        holds,
        fails,
        unknown,
        errors,
        bad,
        allowed.most(rows),
        False,
        examples,
    )


def _refuse_mixed(node: tree.Node, result: list[tree.Aggregate], text: str) -> None:
    """Beside an aggregate a plain column has no one value."""
    inside = {id(child) for item in result for child in parse.walk(item)}
    for aggregate in result:
        for child in parse.walk(aggregate):
            if child is not aggregate and isinstance(child, tree.Aggregate):
                raise Diagnostic("an aggregate stands inside another", text, child.start, child.end)
    for child in parse.walk(node, queries=False):
        if isinstance(child, tree.Name) and id(child) not in inside:
            raise Diagnostic(
                f"{child.text} has many values, the aggregate beside it has one",
                text,
                child.start,
                child.end,
                hint="put it into an aggregate, or make two checks of it",
            )


def _whole_check(check: _TableCheck, scope: Scope, table: str, unknown_fails: bool) -> Check:
    for state in check.states:
        if state.failed:
            code, (count, first) = min(state.failed.items(), key=lambda item: item[1][1])
            written = check.text[state.bound.at[0] : state.bound.at[1]]
            rows = (
                f"1 row of {table}, row {first[0]:,}"
                if count == 1
                else f"{count:,} rows of {table}, first in {', '.join(f'{row:,}' for row in first)}"
            )
            raise DataProblem(
                f"{written} fails in {rows}: {sqlstate(code)}, {meaning(sqlstate(code))}",
                hint="guard it with CASE or FILTER (WHERE …)",
            )
    bounds: list[BoundAggregate] = [state.bound for state in check.states]
    names = tuple(check.text[bound.at[0] : bound.at[1]] for bound in bounds)
    places = {bound.at: index for index, bound in enumerate(bounds)}
    own = Scope(
        names,
        tuple(bound.type for bound in bounds),
        frozenset(),
        scope.given,
        lambda node: places.get((node.start, node.end)),
    )
    condition = bind(check.tree, own, check.text)
    if condition.type.kind not in (Kind.BOOLEAN, Kind.NULL):
        raise Diagnostic(
            f"a condition is needed here, this is {condition.type}",
            check.text,
            check.tree.start,
            check.tree.end,
            hint="compare it: … = …",
        )
    frame = Frame(1, one_row(check.states), own.types)
    kinds, errors = _outcomes(condition, frame)
    kind = int(kinds[0])
    holds, fails, unknown, failed = (int(kind == which) for which in range(4))
    values = {name: frame.text(index)[0].as_py() for index, name in enumerate(names)}
    why = sqlstate(int(errors[0])) if kind == _ERROR and errors is not None else None
    bad = int(kind in (_FAILS, _ERROR) or (kind == _UNKNOWN and unknown_fails))
    # A table as a whole holds or does not: an allowance is of rows.
    return Check(
        check.name,
        check.text,
        holds,
        fails,
        unknown,
        failed,
        bad,
        0,
        True,
        (Example(None, _OUTCOMES[kind], values, why),),
    )
