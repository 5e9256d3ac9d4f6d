"""Running a query: FROM, WHERE, GROUP BY, HAVING, windows, SELECT, DISTINCT, ORDER BY, in the
standard's order; each stage accounts for its rows."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.vector import Vector
from gravel.inspecting.look import sort_order
from gravel.language import parse, tree
from gravel.language.cautions import ListItems
from gravel.language.types import TEXT, Kind, Type, common
from gravel.problems import DataProblem
from gravel.querying.partitions import flat_indices, one_by_one, partitions
from gravel.querying.relation import (
    Columns,
    Grouped,
    Later,
    Relation,
    as_type,
    codes_of,
    joined,
    renamed,
    typed,
)
from gravel.querying.shapes import SUBQUERIES, top
from gravel.querying.windowing import Windowing

_ROUNDS, _RECURSIVE_ROWS = 100_000, 20_000_000  # a recursive query beyond them does not end


class Session(Windowing):
    """Runs queries; see Base."""

    def query(self, text: str) -> Relation:
        """The result of a query text. Raises Diagnostic, TableProblem, DataProblem for a row error
        where errors stop it."""
        self.text = text
        output = parse.query(text)
        self.given = replace(self.given, members=self.members)
        self.reading(output)
        self.list_items = self._items_taken(output)
        result = self.run_query(output, {})
        return self._settle(result)

    def _items_taken(self, query: tree.Query) -> ListItems:
        """Which items of lists a query takes anywhere: what LIST_ITEM leaves may be another
        one's."""
        taken: ListItems = {}
        for node in parse.walk(query):
            if (
                isinstance(node, tree.Call)
                and node.name.upper() == "LIST_ITEM"
                and len(node.arguments) == 3
            ):
                written = [" ".join(self._written(argument).split()) for argument in node.arguments]
                if written[2].removeprefix("-").isdigit():
                    taken.setdefault((written[0], written[1]), set()).add(int(written[2]))
        return taken

    def reading(self, query: tree.Query) -> None:
        """Read of every table only the columns that a query names, if it does not mean all with *
        or a NATURAL join."""
        names = {node.text.casefold() for node in parse.walk(query) if isinstance(node, tree.Name)}
        names |= {
            name.casefold()
            for node in parse.walk(query)
            if isinstance(node, tree.Join)
            for name in node.using
        }
        groups = (node.groups or () for node in parse.walk(query) if isinstance(node, tree.Select))
        self._grouped = {
            item.text for items in groups for item in items if isinstance(item, tree.Name)
        }
        every = any(
            isinstance(node, tree.AllColumns) or (isinstance(node, tree.Join) and node.natural)
            for node in parse.walk(query)
        )
        self._wanted = None if every else names

    def run_query(self, query: tree.Query, withs: dict[str, Relation]) -> Relation:
        """A query's relation, its order kept."""
        own = dict(withs)
        for item in query.withs:
            result = (
                self._recursive(item, own)
                if query.recursive and _names_itself(item)
                else self.run_query(item.query, own)
            )
            own[item.name.casefold()] = renamed(result, item.name, item.columns, item, self.text)
        self._withs = own
        offset, fetch = (
            None if node is None else self._rows_of(node) for node in (query.offset, query.fetch)
        )
        body = query.body
        if isinstance(body, tree.Select):
            return self._select(body, own, query, offset, fetch)
        result = self._body(body, own)
        return self._limited(self._ordered(result, result, query, {}, own), query, offset, fetch)

    def _rows_of(self, node: tree.Node) -> int | None:
        number = self.number(node, "a number of rows")
        if number is not None and number < 0:
            raise self._wrong("a number of rows is 0 or more", node)
        return number

    def _recursive(self, value: tree.With, withs: dict[str, Relation]) -> Relation:
        """WITH RECURSIVE: the first query's rows, then the second's over the rows that were new,
        until none is."""
        body = value.query.body
        if not isinstance(body, tree.SetOperation) or body.operator != "UNION":
            raise self._wrong(
                f"{value.name} reads itself: it is a query UNION [ALL] a query that reads it",
                value.query,
            )
        result = typed(self._body(body.left, withs))
        names = value.columns or result.names
        self.quiet += 1
        try:
            result = self._once_each(result) if not body.all else result
            fresh, rounds = result, 0
            while fresh.count:
                rounds += 1
                if rounds > _ROUNDS or result.count > _RECURSIVE_ROWS:
                    raise DataProblem(
                        f"{value.name} does not end: {result.count:,} rows after {rounds - 1:,}"
                        " rounds",
                        hint="it needs a WHERE that comes to no row at last",
                    )
                own = {
                    **withs,
                    value.name.casefold(): renamed(
                        fresh, value.name, tuple(names), value, self.text
                    ),
                }
                more = typed(self._body(body.right, own))
                both, kinds = self._stacked(result, more, body)
                if not body.all:
                    both = self._once_each(both)
                fresh = both.take(np.arange(result.count, both.count))
                result = replace(both, types=kinds)
        finally:
            self.quiet -= 1
        result = replace(
            result,
            stage=self._tell(
                f"WITH RECURSIVE {value.name}", (result,), result.count, f"after {rounds:,} rounds"
            ),
        )
        if value.query.order or value.query.fetch is not None or value.query.offset is not None:
            raise self._wrong(
                "a query that reads itself takes no ORDER BY and no LIMIT",
                value.query,
                "put them into the query that reads it",
            )
        return result

    def _once_each(self, relation: Relation) -> Relation:
        return relation.take(self._first_of_each(relation))

    def _first_of_each(self, relation: Relation) -> np.ndarray:
        """The first row of each different one, ascending."""
        columns = [vector.values for vector in relation.vectors]
        parts = partitions(columns, relation.count, self.memory)
        if parts is None:
            return np.sort(codes_of(columns, relation.count)[1])
        firsts = (
            rows[codes_of([column.take(pa.array(rows)) for column in columns], len(rows))[1]]
            for rows in one_by_one(parts, self._give_back)
        )
        return np.sort(np.concatenate(list(firsts)))

    def _body(self, body: Any, withs: dict[str, Relation]) -> Relation:
        if isinstance(body, tree.Select):
            return self._select(body, withs, None)
        if isinstance(body, tree.Values):
            return self._values(body)
        if isinstance(body, tree.Query):
            return self.run_query(body, withs)
        return self._set_operation(body, withs)

    def _settle(self, relation: Relation) -> Relation:
        """The final result: its row errors stop the query, become NULL, or leave their rows out."""
        relation = typed(relation)
        failed = np.zeros(relation.count, bool)
        for index, (name, plain) in enumerate(zip(relation.names, relation.plains, strict=True)):
            # A plan's column as it stands is passed on as it is written; one without errors need
            # not be made to know that.
            if relation.vectors.fails(index) and (plain is None or relation.origin is None):
                errors = relation.vectors[index].errors
                if errors is not None:
                    self._fault("SELECT", name, errors, relation.rows)
                    failed |= errors != 0
        if not failed.any():
            return relation
        if self.on_error == "omit":
            self._left_out(relation, failed)
            kept = relation.take(np.flatnonzero(~failed))
            relation = replace(
                kept, stage=self._tell("omitted", (relation,), kept.count, "rows with an error")
            )
        return replace(
            relation, vectors=Columns(Vector(vector.values) for vector in relation.vectors)
        )

    def _select(
        self,
        select: tree.Select,
        withs: dict[str, Relation],
        query: tree.Query | None,
        offset: int | None = None,
        fetch: int | None = None,
    ) -> Relation:
        decided: set[int] = set()
        first = None if query is None or fetch is None else self._table_alone(select, query, withs)
        over = (
            self._from(select, withs, decided)
            if first is None
            else self._first_rows(first, select.where, (offset or 0) + (fetch or 0))
        )
        own = len(over.names)
        over, outside = self._with_outer(over)
        where = _without(select.where, decided)
        if where is not None:
            over = self._where(where, over, withs, "WHERE", outside)
        items, stands = self._items(select, over, own)
        stands |= outside
        aggregates = [
            aggregate
            for aggregate in self._aggregates(select, items, query, over, withs)
            if id(aggregate) not in outside
        ]
        if select.groups is not None or aggregates or select.having is not None:
            over, stands = self._group(select, over, items, aggregates, withs)
            beside, outside = self._with_outer(over)
            if isinstance(over, Grouped) and beside is not over:
                # Still groups: what is written names the columns of the rows that were grouped.
                fields = {
                    dataclass.name: getattr(beside, dataclass.name)
                    for dataclass in dataclasses.fields(Relation)
                }
                over = Grouped(**fields, ungrouped=over.ungrouped)
            stands |= outside
            if select.having is not None:
                over = self._where(select.having, over, withs, "HAVING", stands)
        over, stands = self._windows(select, items, query, over, withs, stands)
        names, vectors, types, plains = [], [], [], []
        for item in items:
            output, kind = self._as_it_stands(item.expression, over, stands) or self.evaluate(
                item.expression, over, withs, stands
            )
            own = item.name_start == item.start
            names.append(
                item.expression.text
                if own and isinstance(item.expression, tree.Name)
                else item.name
            )
            vectors.append(output)
            types.append(kind)
            stands_at = None
            if isinstance(item.expression, tree.Name) and over.origin is not None:
                stands_at = stands.get(id(item.expression), over.search(item.expression, self.text))
            plains.append(None if stands_at is None else over.plains[stands_at])
        result = Relation(
            tuple(names),
            ("",) * len(names),
            tuple(types),
            Columns(vectors),
            over.count,
            rows=over.rows,
            origin=over.origin,
            plain=tuple(plains),
            stage=over.stage,
        )
        before: Relation | None = over
        shapes = {self.shape(item.expression, over): index for index, item in enumerate(items)}
        if select.distinct:
            result, before = self._distinct(result), None
        if query is None:
            return result
        chosen = [shapes.get(self.shape(key.expression, over)) for key in query.order]
        return self._limited(
            self._ordered(result, before, query, stands, withs, chosen), query, offset, fetch
        )

    def _table_alone(
        self, select: tree.Select, query: tree.Query, withs: dict[str, Relation]
    ) -> tree.TableReference | None:
        """The table of a query whose first rows do not depend on its later ones; None where they
        may."""
        source = select.sources[0] if len(select.sources) == 1 else None
        if (
            not isinstance(source, tree.TableReference)
            or query.order
            or select.distinct
            or select.groups is not None
            or select.having is not None
            or self._around is not None
            or (source.is_name and source.reference.casefold() in {*withs, *self.relations})
            or any(isinstance(node, tree.Aggregate) for node in parse.walk(select))
            or (select.where is not None and top(select.where, SUBQUERIES))
        ):
            return None
        return source

    def _as_it_stands(
        self, node: tree.Node, over: Relation, stands: dict[Any, int]
    ) -> tuple[Vector | Later, Type] | None:
        """A column that is only named, which need not be made before its rows are shown or written;
        None for anything else."""
        if not isinstance(node, tree.Name):
            return None
        index = stands[id(node)] if id(node) in stands else over.search(node, self.text)
        return (
            None
            if index is None or over.vectors.fails(index)
            else (over.vectors.cells[index], over.types[index])
        )

    def _where(
        self,
        node: tree.Node,
        over: Relation,
        withs: dict[str, Relation],
        stage: str,
        stands: dict[Any, int] | None = None,
    ) -> Relation:
        result, _ = self.evaluate(node, over, withs, stands, condition=True)
        if result.errors is not None:
            self._fault(stage, self._written(node), result.errors, over.rows)
            self._left_out(over, result.errors != 0)
        keep = result.true(over.count)
        false, failed = int(result.false(over.count).sum()), int(result.failed(over.count).sum())
        unknown = over.count - int(keep.sum()) - false - failed
        removed = over.count - int(keep.sum())
        message = (
            f"{removed:,} removed ({false:,} false, {unknown:,}"
            f" unknown{f', {failed:,} with an error' if failed else ''})"
            if removed
            else "none removed"
        )
        place = self._tell(stage, (over,), int(keep.sum()), message)
        self._outer_side(node, over, keep)
        return replace(over if keep.all() else over.take(flat_indices(keep)), stage=place)

    def _outer_side(self, node: tree.Node, over: Relation, keep: np.ndarray) -> None:
        """A condition on the outer side of a join that removes every row without a partner makes an
        inner join of it."""
        read = {
            index
            for name in parse.column_names(node)
            if (index := over.search(name, self.text)) is not None
        }
        for columns, mask in over.alone:
            if read & columns and mask.any() and not (mask & keep).any():
                detail = (
                    f"without a partner are removed by {self._written(node)[:60]}, which reads the"
                    " outer side: the join is an inner one now"
                )
                self._warn(
                    "WHERE on the outer side",
                    int(mask.sum()),
                    detail,
                    "put the condition into ON, or allow IS NULL",
                )

    def _items(
        self, select: tree.Select, over: Relation, own: int
    ) -> tuple[list[tree.Named], dict[Any, int]]:
        """The select list with * written out as the first `own` columns, and where those stand:
        their names may be shared."""
        results: list[tree.Named] = []
        stands: dict[Any, int] = {}
        for item in select.items:
            if isinstance(item, tree.Named):
                results.append(item)
                continue
            assert isinstance(item, tree.AllColumns)
            if not select.sources:
                raise self._wrong("* needs a FROM", item)
            places = [
                index
                for index in range(own)
                if over.names[index]
                and (
                    over.tables[index].casefold() == item.table.casefold()
                    if item.table
                    else index not in over.hidden
                )
            ]
            if not places:
                raise self._wrong(f"there is no table {item.table} here", item)
            for place in places:
                name = tree.Name(item.start, item.end, over.names[place], True, over.tables[place])
                stands[id(name)] = place
                results.append(
                    tree.Named(item.start, item.end, over.names[place], item.start, name)
                )
        return results, stands

    def _distinct(self, relation: Relation) -> Relation:
        sound = self._sound(
            "DISTINCT", relation, zip(relation.names, relation.vectors, strict=True)
        )
        relation = relation if sound is None else relation.take(sound)
        first = self._first_of_each(relation)
        stage = self._tell(
            "DISTINCT", (relation,), len(first), f"{relation.count - len(first):,} removed"
        )
        kept = replace(
            relation.take(first), origin=None, stage=stage
        )  # a row stands for several now
        self._warn_alike(
            "DISTINCT and case",
            [vector.values for vector in kept.vectors],
            "rows of the result",
            "SELECT DISTINCT UPPER(TIDY_SPACES(…))",
        )
        return kept

    def _ordered(
        self,
        relation: Relation,
        before: Relation | None,
        query: tree.Query,
        stands: dict[Any, int],
        withs: dict[str, Relation],
        chosen: Sequence[int | None] = (),
    ) -> Relation:
        if not query.order:
            return relation
        keys = []
        failed = np.zeros(relation.count, bool)
        for number, key in enumerate(query.order):
            node = key.expression
            match = None
            if isinstance(node, tree.Literal) and node.kind == "integer":
                match = int(node.text) - 1
                if not 0 <= match < len(relation.names):
                    raise self._wrong(f"there is no column {node.text} to sort by", node)
            elif isinstance(node, tree.Name) and not node.table:
                match = relation.search(node, self.text)
            if match is None and chosen:
                match = chosen[number]
            if match is not None:
                item = relation.vectors[match]
            elif before is not None:
                item = self.evaluate(node, before, withs, stands)[0]
            else:
                item = self.evaluate(node, relation, withs)[0]
            if item.errors is not None:
                self._fault("ORDER BY", self._written(node), item.errors, relation.rows)
                failed |= item.errors != 0
            keys.append(pa.chunked_array([item.values]))
        order = sort_order(keys, query.order)
        order = order.astype(np.int32) if relation.count < 2**31 else order
        if self.on_error == "omit" and failed.any():
            order = order[~failed[order]]
            self._left_out(relation, failed)
            relation = replace(
                relation,
                stage=self._tell(
                    "ORDER BY: omitted", (relation,), len(order), "rows with an error"
                ),
            )
        if query.fetch is not None:  # whose last rows may be ties
            self._sorted = keys, order
        stage = self._tell("ORDER BY", (relation,), len(order), rows_in=len(order))
        return replace(relation.take(order), stage=stage)

    def _limited(
        self, relation: Relation, query: tree.Query, offset: int | None, fetch: int | None
    ) -> Relation:
        if query.offset is None and query.fetch is None:
            return relation
        begin = offset or 0
        end = relation.count if fetch is None else min(relation.count, begin + fetch)
        if fetch and query.order and end < relation.count and end > begin:
            before, after = self._peers(end - 1)
            if query.ties:
                end += after
            elif after:
                self._warn(
                    "ties",
                    before + 1 + after,
                    "share the sort key of the last row, and some of them are not among the result",
                    "add a key to ORDER BY, or WITH TIES",
                )
        if fetch and not query.order and begin + fetch < relation.count:
            message = (
                "of those read are left out, and nothing says which: without ORDER BY the rows come"
                " as they are stored"
            )
            self._warn("FETCH without ORDER BY", relation.count - fetch, message, "add an ORDER BY")
        if fetch and query.order and query.order[0].nulls_first is None and relation.count:
            keys, order = self._sorted
            nulls = pc.is_null(keys[0].take(pa.array(order[begin:end]))).to_numpy()
            if len(nulls) and nulls[0]:
                message = (
                    f"of the result have NULL in {self._written(query.order[0].expression)[:60]},"
                    " which is sorted first"
                )
                self._warn(
                    "NULL comes first",
                    int(nulls.sum()),
                    message,
                    "NULLS LAST, or WHERE … IS NOT NULL",
                )
        kept = relation.take(
            np.arange(min(begin, relation.count), max(end, min(begin, relation.count)))
        )
        return replace(
            kept, stage=self._tell("FETCH", (relation,), kept.count, f"from row {begin + 1:,}")
        )

    def _peers(self, place: int) -> tuple[int, int]:
        """How many rows before and after a place among the sorted rows share its sort keys; as few
        as settle it are looked at."""
        keys, order = self._sorted
        span = 1_000
        while True:
            begin, end = max(0, place - span), min(len(order), place + 1 + span)
            near = [pa.concat_arrays(key.take(pa.array(order[begin:end])).chunks) for key in keys]
            codes, _ = codes_of(near, end - begin)
            same = codes == codes[place - begin]
            if (begin == 0 or not same[0]) and (end == len(order) or not same[-1]):
                return int(same[: place - begin].sum()), int(same[place - begin + 1 :].sum())
            span *= 8

    def _values(self, node: tree.Values) -> Relation:
        width = len(node.rows[0].items)
        entry, stands = self._with_outer(Relation((), (), (), Columns(()), 1))
        columns: list[list[tuple[Vector, Type]]] = [[] for _ in range(width)]
        for row in node.rows:
            if len(row.items) != width:
                raise self._wrong(f"{len(row.items)} values where the first row has {width}", row)
            for column, item in zip(columns, row.items, strict=True):
                column.append(self.evaluate(item, entry, self._withs, stands))
        vectors, types = [], []
        for column, item in zip(columns, node.rows[0].items, strict=True):
            kind = column[0][1]
            for _, other in column[1:]:
                both = common(kind, other)
                if both is None:
                    raise self._wrong(f"VALUES cannot mix {kind} and {other}", item)
                kind = both
            kind = TEXT if kind.kind is Kind.NULL else kind
            vectors.append(joined([as_type(result, kind) for result, _ in column], kind))
            types.append(kind)
        names = tuple(f"column{index + 1}" for index in range(width))
        return Relation(names, ("",) * width, tuple(types), Columns(vectors), len(node.rows))

    def _set_operation(self, node: tree.SetOperation, withs: dict[str, Relation]) -> Relation:
        left, right = self._body(node.left, withs), self._body(node.right, withs)
        both, _ = self._stacked(left, right, node)
        sound = None
        if not (node.operator == "UNION" and node.all):
            sound = self._sound(node.operator, both, zip(both.names, both.vectors, strict=True))
        if sound is not None:
            lefts = int((sound < left.count).sum())
            both = both.take(sound)
            left, right = replace(left, count=lefts), replace(right, count=both.count - lefts)
        keep = self._chosen(
            node, [vector.values for vector in both.vectors], left.count, right.count
        )
        result = both.take(keep)
        message = f"{left.count:,} and {right.count:,} rows"
        return replace(
            result,
            stage=self._tell(
                node.operator + (" ALL" if node.all else ""),
                (left, right),
                result.count,
                message,
                both.count,
            ),
        )

    def _stacked(
        self, left: Relation, right: Relation, node: tree.SetOperation
    ) -> tuple[Relation, tuple[Type, ...]]:
        """Both relations' rows, one after another, in common types."""
        if len(left.names) != len(right.names):
            raise self._wrong(
                f"{node.operator} of {len(left.names)} and {len(right.names)} columns", node
            )
        types = []
        for a, b, name in zip(left.types, right.types, left.names, strict=True):
            kind = common(a, b)
            if kind is None:
                raise self._wrong(
                    f"{node.operator} cannot mix {a} and {b} in {name}", node, "cast one of them"
                )
            types.append(TEXT if kind.kind is Kind.NULL else kind)
        vectors = [
            joined([as_type(a, kind), as_type(b, kind)], kind)
            for a, b, kind in zip(left.vectors, right.vectors, types, strict=True)
        ]
        result = Relation(
            left.names, ("",) * len(types), tuple(types), Columns(vectors), left.count + right.count
        )
        return result, tuple(types)

    def _chosen(
        self, node: tree.SetOperation, columns: list[pa.Array], lefts: int, rights: int
    ) -> np.ndarray:
        """The rows of both sides, one after another, that a set operation keeps."""
        if node.operator == "UNION" and node.all:
            return np.arange(lefts + rights)
        codes, first = codes_of(columns, lefts + rights)
        if node.operator == "UNION":
            return first
        many = len(first)
        ours, theirs = (
            np.bincount(codes[:lefts], minlength=many),
            np.bincount(codes[lefts:], minlength=many),
        )
        if not node.all:
            good = (ours > 0) & ((theirs > 0) if node.operator == "INTERSECT" else (theirs == 0))
            return first[good & (first < lefts)]
        allowed = (
            np.minimum(ours, theirs)
            if node.operator == "INTERSECT"
            else np.maximum(ours - theirs, 0)
        )
        mine = codes[:lefts]
        order = np.argsort(mine, kind="stable")
        counts = np.bincount(mine, minlength=many)
        place = np.empty(lefts, np.int64)
        place[order] = np.arange(lefts) - np.repeat(np.cumsum(counts) - counts, counts)
        return np.flatnonzero(place < allowed[mine])


def _without(where: tree.Node | None, decided: set[int]) -> tree.Node | None:
    """A condition without the parts that joins have decided."""
    if where is None or not decided:
        return where
    parts = (
        where.operands if isinstance(where, tree.Logic) and where.operator == "AND" else (where,)
    )
    rest = tuple(part for part in parts if id(part) not in decided)
    if len(rest) <= 1:
        return rest[0] if rest else None
    return tree.Logic(rest[0].start, rest[-1].end, "AND", rest)


def _names_itself(value: tree.With) -> bool:
    return any(
        isinstance(node, tree.TableReference)
        and node.is_name
        and node.reference.casefold() == value.name.casefold()
        for node in parse.walk(value.query)
    )
