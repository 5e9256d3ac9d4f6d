"""Running a query: FROM, WHERE, GROUP BY, HAVING, windows, SELECT, DISTINCT, ORDER BY, in the standard's order; each stage
accounts for its rows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa

from gravel.engine.vector import Vector
from gravel.inspecting.look import sort_order
from gravel.language import parse, tree
from gravel.language.functions.text import tidy_spaces, upper
from gravel.language.types import TEXT, Kind, Type, common
from gravel.querying.relation import Columns, Relation, as_type, codes_of, joined, renamed, typed
from gravel.querying.windowing import Windowing

_FOLDED = 200_000  # rows up to which DISTINCT looks for those that differ in case or spaces only


class Session(Windowing):
    """Runs queries; see Base."""

    def query(self, text: str) -> Relation:
        """The result of a query text. Raises Diagnostic, TableProblem, DataProblem for a row error where errors stop it."""
        self.text = text
        made = parse.query(text)
        self.given = replace(self.given, members=self.members)
        self.reading(made)
        found = self.run_query(made, {})
        return self._settle(found)

    def reading(self, query: tree.Query) -> None:
        """Read of every table only the columns that a query names."""
        names = {node.text.casefold() for node in parse.walk(query) if isinstance(node, tree.Name)}
        names |= {name.casefold() for node in parse.walk(query) if isinstance(node, tree.Join) for name in node.using}
        self._wanted = None if any(isinstance(node, tree.AllColumns) for node in parse.walk(query)) else names

    def run_query(self, query: tree.Query, withs: dict[str, Relation]) -> Relation:
        """A query's relation, its order kept."""
        own = dict(withs)
        for one in query.withs:
            own[one.name.casefold()] = renamed(self.run_query(one.query, own), one.name, one.columns, one, self.text)
        body = query.body
        if isinstance(body, tree.Select):
            return self._select(body, own, query)
        made = self._body(body, own)
        return self._limited(self._ordered(made, made, query, {}, own), query)

    def _body(self, body: Any, withs: dict[str, Relation]) -> Relation:
        if isinstance(body, tree.Select):
            return self._select(body, withs, None)
        if isinstance(body, tree.Values):
            return self._values(body)
        if isinstance(body, tree.Query):
            return self.run_query(body, withs)
        return self._set_operation(body, withs)

    def _settle(self, found: Relation) -> Relation:
        """The final result: its row errors stop the query, become NULL, or leave their rows out."""
        found = typed(found)
        failed = np.zeros(found.count, bool)
        for name, one, plain in zip(found.names, found.vectors, found.plains, strict=True):
            # A plan's column as it stands is passed on as it is written.
            if one.errors is not None and (plain is None or found.origin is None):
                self._fault("SELECT", name, one.errors, found.rows)
                failed |= one.errors != 0
        if not failed.any():
            return found
        if self.on_error == "omit":
            self._left_out(found, failed)
            kept = found.take(np.flatnonzero(~failed))
            self._tell("omitted", found.count, kept.count, "rows with an error")
            found = kept
        return replace(found, vectors=Columns(Vector(one.values) for one in found.vectors))

    def _select(self, select: tree.Select, withs: dict[str, Relation], query: tree.Query | None) -> Relation:
        over = Relation((), (), (), Columns(()), 1)
        for at, source in enumerate(select.sources):
            if isinstance(source, tree.Unnest) and at:
                over = self._unnest(over, source, withs, outer=False)
                continue
            found = self._source(source, withs)
            over = (
                found if not at else self._join(over, found, tree.Join(source.start, source.end, "CROSS", source, source, None, ()), withs)
            )
        own = len(over.names)
        over = self._with_outer(over)
        if select.where is not None:
            over = self._where(select.where, over, withs, "WHERE")
        items = self._items(select, over, own)
        stands: dict[Any, int] = {}
        aggregates = self._aggregates(select, items, query)
        if select.groups is not None or aggregates or select.having is not None:
            over, stands = self._group(select, over, items, aggregates, withs)
            if select.having is not None:
                over = self._where(select.having, over, withs, "HAVING", stands)
        over, stands = self._windows(select, items, query, over, withs, stands)
        names, vectors, types, plains = [], [], [], []
        for item in items:
            made, kind = self.evaluate(item.expression, over, withs, stands)
            own = item.name_start == item.start
            names.append(item.expression.text if own and isinstance(item.expression, tree.Name) else item.name)
            vectors.append(made)
            types.append(kind)
            stands_at = None
            if isinstance(item.expression, tree.Name) and over.origin is not None:
                stands_at = over.search(item.expression, self.text)
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
        )
        before: Relation | None = over
        shapes = {self.shape(item.expression, over): at for at, item in enumerate(items)}
        if select.distinct:
            result, before = self._distinct(result), None
        if query is None:
            return result
        chosen = [shapes.get(self.shape(key.expression, over)) for key in query.order]
        return self._limited(self._ordered(result, before, query, stands, withs, chosen), query)

    def _where(
        self, node: tree.Node, over: Relation, withs: dict[str, Relation], stage: str, stands: dict[Any, int] | None = None
    ) -> Relation:
        made, _ = self.evaluate(node, over, withs, stands, condition=True)
        if made.errors is not None:
            self._fault(stage, self._written(node), made.errors, over.rows)
            self._left_out(over, made.errors != 0)
        keep = made.true(over.count)
        false, failed = int(made.false(over.count).sum()), int(made.failed(over.count).sum())
        unknown = over.count - int(keep.sum()) - false - failed
        removed = over.count - int(keep.sum())
        told = (
            f"{removed:,} removed ({false:,} false, {unknown:,} unknown{f', {failed:,} with an error' if failed else ''})"
            if removed
            else "none removed"
        )
        self._tell(stage, over.count, int(keep.sum()), told)
        self._outer_side(node, over, keep)
        return over if keep.all() else over.take(np.flatnonzero(keep))

    def _outer_side(self, node: tree.Node, over: Relation, keep: np.ndarray) -> None:
        """A condition on the outer side of a join that removes every row without a partner makes an inner join of it."""
        read = {index for name in parse.column_names(node) if (index := over.search(name, self.text)) is not None}
        for columns, mask in over.alone:
            if read & columns and mask.any() and not (mask & keep).any():
                detail = (
                    f"without a partner are removed by {self._written(node)[:60]}, which reads the outer side: the join is an inner one now"
                )
                self._warn("WHERE on the outer side", int(mask.sum()), detail, "put the condition into ON, or allow IS NULL")

    def _items(self, select: tree.Select, over: Relation, own: int) -> list[tree.Named]:
        """The select list with * written out as the first `own` columns."""
        made: list[tree.Named] = []
        for item in select.items:
            if isinstance(item, tree.Named):
                made.append(item)
                continue
            assert isinstance(item, tree.AllColumns)
            if not select.sources:
                raise self._wrong("* needs a FROM", item)
            places = [
                at
                for at in range(own)
                if over.names[at] and (over.tables[at].casefold() == item.table.casefold() if item.table else at not in over.hidden)
            ]
            if not places:
                raise self._wrong(f"there is no table {item.table} here", item)
            made += [
                tree.Named(
                    item.start,
                    item.end,
                    over.names[at],
                    item.start,
                    tree.Name(item.start, item.end, over.names[at], True, over.tables[at] or ""),
                )
                if [over.names[i] for i in range(len(over.names)) if i not in over.hidden].count(over.names[at]) > 1 or at in over.hidden
                else tree.Named(item.start, item.end, over.names[at], item.start, tree.Name(item.start, item.end, over.names[at], True))
                for at in places
            ]
        return made

    def _distinct(self, made: Relation) -> Relation:
        sound = self._sound("DISTINCT", made, zip(made.names, made.vectors, strict=True))
        made = made if sound is None else made.take(sound)
        _, first = codes_of([one.values for one in made.vectors], made.count)
        self._tell("DISTINCT", made.count, len(first), f"{made.count - len(first):,} removed")
        kept = replace(made.take(first), origin=None)  # a row stands for several now
        texts = [one.values for one in kept.vectors if pa.types.is_string(one.values.type)]
        if texts and not self.quiet and kept.count <= _FOLDED:
            folded = [upper(tidy_spaces(one.values)) if pa.types.is_string(one.values.type) else one.values for one in kept.vectors]
            alike = len(first) - len(codes_of(folded, kept.count)[1])
            self._warn(
                "DISTINCT and case", alike, "differ from another one in case or spaces only", "SELECT DISTINCT UPPER(TIDY_SPACES(…))"
            )
        return kept

    def _ordered(
        self,
        made: Relation,
        before: Relation | None,
        query: tree.Query,
        stands: dict[Any, int],
        withs: dict[str, Relation],
        chosen: Sequence[int | None] = (),
    ) -> Relation:
        if not query.order:
            return made
        keys = []
        failed = np.zeros(made.count, bool)
        for number, key in enumerate(query.order):
            node = key.expression
            at = None
            if isinstance(node, tree.Literal) and node.kind == "integer":
                at = int(node.text) - 1
                if not 0 <= at < len(made.names):
                    raise self._wrong(f"there is no column {node.text} to sort by", node)
            elif isinstance(node, tree.Name) and not node.table:
                at = made.search(node, self.text)
            if at is None and chosen:
                at = chosen[number]
            if at is not None:
                one = made.vectors[at]
            elif before is not None:
                one = self.evaluate(node, before, withs, stands)[0]
            else:
                one = self.evaluate(node, made, withs)[0]
            if one.errors is not None:
                self._fault("ORDER BY", self._written(node), one.errors, made.rows)
                failed |= one.errors != 0
            keys.append(pa.chunked_array([one.values]))
        order = sort_order(keys, query.order)
        if self.on_error == "omit" and failed.any():
            order = order[~failed[order]]
            self._left_out(made, failed)
            self._tell("ORDER BY: omitted", made.count, len(order), "rows with an error")
        self._sorted_keys = [key.take(pa.array(order)) for key in keys]
        return made.take(order)

    def _limited(self, made: Relation, query: tree.Query) -> Relation:
        if not query.offset and query.fetch is None:
            return made
        end = made.count if query.fetch is None else min(made.count, query.offset + query.fetch)
        if query.fetch and query.order and end < made.count and end > query.offset:
            keys = [pa.concat_arrays(key.chunks) if isinstance(key, pa.ChunkedArray) else key for key in self._sorted_keys]
            peers, _ = codes_of(keys, made.count)
            after = int((peers[end:] == peers[end - 1]).sum())
            if query.ties:
                end += after
            elif after:
                self._warn(
                    "ties",
                    int((peers == peers[end - 1]).sum()),
                    "share the sort key of the last row, and some of them are not among the result",
                    "add a key to ORDER BY, or WITH TIES",
                )
        kept = made.take(np.arange(min(query.offset, made.count), end))
        self._tell("FETCH", made.count, kept.count, f"from row {query.offset + 1:,}")
        return kept

    def _values(self, node: tree.Values) -> Relation:
        width = len(node.rows[0].items)
        one = Relation((), (), (), Columns(()), 1)
        columns: list[list[tuple[Vector, Type]]] = [[] for _ in range(width)]
        for row in node.rows:
            if len(row.items) != width:
                raise self._wrong(f"{len(row.items)} values where the first row has {width}", row)
            for column, item in zip(columns, row.items, strict=True):
                column.append(self.evaluate(item, one, {}))
        vectors, types = [], []
        for column, item in zip(columns, node.rows[0].items, strict=True):
            kind = column[0][1]
            for _, other in column[1:]:
                both = common(kind, other)
                if both is None:
                    raise self._wrong(f"VALUES cannot mix {kind} and {other}", item)
                kind = both
            kind = TEXT if kind.kind is Kind.NULL else kind
            vectors.append(joined([as_type(made, kind) for made, _ in column], kind))
            types.append(kind)
        names = tuple(f"column{at + 1}" for at in range(width))
        return Relation(names, ("",) * width, tuple(types), Columns(vectors), len(node.rows))

    def _set_operation(self, node: tree.SetOperation, withs: dict[str, Relation]) -> Relation:
        left, right = self._body(node.left, withs), self._body(node.right, withs)
        if len(left.names) != len(right.names):
            raise self._wrong(f"{node.operator} of {len(left.names)} and {len(right.names)} columns", node)
        types = []
        for a, b, name in zip(left.types, right.types, left.names, strict=True):
            kind = common(a, b)
            if kind is None:
                raise self._wrong(f"{node.operator} cannot mix {a} and {b} in {name}", node, "cast one of them")
            types.append(TEXT if kind.kind is Kind.NULL else kind)
        vectors = [
            joined([as_type(a, kind), as_type(b, kind)], kind) for a, b, kind in zip(left.vectors, right.vectors, types, strict=True)
        ]
        both = Relation(left.names, ("",) * len(types), tuple(types), Columns(vectors), left.count + right.count)
        sound = None
        if not (node.operator == "UNION" and node.all):
            sound = self._sound(node.operator, both, zip(both.names, both.vectors, strict=True))
        if sound is not None:
            lefts = int((sound < left.count).sum())
            both = both.take(sound)
            left, right = replace(left, count=lefts), replace(right, count=both.count - lefts)
        keep = self._chosen(node, [one.values for one in both.vectors], left.count, right.count)
        made = both.take(keep)
        self._tell(node.operator + (" ALL" if node.all else ""), both.count, made.count, f"{left.count:,} and {right.count:,} rows")
        return made

    def _chosen(self, node: tree.SetOperation, columns: list[Any], lefts: int, rights: int) -> np.ndarray:
        """The rows of both sides, one after another, that a set operation keeps."""
        if node.operator == "UNION" and node.all:
            return np.arange(lefts + rights)
        codes, first = codes_of(columns, lefts + rights)
        if node.operator == "UNION":
            return first
        many = len(first)
        ours, theirs = np.bincount(codes[:lefts], minlength=many), np.bincount(codes[lefts:], minlength=many)
        if not node.all:
            good = (ours > 0) & ((theirs > 0) if node.operator == "INTERSECT" else (theirs == 0))
            return first[good & (first < lefts)]
        allowed = np.minimum(ours, theirs) if node.operator == "INTERSECT" else np.maximum(ours - theirs, 0)
        mine = codes[:lefts]
        order = np.argsort(mine, kind="stable")
        counts = np.bincount(mine, minlength=many)
        place = np.empty(lefts, np.int64)
        place[order] = np.arange(lefts) - np.repeat(np.cumsum(counts) - counts, counts)
        return np.flatnonzero(place < allowed[mine])
