"""GROUP BY and aggregates."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct
from msgspec.structs import replace

from gravel.engine.row_codes import codes_by_slices, codes_of
from gravel.engine.sets import distinct_values
from gravel.engine.vector import Vector
from gravel.kernels.arrays import to_arrow
from gravel.language import parse, tree
from gravel.language.types import INTEGER, TEXT, Kind, Type
from gravel.profiling.column_kind import identifies
from gravel.querying.account import Account
from gravel.querying.aggregation import Aggregation, Input
from gravel.querying.context import QueryContext
from gravel.querying.evaluation import ExpressionEvaluator
from gravel.querying.group_inputs import GroupInputs, Keys
from gravel.querying.partitions import ROW_BYTES, more_than, one_by_one, partitions
from gravel.querying.relation import Columns, Grouped, Relation, as_type, joined, taken
from gravel.querying.text_extremes import groups_with_numbers_beyond
from gravel.words import number_of


class RowGroups(Struct, frozen=True):
    """Some rows (None: all) with the number of the group that each is in, and how many groups there
    are."""

    rows: np.ndarray | None
    numbers: np.ndarray
    many: int


def _with_several(part: RowGroups, values: pa.Array) -> tuple[int, np.ndarray]:
    """How many groups hold more than one known value, and their rows."""
    values = values if part.rows is None else values.take(to_arrow(part.rows))
    known = pc.is_valid(values).to_numpy(zero_copy_only=False)
    codes, first = codes_of([values], len(values))
    pairs = distinct_values(
        part.numbers[known].astype(np.int64) * max(1, len(first)) + codes[known]
    )
    several = np.bincount(pairs // max(1, len(first)), minlength=part.many) > 1
    rows = np.flatnonzero(several[part.numbers])
    return int(several.sum()), rows if part.rows is None else part.rows[rows]


class Grouping(Struct):
    """Rows of groups, a column for each key and each aggregate."""

    account: Account
    context: QueryContext
    expressions: ExpressionEvaluator
    aggregation: Aggregation
    inputs: GroupInputs

    def group(
        self,
        select: tree.Select,
        over: Relation,
        items: list[tree.Named],
        aggregates: list[tree.Aggregate],
        withs: dict[str, Relation],
    ) -> tuple[Relation, dict[Any, int]]:
        sets = self._grouping_sets(select.groups or (), over, items)
        every = self._by_shape(sets, over)
        over, keys, inputs = self.inputs.of(every, aggregates, over, withs)
        parts: list[tuple[list[Vector], list[Vector], int]] = []
        types: list[Type] = []
        for subset in sets:
            shapes = {self.expressions.shape(node, over) for node in subset}
            used = [keys[shape][0].values for shape in keys if shape in shapes]
            first, computed, types, groups_of = self._groups_of(
                used, over, aggregates, inputs, [shape in shapes for shape in keys], list(keys)
            )
            many = len(first) if used else 1
            heads = [
                taken(result, first) if shape in shapes else Vector(pa.nulls(many, kind.arrow))
                for shape, (result, kind) in keys.items()
            ]
            parts.append((heads, computed, many))
            self.warn_of_alike([head.values for head in heads])
            if subset and not self.account.quiet:
                self._warn_of_namesakes(
                    [node for node in subset if isinstance(node, tree.Name)],
                    groups_of,
                    many,
                    over,
                    items,
                )
        if not types and aggregates:
            types = [INTEGER] * len(aggregates)
        columns = [
            (joined([as_type(part[0][index], kind) for part in parts], kind), kind)
            for index, kind in enumerate(key_types(keys))
        ]
        columns += [
            (joined([part[1][index] for part in parts], kind), kind)
            for index, kind in enumerate(types)
        ]
        count = sum(part[2] for part in parts)
        stage = self.enter(select, over, count)
        grouped, stands = self.relation(every, aggregates, over, columns, count)
        return replace(grouped, stage=stage), stands

    def single_set(
        self, select: tree.Select, over: Relation, items: list[tree.Named]
    ) -> dict[Any, tree.Node] | None:
        """What rows are grouped by, by its shape, where that is one set, and no other column tells
        its names apart; else None."""
        sets = self._grouping_sets(select.groups or (), over, items)
        names = [node for subset in sets for node in subset if isinstance(node, tree.Name)]
        if len(sets) > 1 or any(self._identifying(names, over, items)):
            return None
        return self._by_shape(sets, over)

    def _by_shape(self, sets: list[tuple[tree.Node, ...]], over: Relation) -> dict[Any, tree.Node]:
        every: dict[Any, tree.Node] = {}
        for subset in sets:
            for node in subset:
                every.setdefault(self.expressions.shape(node, over), node)
        return every

    def warn_of_alike(self, keys: Sequence[pa.Array]) -> None:
        """Warn of groups whose keys differ in case or spaces only."""
        self.account.warn_of_alike(
            "GROUP BY and case", keys, "groups", "GROUP BY UPPER(TIDY_SPACES(…))"
        )

    def enter(
        self, select: tree.Select, over: Relation, count: int, rows_in: int | None = None
    ) -> int | None:
        """Enter so many groups into the account."""
        name = "GROUP BY" if select.groups is not None else "aggregates"
        return self.account.enter(name, (over,), count, number_of(count, "group"), rows_in)

    def relation(
        self,
        every: dict[Any, tree.Node],
        aggregates: Sequence[tree.Aggregate],
        over: Relation,
        columns: Sequence[tuple[Vector, Type]],
        count: int,
    ) -> tuple[Grouped, dict[Any, int]]:
        """So many groups of some rows, with columns for the keys, by their shapes, and the
        aggregates; and where both stand."""
        names = [node.text if isinstance(node, tree.Name) else "" for node in every.values()]
        tables = [
            over.tables[shape[1]] if isinstance(node, tree.Name) and shape[0] == "column" else ""
            for shape, node in every.items()
        ]
        blank = ("",) * len(aggregates)
        grouped = Grouped(
            (*names, *blank),
            (*tables, *blank),
            tuple(kind for _, kind in columns),
            Columns((vector for vector, _ in columns), self.account.store),
            count,
            ungrouped=over,
        )
        stands: dict[Any, int] = {shape: index for index, shape in enumerate(every)}
        for position, item in enumerate(aggregates):
            stands[id(item)] = len(every) + position
            stands[self.expressions.shape(item, over)] = len(every) + position
        return grouped, stands

    def _groups_of(
        self,
        keys: list[pa.Array],
        over: Relation,
        aggregates: list[tree.Aggregate],
        inputs: list[Input],
        used: list[bool],
        shapes: list[Any],
    ) -> tuple[np.ndarray, list[Vector], list[Type], list[RowGroups]]:
        """Of groups by some keys, in the order in which they are first met: the first row of each,
        its aggregates with their types, and the groups of the rows; part by part where all rows do
        not fit into memory."""
        few = (
            self.account.memory is not None
            and bool(keys)
            and not more_than(keys, over.count, self.account.memory // ROW_BYTES)
        )
        parts = None if few else partitions(keys, over.count, self.account.memory)
        firsts, computed, rows_of = [], [], []
        types: list[Type] = []
        beyond = {index: 0 for index, supplied in enumerate(inputs) if supplied.is_extreme_of_texts}
        for rows in [None] if parts is None else one_by_one(parts, self.account.give_back):
            subset = keys if rows is None else [key.take(to_arrow(rows)) for key in keys]
            size = over.count if rows is None else len(rows)
            numbers, first = (
                codes_by_slices(subset, size, self.account.let_go)
                if keys
                else (np.zeros(size, np.int64), np.zeros(0, np.int64))
            )
            many = len(first) if keys else 1
            results = []
            for index, (aggregate, whole) in enumerate(zip(aggregates, inputs, strict=True)):
                supplied = whole if rows is None else whole.take(rows)
                results.append(
                    self.aggregation.of_groups(
                        aggregate, supplied, numbers, many, over, used, shapes
                    )
                )
                if index in beyond and not self.account.quiet and many:
                    grouped_values = self.aggregation.grouped_values(supplied, numbers, many)
                    extremes = results[-1][0].values
                    beyond[index] += groups_with_numbers_beyond(
                        grouped_values, supplied.name, extremes
                    )
            computed.append([vector for vector, _ in results])
            types = [kind for _, kind in results]
            firsts.append(first if rows is None else rows[first].astype(np.int64))
            rows_of.append(
                RowGroups(rows, numbers.astype(np.int32) if size < 2**31 else numbers, many)
            )
        for index, groups in beyond.items():
            self.warn_of_numbers(aggregates[index], groups)
        if parts is None:
            return firsts[0], computed[0], types, rows_of
        every = np.concatenate(firsts)
        order = np.argsort(every, kind="stable")
        together = [
            taken(joined([part[index] for part in computed], kind), order)
            for index, kind in enumerate(types)
        ]
        return every[order], together, types, rows_of

    def warn_of_numbers(self, aggregate: tree.Aggregate, groups: int) -> None:
        """Warn of groups whose MIN or MAX of texts is not that of the numbers among them."""
        name, argument = aggregate.name.upper(), self.context.written(aggregate.arguments[0])[:60]
        self.account.warn(
            "numbers compared as texts",
            groups,
            f"a {'smaller' if name == 'MIN' else 'greater'} number is in the group than"
            f" {name}({argument}), which compares texts",
            f"{name}(CAST({argument} AS DECIMAL))",
        )

    def _warn_of_namesakes(
        self,
        names: list[tree.Name],
        groups_of: list[RowGroups],
        many: int,
        over: Relation,
        items: list[tree.Named],
    ) -> None:
        """Groups of a name in which a column that identifies what is named has several values,
        where most groups have one."""
        for node, match, other in self._identifying(names, over, items):
            results = [_with_several(part, over.vectors[other].values) for part in groups_of]
            if not 0 < sum(several for several, _ in results) * 5 <= many:
                continue
            rows = np.concatenate([subset for _, subset in results])
            texts = pc.unique(over.vectors[match].values.take(to_arrow(rows)))[:3].to_pylist()
            written = self.context.written(node)[:60]
            table = f"{node.table}." if node.table else ""
            self.account.warn(
                "namesakes",
                len(rows),
                f"are in groups of {written} that hold several {over.names[other]}",
                f"GROUP BY {table}{over.names[other]}, {written}",
                tuple(text for text in texts if text is not None),
            )

    def _identifying(
        self, names: list[tree.Name], over: Relation, items: list[tree.Named]
    ) -> Iterator[tuple[tree.Name, int, int]]:
        """Names that rows are grouped by, each with its column and one that identifies what it
        names and is not in the result."""
        selected = {
            name.text.casefold() for item in items for name in parse.column_names(item.expression)
        }
        selected |= {name.text.casefold() for name in names}
        for node in names:
            match = over.search(node, self.context.text)
            if match is None or over.types[match] != TEXT:
                continue
            table = over.tables[match]
            own = [other for other in range(len(over.names)) if over.tables[other] == table]
            for other in own:
                if over.names[other].casefold() not in selected and identifies(
                    over.names[other], over.names[match], other == own[0]
                ):
                    yield node, match, other

    def _grouping_sets(
        self, groups_: Sequence[tree.Node], over: Relation, items: list[tree.Named]
    ) -> list[tuple[tree.Node, ...]]:
        sets: list[tuple[tree.Node, ...]] = [()]
        for group in groups_:
            if isinstance(group, tree.GroupingSets):
                more = [
                    tuple(self._meant(node, over, items) for node in subset)
                    for subset in group.sets
                ]
            elif isinstance(group, tree.Row):
                more = [tuple(self._meant(node, over, items) for node in group.items)]
            else:
                more = [(self._meant(group, over, items),)]
            sets = [(*a, *b) for a in sets for b in more]
        return sets

    def _meant(self, node: tree.Node, over: Relation, items: list[tree.Named]) -> tree.Node:
        """A position or an alias in GROUP BY as the expression it stands for; a column of that name
        wins."""
        if isinstance(node, tree.Literal) and node.kind == "integer":
            index = int(node.text)
            if not 1 <= index <= len(items):
                raise self.context.wrong(f"there is no item {index} in the select list", node)
            return items[index - 1].expression
        if (
            isinstance(node, tree.Name)
            and not node.table
            and over.search(node, self.context.text) is None
        ):
            for item in items:
                if item.name.casefold() == node.text.casefold():
                    return item.expression
        return node


def key_types(keys: Keys) -> list[Type]:
    """The types of what rows are grouped by."""
    return [kind if kind.kind is not Kind.NULL else TEXT for _, kind in keys.values()]
