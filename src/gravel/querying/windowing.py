"""Window functions of a query."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.vector import Vector
from gravel.language import tree
from gravel.language.types import DOUBLE, INTEGER, NUMBERS, Kind, Type
from gravel.querying import groups
from gravel.querying.grouping import Grouping, Input
from gravel.querying.relation import Relation, as_type, taken
from gravel.querying.shapes import literal_number, top
from gravel.querying.windows import Sorted, vector_of

RANKS = ("ROW_NUMBER", "RANK", "DENSE_RANK", "PERCENT_RANK", "CUME_DIST", "NTILE")
WINDOWS = (*RANKS, "LAG", "LEAD", "FIRST_VALUE", "LAST_VALUE")


class Windowing(Grouping):
    """A column for each window function."""

    def _windows(
        self,
        select: tree.Select,
        items: list[tree.Named],
        query: tree.Query | None,
        over: Relation,
        withs: dict[str, Relation],
        stands: dict[Any, int],
    ) -> tuple[Relation, dict[Any, int]]:
        places = [item.expression for item in items] + ([key.expression for key in query.order] if query is not None else [])
        found = [
            one for place in places for one in top(place, (tree.Aggregate,)) if isinstance(one, tree.Aggregate) and one.over is not None
        ]
        named = {name.casefold(): window for name, window in select.windows}
        stands = dict(stands)
        cache: dict[Any, Sorted] = {}
        windows = [self._named_window(one.over, named) for one in found if one.over is not None]
        if self.on_error == "omit":
            parts = [part for window in windows for part in (*window.partition, *(key.expression for key in window.order))]
            asked = [(self._written(part), self.evaluate(part, over, withs, stands)[0]) for part in parts]
            sound = self._sound("OVER", over, asked)
            over = over if sound is None else over.take(sound)
        for one, window in zip(found, windows, strict=True):
            key = self.shape((window.partition, window.order), over)
            if key not in cache:
                partition = [self._part(node, over, withs, stands) for node in window.partition]
                keys = [self._part(sort.expression, over, withs, stands) for sort in window.order]
                cache[key] = Sorted(partition, keys, window.order, over.count)
            made, kind = self._window(one, window, cache[key], over, withs, stands)
            stands[id(one)] = len(over.names)
            over = over.with_columns([made], [kind])
        return over, stands

    def _named_window(self, window: tree.Window, named: dict[str, tree.Window]) -> tree.Window:
        """The window, or that of its name."""
        if not window.name:
            return window
        if window.name.casefold() not in named:
            raise self._wrong(f"there is no window {window.name}", window)
        return named[window.name.casefold()]

    def _part(self, node: tree.Node, over: Relation, withs: dict[str, Relation], stands: dict[Any, int]) -> Any:
        """What a window is parted or ordered by."""
        made, _ = self.evaluate(node, over, withs, stands)
        if made.errors is not None:
            self._fault("OVER", self._written(node), made.errors, over.rows)
        return made.values

    def _window(
        self, one: tree.Aggregate, window: tree.Window, rows: Sorted, over: Relation, withs: dict[str, Relation], stands: dict[Any, int]
    ) -> tuple[Vector, Type]:
        name = one.name.upper()
        given = [self.evaluate(node, over, withs, stands) for node in one.arguments]
        if name in RANKS:
            if name == "NTILE":
                number = literal_number(one.arguments[0]) if one.arguments else None
                if not number or number < 1:
                    raise self._wrong("NTILE takes a number of buckets, 1 or more", one)
                return vector_of(rows.rank(name, number)), INTEGER
            return vector_of(rows.rank(name)), DOUBLE if name in ("PERCENT_RANK", "CUME_DIST") else INTEGER
        mask = np.ones(over.count, bool)
        if one.filter is not None:
            mask = self.evaluate(one.filter, over, withs, stands, condition=True)[0].true(over.count)
        if one.star and window.frame is None and not window.order:
            return taken(groups.count(rows.groups, rows.many, mask), rows.groups), INTEGER
        if one.star:
            return Vector(rows.back(rows.counted(mask, window.frame))), INTEGER
        if not given:
            raise self._wrong(f"{name} takes an expression", one)
        value, kind = given[0]
        if name in ("LAG", "LEAD"):
            by = literal_number(one.arguments[1]) if len(given) > 1 else 1
            if by is None:
                raise self._wrong(f"the distance of {name} is a number", one.arguments[1])
            default = as_type(given[2][0], kind).values if len(given) > 2 else None
            return vector_of(rows.shifted(value.values, np.full(over.count, -by if name == "LAG" else by), default)), kind
        if name in ("FIRST_VALUE", "LAST_VALUE"):
            return vector_of(rows.edge(value.values, window.frame, name == "LAST_VALUE")), kind
        if one.distinct:
            raise self._wrong("DISTINCT has no window form", one)
        return self._windowed(one, name, value, kind, mask, rows, window)

    def _windowed(
        self, one: tree.Aggregate, name: str, value: Vector, kind: Type, mask: np.ndarray, rows: Sorted, window: tree.Window
    ) -> tuple[Vector, Type]:
        known = mask & pc.is_valid(value.values).to_numpy(zero_copy_only=False)
        if name in ("SUM", "AVG") and kind.kind not in (*NUMBERS, Kind.NULL):
            raise self._wrong(f"{name} takes a number, this is {kind}", one.arguments[0])
        if window.frame is None and not window.order and kind.kind is not Kind.NULL and name in ("COUNT", "SUM", "AVG", "MIN", "MAX"):
            # Every row of a partition has the whole of it: the aggregate of a group.
            made, to = self._computed(one, Input(name, value, kind, mask, [], ()), rows.groups, rows.many, value.values, kind, known)
            return taken(made, rows.groups), to
        if name == "COUNT":
            return Vector(rows.back(rows.counted(known, window.frame))), INTEGER
        if name in ("MIN", "MAX"):
            some = value.values.cast(pa.int8()) if kind.kind is Kind.BOOLEAN else value.values
            return vector_of(rows.extreme(some, known, window.frame, name == "MIN").cast(kind.arrow)), kind
        if name not in ("SUM", "AVG"):
            raise self._wrong(f"{name} has no window form here", one, "COUNT, SUM, AVG, MIN, MAX, " + ", ".join(WINDOWS))
        if kind.kind not in (*NUMBERS, Kind.NULL):
            raise self._wrong(f"{name} takes a number, this is {kind}", one.arguments[0])
        if kind.kind is Kind.DOUBLE:
            sums, counts = rows.summed(value.values.fill_null(0).to_numpy(zero_copy_only=False), known, window.frame)
            made = pa.array(sums, mask=counts == 0)
            total = Vector(rows.back(made))
        else:
            sums, counts = rows.summed(groups.unscaled(value.values), known, window.frame)
            made = groups.scaled(sums, counts > 0, groups.sum_type(kind).arrow)
            total = Vector(rows.back(made))
        if name == "SUM":
            return total, groups.sum_type(kind)
        return groups.mean(total, Vector(rows.back(pa.array(counts, pa.int64()))), kind)
