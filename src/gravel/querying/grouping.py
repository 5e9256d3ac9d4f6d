"""GROUP BY and aggregates."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.aggregates import STATES, GroupedValues, result_type, state_of
from gravel.engine.vector import Vector
from gravel.language import building, parse, tree
from gravel.language.functions.casts import to_text
from gravel.language.types import BOOLEAN, INTEGER, NUMBERS, TEXT, Kind, Type
from gravel.profiling.column_kind import identifies
from gravel.querying import groups
from gravel.querying.partitions import ROW_BYTES, more_than, one_by_one, partitions
from gravel.querying.relation import Columns, Grouped, Relation, as_type, codes_by_slices, codes_of, joined, taken
from gravel.querying.shapes import literal_text, top
from gravel.querying.sources import Sources


@dataclass(frozen=True)
class Input:
    """What an aggregate is of: its value a row (None for COUNT(*)), values beside it, the rows of its FILTER, its order."""

    name: str
    value: Vector | None
    kind: Type
    mask: np.ndarray
    keys: list[Any]
    sorts: Any
    others: tuple[Vector, ...] = ()

    def take(self, rows: np.ndarray) -> Input:
        """Of these rows."""
        return replace(
            self, value=None if self.value is None else taken(self.value, rows), mask=self.mask[rows],
            keys=[key.take(pa.array(rows)) for key in self.keys], others=tuple(taken(one, rows) for one in self.others),
        )  # fmt: skip


@dataclass(frozen=True)
class RowGroups:
    """Some rows (None: all) with the number of the group that each is in, and how many groups there are."""

    rows: np.ndarray | None
    numbers: np.ndarray
    many: int


def _with_several(part: RowGroups, values: Any) -> tuple[int, np.ndarray]:
    """How many groups hold more than one known value, and their rows."""
    values = values if part.rows is None else values.take(pa.array(part.rows))
    known = pc.is_valid(values).to_numpy(zero_copy_only=False)
    codes, first = codes_of([values], len(values))
    pairs = np.unique(part.numbers[known].astype(np.int64) * max(1, len(first)) + codes[known])
    several = np.bincount(pairs // max(1, len(first)), minlength=part.many) > 1
    rows = np.flatnonzero(several[part.numbers])
    return int(several.sum()), rows if part.rows is None else part.rows[rows]


class Grouping(Sources):
    """Rows of groups, a column for each key and each aggregate."""

    def _aggregates(
        self, select: tree.Select, items: list[tree.Named], query: tree.Query | None, over: Relation, withs: dict[str, Relation]
    ) -> list[tree.Aggregate]:
        """The aggregates that this block computes, its ORDER BY's too."""
        places: list[tree.Node] = [item.expression for item in items]
        places += [select.having] if select.having is not None else []
        places += [key.expression for key in query.order] if query is not None else []
        return [
            one
            for place in places
            for one in top(place, (tree.Aggregate,), windows=True)
            if isinstance(one, tree.Aggregate) and one.over is None
        ] + [one for place in places for one in self.aggregates_of_outer_columns(place, over, withs)]

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
        over, keys = self._without_bad_inputs(aggregates, over, keys, every, withs)
        inputs = [self._input(one, over, withs) for one in aggregates]
        parts: list[tuple[list[Vector], list[Vector], int]] = []
        types: list[Type] = []
        for some in sets:
            shapes = {self.shape(node, over) for node in some}
            used = [keys[shape][0].values for shape in keys if shape in shapes]
            first, computed, types, groups_of = self._groups_of(
                used, over, aggregates, inputs, [shape in shapes for shape in keys], list(keys)
            )
            many = len(first) if used else 1
            heads = [taken(made, first) if shape in shapes else Vector(pa.nulls(many, kind.arrow)) for shape, (made, kind) in keys.items()]
            parts.append((heads, computed, many))
            self._warn_alike("GROUP BY and case", [one.values for one in heads], "groups", "GROUP BY UPPER(TIDY_SPACES(…))")
            if some and not self.quiet:
                self._warn_of_namesakes([node for node in some if isinstance(node, tree.Name)], groups_of, many, over, items)
        if not types and aggregates:
            types = [INTEGER] * len(aggregates)
        key_types = [kind if kind.kind is not Kind.NULL else TEXT for _, kind in keys.values()]
        vectors = [joined([as_type(part[0][at], kind) for part in parts], kind) for at, kind in enumerate(key_types)]
        vectors += [joined([part[1][at] for part in parts], kind) for at, kind in enumerate(types)]
        count = sum(part[2] for part in parts)
        stage = self._tell("GROUP BY" if select.groups is not None else "aggregates", (over,), count, f"{count:,} groups")
        names = [node.text if isinstance(node, tree.Name) else "" for node in every.values()]
        tables = [over.tables[shape[1]] if isinstance(node, tree.Name) and shape[0] == "column" else "" for shape, node in every.items()]
        grouped = Grouped(
            (*names, *("" for _ in types)), (*tables, *("" for _ in types)), (*key_types, *types),
            Columns(vectors), count, ungrouped=over, stage=stage,
        )  # fmt: skip
        stands: dict[Any, int] = {shape: at for at, shape in enumerate(keys)}
        for at, one in enumerate(aggregates):
            stands[id(one)] = len(keys) + at
            stands[self.shape(one, over)] = len(keys) + at
        return grouped, stands

    def _groups_of(
        self, keys: list[Any], over: Relation, aggregates: list[tree.Aggregate], inputs: list[Input], used: list[bool], shapes: list[Any]
    ) -> tuple[np.ndarray, list[Vector], list[Type], list[RowGroups]]:  # fmt: skip
        """Of groups by some keys, in the order in which they are first met: the first row of each, its aggregates with their types, and
        the groups of the rows; part by part where all rows do not fit into memory."""
        few = self.memory is not None and bool(keys) and not more_than(keys, over.count, self.memory // ROW_BYTES)
        parts = None if few else partitions(keys, over.count, self.memory)
        firsts, computed, rows_of = [], [], []
        types: list[Type] = []
        for rows in [None] if parts is None else one_by_one(parts, self._give_back):
            some = keys if rows is None else [key.take(pa.array(rows)) for key in keys]
            size = over.count if rows is None else len(rows)
            numbers, first = codes_by_slices(some, size, self._let_go) if keys else (np.zeros(size, np.int64), np.zeros(0, np.int64))
            many = len(first) if keys else 1
            made = [
                self._aggregate(one, given if rows is None else given.take(rows), numbers, many, over, used, shapes)
                for one, given in zip(aggregates, inputs, strict=True)
            ]
            computed.append([vector for vector, _ in made])
            types = [kind for _, kind in made]
            firsts.append(first if rows is None else rows[first].astype(np.int64))
            rows_of.append(RowGroups(rows, numbers.astype(np.int32) if size < 2**31 else numbers, many))
        if parts is None:
            return firsts[0], computed[0], types, rows_of
        every = np.concatenate(firsts)
        order = np.argsort(every, kind="stable")
        together = [taken(joined([part[at] for part in computed], kind), order) for at, kind in enumerate(types)]
        return every[order], together, types, rows_of

    def _warn_of_namesakes(
        self, names: list[tree.Name], groups_of: list[RowGroups], many: int, over: Relation, items: list[tree.Named]
    ) -> None:
        """Groups of a name in which a column that identifies what is named has several values, where most groups have one."""
        selected = {name.text.casefold() for item in items for name in parse.column_names(item.expression)}
        selected |= {name.text.casefold() for name in names}
        for node in names:
            at = over.search(node, self.text)
            if at is None or over.types[at] != TEXT:
                continue
            own = [other for other in range(len(over.names)) if over.tables[other] == over.tables[at]]
            for other in own:
                if over.names[other].casefold() in selected or not identifies(over.names[other], over.names[at], other == own[0]):
                    continue
                found = [_with_several(part, over.vectors[other].values) for part in groups_of]
                if 0 < sum(several for several, _ in found) * 5 <= many:
                    rows = np.concatenate([some for _, some in found])
                    texts = pc.unique(over.vectors[at].values.take(pa.array(rows)))[:3].to_pylist()
                    detail = f"are in groups of {self._written(node)[:60]} that hold several {over.names[other]}"
                    table = f"{node.table}." if node.table else ""
                    hint = f"GROUP BY {table}{over.names[other]}, {self._written(node)[:60]}"
                    self._warn("namesakes", len(rows), detail, hint, tuple(text for text in texts if text is not None))

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

    def _without_bad_inputs(
        self, aggregates: list[tree.Aggregate], over: Relation, keys: dict[Any, tuple[Vector, Type]], every: dict[Any, tree.Node],
        withs: dict[str, Relation],
    ) -> tuple[Relation, dict[Any, tuple[Vector, Type]]]:  # fmt: skip
        """An error in an aggregate's input is one of its source row: it is told, and the row left out where errors leave rows out."""
        inputs: list[tuple[str, Vector]] = []
        for one in aggregates:
            if one.name.upper() == "GROUPING":
                continue
            mask = np.ones(over.count, bool)
            if one.filter is not None:
                decided, _ = self.evaluate(one.filter, over, withs, condition=True, watched=False)
                inputs.append((self._written(one.filter), decided))
                mask = decided.true(over.count)
            for node in (*self._items_of(one.arguments), *(key.expression for key in one.within + one.order)):
                made, _ = self.evaluate(node, over, withs, watched=False)
                if made.errors is not None:
                    inputs.append((self._written(one), Vector(made.values, np.where(mask, made.errors, 0).astype(np.uint8))))
        sound = self._sound("aggregate", over, inputs, lambda failed: self._by_group(failed, keys, every))
        if sound is None:
            return over, keys
        return over.take(sound), {shape: (taken(made, sound), kind) for shape, (made, kind) in keys.items()}

    def _by_group(self, failed: np.ndarray, keys: dict[Any, tuple[Vector, Type]], every: dict[Any, tree.Node]) -> str:
        """How many rows are left out of each group, of the first groups."""
        if not keys:
            return ""
        rows = np.flatnonzero(failed)
        columns = [taken(made, rows).values for made, _ in keys.values()]
        codes, first = codes_of(columns, len(rows))
        texts = [to_text(column.take(pa.array(first)), kind).to_pylist() for column, (_, kind) in zip(columns, keys.values(), strict=True)]
        counts = np.bincount(codes, minlength=len(first))
        names = [self._written(node)[:30] for node in every.values()]
        told = []
        for at in range(min(len(first), 5)):
            group = ", ".join(f"{name} {'NULL' if text[at] is None else text[at][:30]}" for name, text in zip(names, texts, strict=True))
            told.append(f"{counts[at]:,} of {group}")
        more = len(first) - len(told)
        return ": " + "; ".join(told) + (f"; and {more:,} groups more" if more > 0 else "")

    @staticmethod
    def _items_of(arguments: Sequence[tree.Node]) -> list[tree.Node]:
        """Arguments with rows of values as their items."""
        return [item for one in arguments for item in (one.items if isinstance(one, tree.Row) else (one,))]

    def _input(self, one: tree.Aggregate, over: Relation, withs: dict[str, Relation], stands: dict[Any, int] | None = None) -> Input:
        name = one.name.upper()
        if name not in building.AGGREGATES:
            raise self._wrong(f"{name} is no aggregate", one, "window functions have OVER (…)" if name in building.WINDOWS else "")
        if one.nulls:
            raise self._wrong(f"{name} takes no {one.nulls} NULLS", one, "LAG, LEAD, FIRST_VALUE, LAST_VALUE and NTH_VALUE do")
        mask = np.ones(over.count, bool)
        if one.filter is not None:
            mask = self.evaluate(one.filter, over, withs, stands, condition=True)[0].true(over.count)
        if name == "GROUPING" or one.star:
            if one.star and name != "COUNT":
                raise self._wrong(f"{name} takes an expression", one)
            return Input(name, None, INTEGER, mask, [], ())
        arguments = self._items_of(one.arguments)
        rows = len(arguments) > len(one.arguments)
        if rows and not (name == "COUNT" and one.distinct):
            raise self._wrong(f"{name} takes one value", one, "COUNT(DISTINCT (a, b)) counts combinations" if name == "COUNT" else "")
        least, most = {"LISTAGG": (1, 2)}.get(name, (2, 2) if name in building.REGRESSIONS else (1, 1))
        if not least <= len(arguments) <= most and not rows:
            hint = "COUNT(DISTINCT (a, b)) counts combinations" if name == "COUNT" else ""
            raise self._wrong(f"{name} does not take {len(arguments)} arguments", one, hint)
        percentile = name.startswith("PERCENTILE")
        if percentile and len(one.within) != 1:
            raise self._wrong(f"{name} needs WITHIN GROUP (ORDER BY x), one key", one)
        if one.within and not percentile and name != "LISTAGG":
            raise self._wrong(f"{name} takes no WITHIN GROUP", one, f"{name}(x ORDER BY …)")
        sorts = one.order or one.within
        subject = one.within[0].expression if percentile else arguments[0]
        # COUNT(CASE WHEN … THEN x END) counts the rows of the condition: what falls through is the answer no.
        counted = name == "COUNT" and isinstance(subject, tree.Case) and subject.otherwise is None
        given = [
            self.evaluate(node, over, withs, stands, counted=counted)
            for node in ([subject] if percentile or name == "LISTAGG" else arguments)
        ]
        value, kind = given[0]
        if name in ("SUM", "AVG", "PERCENTILE_CONT") or name.startswith(("STDDEV", "VAR")) or name in building.REGRESSIONS:
            for at, ((made, one_kind), node) in enumerate(zip(given, arguments, strict=False)):
                if one_kind.kind not in (*NUMBERS, Kind.NULL):
                    node = subject if percentile else node
                    hint = f"write CAST({self._written(node)[:60]} AS DECIMAL)"
                    raise self._wrong(f"{name} takes a number, this is {one_kind}", node, hint)
                if one_kind.kind is Kind.NULL:
                    given[at] = (as_type(made, INTEGER), INTEGER)
            value, kind = given[0]
        if kind.kind is Kind.NULL:
            to = BOOLEAN if name == "EVERY" else TEXT
            value, kind = as_type(value, to), to
        if name == "LISTAGG" and kind != TEXT:
            raise self._wrong(f"LISTAGG takes TEXT, this is {kind}", subject, f"write CAST({self._written(subject)[:60]} AS TEXT)")
        if name == "EVERY" and kind != BOOLEAN:
            raise self._wrong(f"EVERY takes a condition, this is {kind}", subject, "compare it: … = …")
        keys = [] if percentile else [self.evaluate(key.expression, over, withs, stands)[0].values for key in sorts]
        if one.distinct and kind == TEXT:
            some = value.values.filter(pa.array(mask))
            self._warn_alike(
                f"{name}(DISTINCT) and case", [some], f"values of {self._written(subject)[:60]}", f"{name}(DISTINCT UPPER(TIDY_SPACES(…)))"
            )
        if name == "LISTAGG" and not sorts and over.count:
            told = f"come in no order that {self._written(one)[:60]} says"
            self._warn("LISTAGG without an order", int(mask.sum()), told, "add WITHIN GROUP (ORDER BY …)")
        if not self.quiet and name in ("COUNT", "AVG", "SUM") and not one.distinct and not counted:
            failed = value.failed(over.count)
            nulls = int((pc.is_null(value.values).to_numpy(zero_copy_only=False) & mask & ~failed).sum())
            if nulls:
                self._warn(
                    "aggregate passes over NULL",
                    nulls,
                    f"have NULL in {self._written(subject)[:60]}, which the aggregates of it pass over",
                    "COUNT(*) counts rows; COALESCE gives NULL a value",
                )
        return Input(name, value, kind, mask, keys, sorts, tuple(made for made, _ in given[1:]))

    def _aggregate(
        self, one: tree.Aggregate, given: Input, numbers: np.ndarray, many: int, over: Relation, used: list[bool], shapes: list[Any]
    ) -> tuple[Vector, Type]:
        if given.name == "GROUPING":
            bits = 0
            for node in one.arguments:
                shape = self.shape(node, over)
                if shape not in shapes:
                    raise self._wrong("GROUPING takes what is grouped by", node)
                bits = bits * 2 + (not used[shapes.index(shape)])
            return Vector(pa.array(np.full(many, bits), pa.int64())), INTEGER
        if given.value is None:
            return Vector(pa.array(np.bincount(numbers[given.mask], minlength=many), pa.int64())), INTEGER
        known = self._known(given)
        if one.distinct:
            known = groups.distinct_rows(numbers, [given.value.values, *(other.values for other in given.others)], known)
        return self._computed(one, given, numbers, many, known)

    def _known(self, given: Input) -> np.ndarray:
        """The rows that an aggregate takes: those of its FILTER whose values are known; ARRAY_AGG takes NULL too."""
        known = given.mask.copy()
        if given.name == "ARRAY_AGG" or given.value is None or (given.name == "COUNT" and given.others):
            return known  # a row of values is none even where one of them is NULL
        for one in (given.value, *given.others):
            if one.values.null_count:
                known &= pc.is_valid(one.values).to_numpy(zero_copy_only=False)
        return known

    def _computed(self, one: tree.Aggregate, given: Input, numbers: np.ndarray, many: int, known: np.ndarray) -> tuple[Vector, Type]:
        name, kind = given.name, given.kind
        to = result_type(name, kind)
        assert given.value is not None
        value = given.value.values
        if name in STATES:
            others = tuple(other.values for other in given.others) if name in building.REGRESSIONS else ()
            return state_of(name, GroupedValues(numbers, many, value, known, others), self._let_go).finish(name, kind), to
        if name in ("LISTAGG", "ARRAY_AGG", "ANY_VALUE"):
            rows = groups.in_order(numbers, known, given.keys, given.sorts)
            if name == "ANY_VALUE":
                return groups.first_by(numbers, many, value, rows), to
            if name == "ARRAY_AGG":
                return Vector(groups.gathered(numbers, many, value, rows)), to
            separator = literal_text(one.arguments[1]) if len(one.arguments) > 1 else ""
            if separator is None:
                raise self._wrong("the separator of LISTAGG is a text literal", one.arguments[1])
            return groups.listed(numbers, many, value, rows, separator), to
        share = one.arguments[0]
        number = float(share.text) if isinstance(share, tree.Literal) and share.kind in ("integer", "decimal", "double") else -1.0
        if not 0 <= number <= 1:
            raise self._wrong(f"{name} takes a share from 0 to 1", share)
        continuous = name == "PERCENTILE_CONT"
        return groups.percentile(numbers, many, value, known, number, continuous, one.within[0].descending), to
