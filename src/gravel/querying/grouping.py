"""GROUP BY and aggregates."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.vector import Vector, vector
from gravel.language import building, tree
from gravel.language.types import DOUBLE, INTEGER, NUMBERS, TEXT, Kind, Type
from gravel.querying import groups
from gravel.querying.relation import Columns, Grouped, Relation, as_type, codes_of, joined, taken
from gravel.querying.shapes import literal_text, top
from gravel.querying.sources import Sources


@dataclass(frozen=True)
class Input:
    """What an aggregate is of: its value a row (None for COUNT(*)), the rows of its FILTER, its order."""

    name: str
    value: Vector | None
    kind: Type
    mask: np.ndarray
    keys: list[Any]
    sorts: Any


class Grouping(Sources):
    """Rows of groups, a column for each key and each aggregate."""

    def _aggregates(self, select: tree.Select, items: list[tree.Named], query: tree.Query | None) -> list[tree.Aggregate]:
        """The aggregates that this block computes, its ORDER BY's too."""
        places: list[tree.Node] = [item.expression for item in items]
        places += [select.having] if select.having is not None else []
        places += [key.expression for key in query.order] if query is not None else []
        return [
            one
            for place in places
            for one in top(place, (tree.Aggregate,), windows=True)
            if isinstance(one, tree.Aggregate) and one.over is None
        ]

    def _group(
        self, select: tree.Select, over: Relation, items: list[tree.Named], aggregates: list[tree.Aggregate], withs: dict[str, Relation]
    ) -> tuple[Relation, dict[Any, int]]:
        sets = self._grouping(select.groups or (), over, items)
        every: dict[Any, tree.Node] = {}
        for some in sets:
            for node in some:
                every.setdefault(self.shape(node, over), node)
        keys = {shape: self.evaluate(node, over, withs) for shape, node in every.items()}
        sound = self._sound("GROUP BY", over, ((self._written(every[shape]), made) for shape, (made, _) in keys.items()))
        if sound is not None:
            over = over.take(sound)
            keys = {shape: (taken(made, sound), kind) for shape, (made, kind) in keys.items()}
        inputs = [self._input(one, over, withs) for one in aggregates]
        parts: list[tuple[list[Vector], list[Vector], int]] = []
        types: list[Type] = []
        for some in sets:
            shapes = {self.shape(node, over) for node in some}
            used = [keys[shape][0].values for shape in keys if shape in shapes]
            numbers, first = codes_of(used, over.count)
            many = len(first) if used else 1
            if not used:
                numbers = np.zeros(over.count, np.int64)
            heads = [taken(made, first) if shape in shapes else Vector(pa.nulls(many, kind.arrow)) for shape, (made, kind) in keys.items()]
            computed, types = [], []
            for one, given in zip(aggregates, inputs, strict=True):
                made, kind = self._aggregate(one, given, numbers, many, over, [shape in shapes for shape in keys], list(keys))
                computed.append(made)
                types.append(kind)
            parts.append((heads, computed, many))
        if not types and aggregates:
            types = [INTEGER] * len(aggregates)
        key_types = [kind if kind.kind is not Kind.NULL else TEXT for _, kind in keys.values()]
        vectors = [joined([as_type(part[0][at], kind) for part in parts], kind) for at, kind in enumerate(key_types)]
        vectors += [joined([part[1][at] for part in parts], kind) for at, kind in enumerate(types)]
        count = sum(part[2] for part in parts)
        self._tell("GROUP BY" if select.groups is not None else "aggregates", over.count, count, f"{count:,} groups")
        names = [node.text if isinstance(node, tree.Name) else "" for node in every.values()]
        tables = [over.tables[shape[1]] if isinstance(node, tree.Name) and shape[0] == "column" else "" for shape, node in every.items()]
        grouped = Grouped(
            (*names, *("" for _ in types)), (*tables, *("" for _ in types)), (*key_types, *types),
            Columns(vectors), count, ungrouped=over,
        )  # fmt: skip
        stands: dict[Any, int] = {shape: at for at, shape in enumerate(keys)}
        for at, one in enumerate(aggregates):
            stands[id(one)] = len(keys) + at
            stands[self.shape(one, over)] = len(keys) + at
        return grouped, stands

    def _grouping(self, groups_: Sequence[tree.Node], over: Relation, items: list[tree.Named]) -> list[tuple[tree.Node, ...]]:
        sets: list[tuple[tree.Node, ...]] = [()]
        for one in groups_:
            if isinstance(one, tree.GroupingSets):
                more = [tuple(self._meant(node, over, items) for node in some) for some in one.sets]
            elif isinstance(one, tree.Row):
                more = [tuple(self._meant(node, over, items) for node in one.items)]
            else:
                more = [(self._meant(one, over, items),)]
            sets = [(*a, *b) for a in sets for b in more]
        return sets

    def _meant(self, node: tree.Node, over: Relation, items: list[tree.Named]) -> tree.Node:
        """A position or an alias in GROUP BY as the expression it stands for; a column of that name wins."""
        if isinstance(node, tree.Literal) and node.kind == "integer":
            at = int(node.text)
            if not 1 <= at <= len(items):
                raise self._wrong(f"there is no item {at} in the select list", node)
            return items[at - 1].expression
        if isinstance(node, tree.Name) and not node.table and over.search(node, self.text) is None:
            for item in items:
                if item.name.casefold() == node.text.casefold():
                    return item.expression
        return node

    def _input(self, one: tree.Aggregate, over: Relation, withs: dict[str, Relation]) -> Input:
        name = one.name.upper()
        if name not in building.AGGREGATES:
            raise self._wrong(f"{name} is no aggregate", one, "window functions have OVER (…)" if name in building.WINDOWS else "")
        mask = np.ones(over.count, bool)
        if one.filter is not None:
            made, _ = self.evaluate(one.filter, over, withs, condition=True)
            if made.errors is not None:
                self._fault("FILTER", self._written(one.filter), made.errors, over.rows)
            mask = made.true(over.count)
        if name == "GROUPING" or one.star:
            if one.star and name != "COUNT":
                raise self._wrong(f"{name} takes an expression", one)
            return Input(name, None, INTEGER, mask, [], ())
        wants = {"LISTAGG": (1, 2), "PERCENTILE_CONT": (1, 1), "PERCENTILE_DISC": (1, 1)}.get(name, (1, 1))
        if not wants[0] <= len(one.arguments) <= wants[1]:
            raise self._wrong(f"{name} does not take {len(one.arguments)} arguments", one)
        subject = one.within[0].expression if name.startswith("PERCENTILE") and one.within else one.arguments[0]
        if name.startswith("PERCENTILE") and not one.within:
            raise self._wrong(f"{name} needs WITHIN GROUP (ORDER BY …)", one)
        value, kind = self.evaluate(subject, over, withs)
        if name in ("SUM", "AVG", "PERCENTILE_CONT") or name.startswith(("STDDEV", "VAR")):
            if kind.kind not in (*NUMBERS, Kind.NULL):
                raise self._wrong(
                    f"{name} takes a number, this is {kind}", subject, f"write CAST({self._written(subject)[:60]} AS DECIMAL)"
                )
            if kind.kind is Kind.NULL:
                value, kind = as_type(value, INTEGER), INTEGER
        if name == "LISTAGG" and kind != TEXT:
            raise self._wrong(f"LISTAGG takes TEXT, this is {kind}", subject, f"write CAST({self._written(subject)[:60]} AS TEXT)")
        keys = [self.evaluate(key.expression, over, withs)[0].values for key in one.within] if name == "LISTAGG" else []
        if not self.quiet and name in ("COUNT", "AVG", "SUM"):
            nulls = int((pc.is_null(value.values).to_numpy(zero_copy_only=False) & mask).sum())
            if nulls and not one.distinct:
                self._warn(
                    "aggregate passes over NULL",
                    nulls,
                    f"have NULL in {self._written(one)[:60]}, which passes over them",
                    "COUNT(*) counts rows; COALESCE gives NULL a value",
                )
        return Input(name, value, kind, mask, keys, one.within)

    def _aggregate(
        self, one: tree.Aggregate, given: Input, numbers: np.ndarray, many: int, over: Relation, used: list[bool], shapes: list[Any]
    ) -> tuple[Vector, Type]:
        name, mask = given.name, given.mask
        if name == "GROUPING":
            bits = 0
            for node in one.arguments:
                shape = self.shape(node, over)
                if shape not in shapes:
                    raise self._wrong("GROUPING takes what is grouped by", node)
                bits = bits * 2 + (not used[shapes.index(shape)])
            return Vector(pa.array(np.full(many, bits), pa.int64())), INTEGER
        if given.value is None:
            return groups.count(numbers, many, mask), INTEGER
        value, kind = given.value.values, given.kind
        errors = self._group_errors(given, numbers, many)
        known = mask & pc.is_valid(value).to_numpy(zero_copy_only=False)
        if one.distinct:
            known = groups.distinct_rows(numbers, value, known)
        made, to = self._computed(one, given, numbers, many, value, kind, known)
        if errors is not None:
            merged = errors if made.errors is None else np.where(errors != 0, errors, made.errors).astype(np.uint8)
            made = vector(made.values, merged)
        return made, to

    def _computed(
        self, one: tree.Aggregate, given: Input, numbers: np.ndarray, many: int, value: Any, kind: Type, known: np.ndarray
    ) -> tuple[Vector, Type]:
        name = given.name
        if name == "COUNT":
            return groups.count(numbers, many, known), INTEGER
        if name in ("MIN", "MAX", "ANY_VALUE"):
            return groups.extreme(numbers, many, value, known, {"MIN": "min", "MAX": "max"}.get(name, "first")), kind
        if name in ("SUM", "AVG"):
            sums = groups.total(numbers, many, value, known, kind)
            return (sums, groups.sum_type(kind)) if name == "SUM" else groups.mean(sums, groups.count(numbers, many, known), kind)
        if name.startswith(("STDDEV", "VAR")):
            return groups.spread(numbers, many, value, known, name), DOUBLE
        if name == "LISTAGG":
            separator = literal_text(one.arguments[1]) if len(one.arguments) > 1 else ""
            if separator is None:
                raise self._wrong("the separator of LISTAGG is a text literal", one.arguments[1])
            return groups.listed(numbers, many, value, known, separator, given.keys, given.sorts), TEXT
        share = one.arguments[0]
        number = float(share.text) if isinstance(share, tree.Literal) and share.kind in ("integer", "decimal", "double") else -1.0
        if not 0 <= number <= 1:
            raise self._wrong(f"{name} takes a share from 0 to 1", share)
        continuous = name == "PERCENTILE_CONT"
        made = groups.percentile(numbers, many, value, known, number, continuous, one.within[0].descending)
        return made, DOUBLE if continuous else kind

    def _group_errors(self, given: Input, numbers: np.ndarray, many: int) -> np.ndarray | None:
        """An aggregate that meets an error is that error: of a group's errors the first."""
        if given.value is None or given.value.errors is None:
            return None
        rows = np.flatnonzero((given.value.errors != 0) & given.mask)
        made = np.zeros(many, np.uint8)
        made[numbers[rows[::-1]]] = given.value.errors[rows[::-1]]
        return made
