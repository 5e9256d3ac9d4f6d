"""Window functions of a query."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct
from msgspec.structs import replace

from gravel.engine.aggregates import result_type
from gravel.engine.row_codes import codes_of
from gravel.engine.vector import Vector
from gravel.kernels.arrays import to_arrow
from gravel.language import building, tree
from gravel.language.functions.ordering import sortable
from gravel.language.types import DOUBLE, INTEGER, NUMBERS, TEXT, Kind, Type, common
from gravel.querying.account import Account
from gravel.querying.aggregation import Aggregation, Input
from gravel.querying.context import QueryContext
from gravel.querying.evaluation import ExpressionEvaluator, Memo
from gravel.querying.ordering import warn_of_digits
from gravel.querying.partitions import one_by_one, partitions, put_together
from gravel.querying.relation import Relation, as_type, taken
from gravel.querying.shapes import top
from gravel.querying.windows import ResolvedFrame, Sorted, vector_of

RANKS = ("ROW_NUMBER", "RANK", "DENSE_RANK", "PERCENT_RANK", "CUME_DIST", "NTILE")


VALUES = ("LAG", "LEAD", "FIRST_VALUE", "LAST_VALUE", "NTH_VALUE")


class Windowing(Struct):
    """A column for each window function."""

    account: Account
    context: QueryContext
    expressions: ExpressionEvaluator
    aggregation: Aggregation

    def windows(
        self,
        select: tree.Select,
        items: list[tree.Named],
        query: tree.Query | None,
        over: Relation,
        withs: dict[str, Relation],
        stands: dict[Any, int],
    ) -> tuple[Relation, dict[Any, int]]:
        places = [item.expression for item in items] + (
            [key.expression for key in query.order] if query is not None else []
        )
        results = [
            entry
            for place in places
            for entry in top(place, (tree.Aggregate,))
            if isinstance(entry, tree.Aggregate) and entry.over is not None
        ]
        named: dict[str, tree.Window] = {}
        for name, window in select.windows:
            named[name.casefold()] = self._named_window(window, named)
        used = {entry.over.name.casefold() for entry in results if entry.over is not None}
        for name, window in named.items():
            if name not in used:
                for part in (*window.partition, *(key.expression for key in window.order)):
                    self.expressions.evaluate(
                        part, over, withs, stands, watched=False
                    )  # a mistake there is one, used or not
        if not results:
            return over, stands
        stands = dict(stands)
        windows = [
            self._named_window(entry.over, named) for entry in results if entry.over is not None
        ]
        for element, window in zip(results, windows, strict=True):
            self._refuse(element, window)
        memo: Memo = {}
        sound = self._sound_rows(results, windows, over, withs, stands, memo)
        if sound is not None:
            over, memo = over.take(sound), {}
        cache: dict[Any, Sorted | list[np.ndarray]] = {}
        for element, window in zip(results, windows, strict=True):
            key = self.expressions.shape((window.partition, window.order), over)
            if key not in cache:
                partition = [
                    self.expressions.evaluate(node, over, withs, stands, memo=memo)[0].values
                    for node in window.partition
                ]
                self.account.warn_of_alike(
                    "PARTITION BY and case",
                    partition,
                    "partitions",
                    "PARTITION BY UPPER(TIDY_SPACES(…))",
                )
                parts = partitions(partition, over.count, self.account.memory)
                keys = [
                    self.expressions.evaluate(sort.expression, over, withs, stands, memo=memo)[
                        0
                    ].values
                    for sort in window.order
                ]
                for sort, values in zip(window.order, keys, strict=True):
                    warn_of_digits(self.account, self.context.written(sort.expression), values)
                self._warn_of_order(element, window, [*partition, *keys], over, parts)
                cache[key] = (
                    Sorted(partition, keys, window.order, over.count) if parts is None else parts
                )
            rows = cache[key]
            if isinstance(rows, Sorted):
                result, kind = self._window(element, window, rows, over, withs, stands, memo)
            else:
                result, kind = self._window_by_parts(element, window, rows, over, withs, stands)
            stands[id(element)] = len(over.names)
            over = over.with_columns([result], [kind])
        plural = "function" if len(results) == 1 else "functions"
        return (
            replace(
                over,
                stage=self.account.enter("WINDOW", (over,), over.count, f"{len(results)} {plural}"),
            ),
            stands,
        )

    def _window_by_parts(
        self,
        aggregate: tree.Aggregate,
        window: tree.Window,
        parts: list[np.ndarray],
        over: Relation,
        withs: dict[str, Relation],
        stands: dict[Any, int],
    ) -> tuple[Vector, Type]:
        """A window function over parts that hold whole partitions, one after another."""
        results: list[Vector] = []
        self.account.quiet += 1  # what is to be told has been told of all rows
        try:
            for rows in one_by_one(parts, self.account.give_back):
                subset = over.take(rows)
                partition = [
                    self.expressions.evaluate(node, subset, withs, stands)[0].values
                    for node in window.partition
                ]
                keys = [
                    self.expressions.evaluate(sort.expression, subset, withs, stands)[0].values
                    for sort in window.order
                ]
                vector, kind = self._window(
                    aggregate,
                    window,
                    Sorted(partition, keys, window.order, subset.count),
                    subset,
                    withs,
                    stands,
                )
                results.append(vector)
        finally:
            self.account.quiet -= 1
        return self.account.keep(put_together(results, parts)), kind

    def _warn_of_order(
        self,
        aggregate: tree.Aggregate,
        window: tree.Window,
        keys: list[pa.Array],
        over: Relation,
        parts: list[np.ndarray] | None,
    ) -> None:
        """A function that goes by the order of its rows, of which the window says nothing, or not
        enough."""
        name = aggregate.name.upper()
        if name not in (*RANKS, *VALUES) or not over.count:
            return
        written = self.context.written(aggregate)[:60]
        within = {self.expressions.shape(node, over) for node in window.partition}
        if all(self.expressions.shape(key.expression, over) in within for key in window.order):
            message = f"are numbered or looked up by {written} in no order that it says"
            self.account.warn(
                "window without an order",
                over.count,
                message,
                "add an ORDER BY that is not a key of the partition",
            )
        elif name in ("ROW_NUMBER", "FIRST_VALUE", "LAST_VALUE", "LAG", "LEAD"):
            subset = (
                [keys]
                if parts is None
                else (
                    [key.take(to_arrow(rows)) for key in keys]
                    for rows in one_by_one(parts, self.account.give_back)
                )
            )
            ties = sum(_tied_rows(part) for part in subset)
            self.account.warn(
                "ties",
                ties,
                f"share their place in {written}, which takes them as they come",
                "add a key to its ORDER BY",
            )

    def _sound_rows(
        self,
        result: list[tree.Aggregate],
        windows: list[tree.Window],
        over: Relation,
        withs: dict[str, Relation],
        stands: dict[Any, int],
        memo: Memo,
    ) -> np.ndarray | None:
        """Rows in which an input of a window function has an error are told, and left out where
        errors leave rows out; which remain then, else None."""
        inputs: list[tuple[str, Vector]] = []
        for item, window in zip(result, windows, strict=True):
            parts = [*window.partition, *(key.expression for key in window.order)]
            inputs += [
                (
                    self.context.written(part),
                    self.expressions.evaluate(part, over, withs, stands, watched=False, memo=memo)[
                        0
                    ],
                )
                for part in parts
            ]
            mask = np.ones(over.count, bool)
            if item.filter is not None:
                decided, _ = self.expressions.evaluate(
                    item.filter, over, withs, stands, condition=True, watched=False, memo=memo
                )
                inputs.append((self.context.written(item.filter), decided))
                mask = decided.true(over.count)
            for node in (*item.arguments, *(key.expression for key in item.within + item.order)):
                output, _ = self.expressions.evaluate(
                    node, over, withs, stands, watched=False, memo=memo
                )
                if output.errors is not None:
                    # Only rows that pass the FILTER are looked at.
                    inputs.append(
                        (
                            self.context.written(node),
                            Vector(
                                output.values, np.where(mask, output.errors, 0).astype(np.uint8)
                            ),
                        )
                    )
        return self.account.sound_rows("OVER", over, inputs)

    def _named_window(self, window: tree.Window, named: dict[str, tree.Window]) -> tree.Window:
        """The window, or that of its name with what it adds: an order if that has none, and a
        frame."""
        if not window.name:
            return window
        base = named.get(window.name.casefold())
        if base is None:
            raise self.context.wrong(f"there is no window {window.name}", window)
        if window.plain:
            return base
        if window.partition:
            raise self.context.wrong(f"PARTITION BY is that of {window.name}", window)
        if window.order and base.order:
            raise self.context.wrong(f"ORDER BY is that of {window.name}", window)
        if base.frame is not None:
            raise self.context.wrong(
                f"{window.name} has a frame, so nothing is added to it", window
            )
        return replace(base, order=window.order or base.order, frame=window.frame)

    def _refuse(self, aggregate: tree.Aggregate, window: tree.Window) -> None:
        name = aggregate.name.upper()
        if name not in building.AGGREGATES | building.WINDOWS or name == "GROUPING":
            raise self.context.wrong(
                f"{name} has no window form",
                aggregate,
                ", ".join((*RANKS, *VALUES)) + " and the aggregates",
            )
        if aggregate.filter is not None and name in building.WINDOWS:
            raise self.context.wrong(
                f"{name} takes no FILTER",
                aggregate.filter,
                "CASE WHEN … THEN x END as its argument, or an aggregate",
            )
        if aggregate.distinct:
            raise self.context.wrong("DISTINCT has no window form", aggregate)
        if aggregate.nulls and name not in VALUES:
            raise self.context.wrong(
                f"{name} takes no {aggregate.nulls} NULLS",
                aggregate,
                "LAG, LEAD, FIRST_VALUE, LAST_VALUE and NTH_VALUE do",
            )
        if window.frame is not None and window.frame.unit == "GROUPS" and not window.order:
            raise self.context.wrong("GROUPS needs an ORDER BY", window)

    def _frame(
        self,
        window: tree.Window,
        rows: Sorted,
        over: Relation,
        withs: dict[str, Relation],
        stands: dict[Any, int],
    ) -> ResolvedFrame | None:
        """The window's frame with its distances decided."""
        frame = window.frame
        if frame is None:
            return None
        if frame.unit == "RANGE" and (
            frame.low.distance is not None or frame.high.distance is not None
        ):
            if len(window.order) != 1:
                raise self.context.wrong("RANGE with a distance needs one key in ORDER BY", window)
            return ResolvedFrame(
                frame.unit,
                None if abs(frame.low.place) == 2 else 0,
                None if abs(frame.high.place) == 2 else 0,
                frame.exclude,
                self._range(frame.low, window, rows, over, withs, stands, True),
                self._range(frame.high, window, rows, over, withs, stands, False),
            )
        low, high = (self._distance(bound) for bound in (frame.low, frame.high))
        return ResolvedFrame(frame.unit, low, high, frame.exclude)

    def _distance(self, bound: tree.Bound) -> int | None:
        """A distance in rows or groups, below 0 for PRECEDING, None for UNBOUNDED."""
        if abs(bound.place) == 2:
            return None
        if bound.distance is None:
            return 0
        number = self.expressions.number(bound.distance, "a distance in rows")
        if number is None or number < 0:
            raise self.context.wrong("a distance in rows is a number, 0 or more", bound.distance)
        return -number if bound.side == "PRECEDING" else number

    def _range(
        self,
        bound: tree.Bound,
        window: tree.Window,
        rows: Sorted,
        over: Relation,
        withs: dict[str, Relation],
        stands: dict[Any, int],
        low: bool,
    ) -> np.ndarray | None:
        """Where each sorted row's frame begins or ends by its key and a distance from it."""
        if bound.distance is None:
            return None
        sort = window.order[0]
        key = sort.expression
        kind, distance = (
            self.expressions.evaluate(key, over, withs, stands, watched=False)[1],
            bound.distance,
        )
        result, far = self.expressions.evaluate(distance, over, withs, stands, watched=False)
        if kind.kind not in (
            *NUMBERS,
            Kind.DATE,
            Kind.TIMESTAMP,
            Kind.TIME,
            Kind.ZONED,
            Kind.INTERVAL,
        ):
            raise self.context.wrong(
                "RANGE with a distance needs a number, a date or a time to sort by, this is"
                f" {kind}",
                key,
            )
        if result.errors is not None or result.values.null_count:
            raise self.context.wrong("a distance is not NULL", distance)
        size = sortable(result.values)
        if (
            pa.types.is_integer(size.type)
            or pa.types.is_decimal(size.type)
            or pa.types.is_floating(size.type)
        ):
            below = pc.less(pc.cast(size, pa.float64(), safe=False), 0.0)
            if pc.any(below).as_py():
                raise self.context.wrong("a distance is 0 or more", distance)
        # With DESC what comes before is greater.
        sign = "-" if (bound.side == "PRECEDING") != sort.descending else "+"
        moved = tree.Call(distance.start, distance.end, sign, (key, distance), distance.start, True)
        target, to = self.expressions.evaluate(moved, over, withs, stands, watched=False)
        both = common(kind, to)
        if both is None:
            raise self.context.wrong(f"{far} is not a distance for {kind}", distance)
        values = as_type(
            self.expressions.evaluate(key, over, withs, stands, watched=False)[0], both
        ).values
        ranks = (
            pc.rank(
                sortable(pa.concat_arrays([values, as_type(target, both).values])),
                tiebreaker="dense",
            )
            .to_numpy()
            .astype(np.int64)
        )
        mine, wanted = ranks[: over.count].copy(), ranks[over.count :].copy()
        top_rank = int(ranks.max(initial=0)) + 1
        if target.errors is not None:
            # Out of range: beyond every key.
            wanted[target.errors != 0] = 0 if sign == "-" else top_rank
        if sort.descending:
            mine, wanted = -mine, -wanted
        null = pc.is_null(values).to_numpy(zero_copy_only=False)
        first = sort.descending if sort.nulls_first is None else sort.nulls_first
        beyond = -top_rank - 1 if first else top_rank + 1
        mine[null] = wanted[null] = beyond
        return rows.range_places(mine[rows.order], wanted[rows.order], low)

    def _window(
        self,
        aggregate: tree.Aggregate,
        window: tree.Window,
        rows: Sorted,
        over: Relation,
        withs: dict[str, Relation],
        stands: dict[Any, int],
        memo: Memo | None = None,
    ) -> tuple[Vector, Type]:
        name = aggregate.name.upper()
        frame = self._frame(window, rows, over, withs, stands)
        if name in RANKS:
            if name == "NTILE":
                number = (
                    self.expressions.number(aggregate.arguments[0], "a number of buckets")
                    if len(aggregate.arguments) == 1
                    else None
                )
                if not number or number < 1:
                    raise self.context.wrong(
                        "NTILE takes a number of buckets, 1 or more", aggregate
                    )
                return vector_of(rows.rank(name, number)), INTEGER
            if aggregate.arguments or aggregate.star:
                raise self.context.wrong(f"{name} takes nothing in its parentheses", aggregate)
            return vector_of(rows.rank(name)), (
                DOUBLE if name in ("PERCENT_RANK", "CUME_DIST") else INTEGER
            )
        if name in VALUES:
            return self._value(aggregate, name, frame, rows, over, withs, stands, memo)
        supplied = self.aggregation.input_of(aggregate, over, withs, stands, memo)
        if supplied.value is None:
            if frame is None and not window.order:
                counts = np.bincount(rows.groups[supplied.mask], minlength=rows.many)
                return Vector(to_arrow(counts[rows.groups], pa.int64())), INTEGER
            return Vector(rows.back(rows.counted(supplied.mask, frame))), INTEGER
        return self._windowed(aggregate, supplied, frame, window, rows)

    def _value(
        self,
        aggregate: tree.Aggregate,
        name: str,
        frame: ResolvedFrame | None,
        rows: Sorted,
        over: Relation,
        withs: dict[str, Relation],
        stands: dict[Any, int],
        memo: Memo | None,
    ) -> tuple[Vector, Type]:
        most = {"LAG": 3, "LEAD": 3, "NTH_VALUE": 2}.get(name, 1)
        least = 2 if name == "NTH_VALUE" else 1
        if not least <= len(aggregate.arguments) <= most:
            raise self.context.wrong(
                f"{name} does not take {len(aggregate.arguments)} arguments", aggregate
            )
        value, kind = self.expressions.evaluate(
            aggregate.arguments[0], over, withs, stands, memo=memo
        )
        known = (
            pc.is_valid(value.values).to_numpy(zero_copy_only=False)
            if aggregate.nulls == "IGNORE"
            else None
        )
        if name in ("FIRST_VALUE", "LAST_VALUE", "NTH_VALUE"):
            number = (
                self.expressions.number(aggregate.arguments[1], "the number of a row")
                if name == "NTH_VALUE"
                else 1
            )
            if number is None or number < 1:
                raise self.context.wrong(
                    "NTH_VALUE takes the number of a row, 1 or more", aggregate.arguments[1]
                )
            return (
                vector_of(rows.nth(value.values, frame, number, name == "LAST_VALUE", known)),
                kind,
            )
        by = (
            self.expressions.number(aggregate.arguments[1], f"the distance of {name}")
            if len(aggregate.arguments) > 1
            else 1
        )
        if by is None:
            return Vector(pa.nulls(over.count, kind.arrow)), kind
        default = None
        if len(aggregate.arguments) > 2:
            other, other_kind = self.expressions.evaluate(
                aggregate.arguments[2], over, withs, stands
            )
            both = common(kind, other_kind)
            if both is None:
                raise self.context.wrong(
                    f"{name} cannot mix {kind} and {other_kind}",
                    aggregate.arguments[2],
                    "cast one of them",
                )
            kind = TEXT if both.kind is Kind.NULL else both
            value, default = as_type(value, kind), as_type(other, kind).values
        return (
            vector_of(rows.shifted(value.values, -by if name == "LAG" else by, default, known)),
            kind,
        )

    def _windowed(
        self,
        aggregate: tree.Aggregate,
        supplied: Input,
        frame: ResolvedFrame | None,
        window: tree.Window,
        rows: Sorted,
    ) -> tuple[Vector, Type]:
        name, kind, value = supplied.name, supplied.kind, supplied.value
        assert value is not None
        known = self.aggregation.known_rows(supplied)
        if frame is None and not window.order:
            # Every row of a partition has the whole of it: the aggregate of a group.
            result, to = self.aggregation.compute(
                aggregate, supplied, rows.groups, rows.many, known
            )
            return taken(result, rows.groups), to
        if name == "COUNT" and not supplied.others:
            return Vector(rows.back(rows.counted(known, frame))), INTEGER
        if name in ("MIN", "MAX"):
            return vector_of(rows.extreme(value.values, known, frame, name == "MIN")), kind
        if name in ("SUM", "AVG") or name.startswith(("STDDEV", "VAR")):
            result = rows.totals(value.values, known, frame, kind, name)
            return result, result_type(name, kind)

        def compute(lines: np.ndarray, frames: np.ndarray, many: int) -> Vector:
            part = supplied.take(lines)
            return self.aggregation.compute(
                aggregate, part, frames, many, self.aggregation.known_rows(part)
            )[0]

        to = result_type(name, kind)
        return rows.each(compute, frame, to), to


def _tied_rows(keys: list[pa.Array]) -> int:
    """Rows that are equal to another one in all keys."""
    codes, _ = codes_of(keys, len(keys[0]))
    return int((np.bincount(codes)[codes] > 1).sum())
