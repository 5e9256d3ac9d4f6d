"""Aggregates of a query: what they are of, and what they come to."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct
from msgspec.structs import replace

from gravel.engine.aggregates import (
    STATES,
    CountState,
    GroupedValues,
    GroupState,
    result_type,
    state_of,
)
from gravel.engine.vector import Vector
from gravel.kernels.arrays import to_arrow
from gravel.language import building, tree
from gravel.language.types import BOOLEAN, INTEGER, NUMBERS, TEXT, Kind, Type
from gravel.querying import groups
from gravel.querying.account import Account
from gravel.querying.context import QueryContext
from gravel.querying.evaluation import ExpressionEvaluator, Memo
from gravel.querying.group_states import DistinctRows, FirstPlaces, RowsOfGroups
from gravel.querying.relation import Relation, as_type, taken
from gravel.querying.shapes import literal_text
from gravel.querying.text_extremes import TextExtremeState


class Input(Struct, frozen=True):
    """What an aggregate is of: its value a row (None for COUNT(*)), values beside it, the rows of
    its FILTER, its order."""

    name: str
    value: Vector | None
    kind: Type
    mask: np.ndarray
    keys: list[Any]
    sorts: Any
    others: tuple[Vector, ...] = ()

    @property
    def merges(self) -> bool:
        """Whether the aggregate of some rows can be put together with that of others."""
        return self.value is None or self.name in STATES

    @property
    def is_extreme_of_texts(self) -> bool:
        """Whether numbers are compared as texts, if there are any."""
        return self.name in ("MIN", "MAX") and self.kind == TEXT and self.value is not None

    @property
    def arrays(self) -> list[pa.Array]:
        """The values, and those beside them."""
        assert self.value is not None
        return [item.values for item in (self.value, *self.others)]

    def take(self, rows: np.ndarray) -> Input:
        """Of these rows."""
        return replace(
            self,
            value=None if self.value is None else taken(self.value, rows),
            mask=self.mask[rows],
            keys=[key.take(to_arrow(rows)) for key in self.keys],
            others=tuple(taken(other, rows) for other in self.others),
        )


class Aggregation(Struct):
    """Decides what aggregates are of, and computes them."""

    account: Account
    context: QueryContext
    expressions: ExpressionEvaluator

    def input_of(
        self,
        aggregate: tree.Aggregate,
        over: Relation,
        withs: dict[str, Relation],
        stands: dict[Any, int] | None = None,
        memo: Memo | None = None,
    ) -> Input:
        name = aggregate.name.upper()
        if name not in building.AGGREGATES:
            raise self.context.wrong(
                f"{name} is not an aggregate",
                aggregate,
                "window functions have OVER (…)" if name in building.WINDOWS else "",
            )
        if aggregate.nulls:
            raise self.context.wrong(
                f"{name} takes no {aggregate.nulls} NULLS",
                aggregate,
                "LAG, LEAD, FIRST_VALUE, LAST_VALUE and NTH_VALUE do",
            )
        mask = np.ones(over.count, bool)
        if aggregate.filter is not None:
            decided, _ = self.expressions.evaluate(
                aggregate.filter, over, withs, stands, condition=True, memo=memo
            )
            mask = decided.true(over.count)
        if name == "GROUPING" or aggregate.star:
            if aggregate.star and name != "COUNT":
                raise self.context.wrong(f"{name} takes an expression", aggregate)
            return Input(name, None, INTEGER, mask, [], ())
        arguments = items_of(aggregate.arguments)
        rows = len(arguments) > len(aggregate.arguments)
        if rows and not (name == "COUNT" and aggregate.distinct):
            raise self.context.wrong(
                f"{name} takes one value",
                aggregate,
                "COUNT(DISTINCT (a, b)) counts combinations" if name == "COUNT" else "",
            )
        least, most = {"LISTAGG": (1, 2)}.get(
            name, (2, 2) if name in building.REGRESSIONS else (1, 1)
        )
        if not least <= len(arguments) <= most and not rows:
            hint = "COUNT(DISTINCT (a, b)) counts combinations" if name == "COUNT" else ""
            raise self.context.wrong(
                f"{name} does not take {len(arguments)} arguments", aggregate, hint
            )
        percentile = name.startswith("PERCENTILE")
        if percentile and len(aggregate.within) != 1:
            raise self.context.wrong(f"{name} needs WITHIN GROUP (ORDER BY x), one key", aggregate)
        if aggregate.within and not percentile and name != "LISTAGG":
            raise self.context.wrong(
                f"{name} takes no WITHIN GROUP", aggregate, f"{name}(x ORDER BY …)"
            )
        sorts = aggregate.order or aggregate.within
        subject = aggregate.within[0].expression if percentile else arguments[0]
        # COUNT(CASE WHEN … THEN x END) counts the rows of the condition: what falls through is the
        # answer no.
        counted = name == "COUNT" and isinstance(subject, tree.Case) and subject.otherwise is None
        supplied = [
            self.expressions.evaluate(node, over, withs, stands, counted=counted, memo=memo)
            for node in ([subject] if percentile or name == "LISTAGG" else arguments)
        ]
        value, kind = supplied[0]
        if (
            name in ("SUM", "AVG", "PERCENTILE_CONT")
            or name.startswith(("STDDEV", "VAR"))
            or name in building.REGRESSIONS
        ):
            for index, ((output, one_kind), node) in enumerate(
                zip(supplied, arguments, strict=False)
            ):
                if one_kind.kind not in (*NUMBERS, Kind.NULL):
                    node = subject if percentile else node
                    hint = f"write CAST({self.context.written(node)[:60]} AS DECIMAL)"
                    raise self.context.wrong(
                        f"{name} takes a number, this is {one_kind}", node, hint
                    )
                if one_kind.kind is Kind.NULL:
                    supplied[index] = (as_type(output, INTEGER), INTEGER)
            value, kind = supplied[0]
        if kind.kind is Kind.NULL:
            to = BOOLEAN if name == "EVERY" else TEXT
            value, kind = as_type(value, to), to
        if name == "LISTAGG" and kind != TEXT:
            raise self.context.wrong(
                f"LISTAGG takes TEXT, this is {kind}",
                subject,
                f"write CAST({self.context.written(subject)[:60]} AS TEXT)",
            )
        if name == "EVERY" and kind != BOOLEAN:
            raise self.context.wrong(
                f"EVERY takes a condition, this is {kind}", subject, "compare it: … = …"
            )
        keys = (
            []
            if percentile
            else [
                self.expressions.evaluate(key.expression, over, withs, stands, memo=memo)[0].values
                for key in sorts
            ]
        )
        if aggregate.distinct and kind == TEXT:
            subset = value.values.filter(to_arrow(mask))
            self.account.warn_of_alike(
                f"{name}(DISTINCT) and case",
                [subset],
                f"values of {self.context.written(subject)[:60]}",
                f"{name}(DISTINCT UPPER(TIDY_SPACES(…)))",
            )
        if name == "LISTAGG" and not sorts:
            message = f"come in no order that {self.context.written(aggregate)[:60]} says"
            self.account.warn(
                "LISTAGG without an order",
                int(mask.sum()),
                message,
                "add WITHIN GROUP (ORDER BY …)",
            )
        if (
            not self.account.quiet
            and name in ("COUNT", "AVG", "SUM")
            and not aggregate.distinct
            and not counted
        ):
            failed = value.failed(over.count)
            nulls = int(
                (pc.is_null(value.values).to_numpy(zero_copy_only=False) & mask & ~failed).sum()
            )
            self.account.warn(
                "aggregate passes over NULL",
                nulls,
                f"have NULL in {self.context.written(subject)[:60]}, which the aggregates of it"
                " pass over",
                "COUNT(*) counts rows; COALESCE gives NULL a value",
            )
        return Input(
            name, value, kind, mask, keys, sorts, tuple(result for result, _ in supplied[1:])
        )

    def of_groups(
        self,
        aggregate: tree.Aggregate,
        supplied: Input,
        numbers: np.ndarray,
        many: int,
        over: Relation,
        used: list[bool],
        shapes: list[Any],
    ) -> tuple[Vector, Type]:
        """The aggregate of each group; `used` tells which of the grouped shapes this set of them
        has."""
        if supplied.name == "GROUPING":
            bits = 0
            for node in aggregate.arguments:
                shape = self.expressions.shape(node, over)
                if shape not in shapes:
                    raise self.context.wrong("GROUPING takes what is grouped by", node)
                bits = bits * 2 + (not used[shapes.index(shape)])
            return Vector(to_arrow(np.full(many, bits), pa.int64())), INTEGER
        known = self.known_rows(supplied)
        if supplied.value is None:
            state = self._state(supplied, numbers, many, known)
            return self.finished(aggregate, supplied, state, many)
        if aggregate.distinct:
            known = groups.distinct_rows(numbers, supplied.arrays, known)
        return self.compute(aggregate, supplied, numbers, many, known)

    def partial_state(
        self,
        aggregate: tree.Aggregate,
        supplied: Input,
        numbers: np.ndarray,
        many: int,
        places: FirstPlaces | None,
    ) -> GroupState | RowsOfGroups:
        """What some rows come to in the aggregate of each group, for `finished`; `places`: where
        they stand, where it matters."""
        if supplied.is_extreme_of_texts:
            grouped_values = self.grouped_values(supplied, numbers, many)
            return TextExtremeState.of(grouped_values, supplied.name)
        known = self.known_rows(supplied)
        if not supplied.merges:
            return RowsOfGroups.of(numbers, [*supplied.arrays, *supplied.keys], known, places)
        if aggregate.distinct and supplied.value is not None:
            known = groups.distinct_rows(numbers, supplied.arrays, known)
            return DistinctRows.of(numbers, supplied.arrays, known)
        return self._state(supplied, numbers, many, known)

    def grouped_values(self, supplied: Input, numbers: np.ndarray, many: int) -> GroupedValues:
        """The values that an aggregate takes, with the groups that they are in."""
        (value,) = supplied.arrays
        return GroupedValues(numbers, many, value, self.known_rows(supplied))

    def finished(
        self,
        aggregate: tree.Aggregate,
        supplied: Input,
        state: GroupState | RowsOfGroups,
        many: int,
    ) -> tuple[Vector, Type]:
        """The aggregate of each group from the state of all rows; `supplied`: of none."""
        if isinstance(state, RowsOfGroups):
            state, width = state.in_order(), 1 + len(supplied.others)
            known = np.ones(len(state.numbers), bool)
            value, *others = map(Vector, state.values[:width])
            keys = list(state.values[width:])
            rows = replace(supplied, value=value, others=tuple(others), mask=known, keys=keys)
            if aggregate.distinct and not isinstance(state, DistinctRows):
                known = groups.distinct_rows(state.numbers, rows.arrays, known)
            return self.compute(aggregate, rows, state.numbers, many, known)
        to = result_type(supplied.name, supplied.kind)
        return state.finish(supplied.name, supplied.kind), to

    def _state(
        self, supplied: Input, numbers: np.ndarray, many: int, known: np.ndarray
    ) -> GroupState:
        if supplied.value is None:
            return CountState.of(GroupedValues(numbers, many, None, known), "COUNT")
        value, *others = supplied.arrays
        pairs = tuple(others) if supplied.name in building.REGRESSIONS else ()
        grouped_values = GroupedValues(numbers, many, value, known, pairs)
        return state_of(supplied.name, grouped_values, self.account.let_go)

    def known_rows(self, supplied: Input) -> np.ndarray:
        """The rows that an aggregate takes: those of its FILTER whose values are known; ARRAY_AGG
        takes NULL too."""
        known = supplied.mask.copy()
        if (
            supplied.name == "ARRAY_AGG"
            or supplied.value is None
            or (supplied.name == "COUNT" and supplied.others)
        ):
            return known  # a row of values is none even where one of them is NULL
        for item in (supplied.value, *supplied.others):
            if item.values.null_count:
                known &= pc.is_valid(item.values).to_numpy(zero_copy_only=False)
        return known

    def compute(
        self,
        aggregate: tree.Aggregate,
        supplied: Input,
        numbers: np.ndarray,
        many: int,
        known: np.ndarray,
    ) -> tuple[Vector, Type]:
        name, kind = supplied.name, supplied.kind
        to = result_type(name, kind)
        assert supplied.value is not None
        value = supplied.value.values
        if name in STATES:
            return self._state(supplied, numbers, many, known).finish(name, kind), to
        if name in ("LISTAGG", "ARRAY_AGG", "ANY_VALUE"):
            rows = groups.in_order(numbers, known, supplied.keys, supplied.sorts)
            if name == "ANY_VALUE":
                return groups.first_by(numbers, many, value, rows), to
            if name == "ARRAY_AGG":
                return Vector(groups.gathered(numbers, many, value, rows)), to
            separator = literal_text(aggregate.arguments[1]) if len(aggregate.arguments) > 1 else ""
            if separator is None:
                raise self.context.wrong(
                    "the separator of LISTAGG is a text literal", aggregate.arguments[1]
                )
            return groups.listed(numbers, many, value, rows, separator), to
        share = aggregate.arguments[0]
        number = (
            float(share.text)
            if isinstance(share, tree.Literal) and share.kind in ("integer", "decimal", "double")
            else -1.0
        )
        if not 0 <= number <= 1:
            raise self.context.wrong(f"{name} takes a share from 0 to 1", share)
        continuous = name == "PERCENTILE_CONT"
        return (
            groups.percentile(
                numbers, many, value, known, number, continuous, aggregate.within[0].descending
            ),
            to,
        )


def items_of(arguments: Sequence[tree.Node]) -> list[tree.Node]:
    """Arguments with rows of values as their items."""
    return [
        item
        for argument in arguments
        for item in (argument.items if isinstance(argument, tree.Row) else (argument,))
    ]
