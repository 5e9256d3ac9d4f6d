"""FROM: tables, queries, UNNEST and joins."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.frame import view
from gravel.engine.memory import give_back_freed_blocks
from gravel.engine.vector import Vector, first_error
from gravel.language import parse, tree
from gravel.language.diagnostics import Diagnostic
from gravel.language.functions.text import tidy_spaces, upper
from gravel.language.types import INTEGER, TEXT, Kind, Type, common
from gravel.profiling.column_kind import identifies
from gravel.querying import joins
from gravel.querying.partitions import flat_indices
from gravel.querying.relation import (
    Columns,
    Relation,
    as_type,
    codes_of,
    joined,
    renamed,
    taken,
    typed,
)
from gravel.querying.session import Base, Outer
from gravel.querying.shapes import SUBQUERIES, is_true, top
from gravel.sources.source import Batch, Malformed, Source, scan

_TRUE = tree.Literal(0, 0, "boolean", "TRUE")


def _has(relation: Relation, name: tree.Name, text: str) -> bool:
    try:
        return relation.search(name, text) is not None
    except Diagnostic:
        return True


class Sources(Base):
    """The relations that a FROM names."""

    def _from(
        self, select: tree.Select, withs: dict[str, Relation], decided: set[int] | None = None
    ) -> Relation:
        """The rows of a FROM. Equalities that stand first in WHERE join the tables of a list; what
        they decide is noted in `decided`."""
        over = Relation((), (), (), Columns(()), 1)
        parts = self._leading(select.where)
        for index, source in enumerate(select.sources):
            if index and self._reads_left(source, over):
                over = self._beside(over, source, withs)
                continue
            result = self._source(source, withs)
            if not index:
                over = result
                continue
            equal = self._joining(parts, over, result)
            if equal and decided is not None:
                both = [self.evaluate(a, over, withs, watched=False)[0] for _, a, _ in equal]
                both += [self.evaluate(b, result, withs, watched=False)[0] for _, _, b in equal]
                if all(item.errors is None for item in both):
                    on: tree.Node = (
                        equal[0][0]
                        if len(equal) == 1
                        else tree.Logic(0, 0, "AND", tuple(part for part, _, _ in equal))
                    )
                    decided |= {id(part) for part, _, _ in equal}
                    over = self._join(
                        over,
                        result,
                        tree.Join(source.start, source.end, "WHERE", source, source, on, ()),
                        withs,
                    )
                    continue
            over = self._join(
                over,
                result,
                tree.Join(source.start, source.end, "CROSS", source, source, None, ()),
                withs,
            )
        return over

    def _leading(self, where: tree.Node | None) -> list[tree.Node]:
        """The equalities that stand first in a WHERE."""
        if where is None:
            return []
        parts = (
            where.operands
            if isinstance(where, tree.Logic) and where.operator == "AND"
            else (where,)
        )
        leading: list[tree.Node] = []
        for part in parts:
            if not (isinstance(part, tree.Call) and part.name == "=" and part.operator) or top(
                part, (*SUBQUERIES, tree.Row)
            ):
                break
            leading.append(part)
            if not all(
                isinstance(argument, (tree.Name, tree.Literal)) for argument in part.arguments
            ):
                break  # it may fail in a row, and what stands after it is not reached then
        return leading

    def _joining(
        self, parts: list[tree.Node], left: Relation, right: Relation
    ) -> list[tuple[tree.Node, tree.Node, tree.Node]]:
        """The equalities between two relations: the condition, its side of the left one, its side
        of the right one."""
        results: list[tuple[tree.Node, tree.Node, tree.Node]] = []
        for part in parts:
            assert isinstance(part, tree.Call)
            sides = []
            for argument in part.arguments:
                names = list(parse.column_names(argument))
                inside = [
                    {
                        side
                        for side, relation in enumerate((left, right))
                        if _has(relation, name, self.text)
                    }
                    for name in names
                ]
                sides.append(
                    inside[0]
                    if inside and all(result == inside[0] and len(result) == 1 for result in inside)
                    else set()
                )
            if sides == [{0}, {1}]:
                results.append((part, part.arguments[0], part.arguments[1]))
            elif sides == [{1}, {0}]:
                results.append((part, part.arguments[1], part.arguments[0]))
        return results

    def _reads_left(self, source: tree.Node, left: Relation) -> bool:
        return isinstance(source, tree.Unnest) or (
            isinstance(source, tree.Derived) and source.lateral
        )

    def _beside(
        self, left: Relation, source: tree.Node, withs: dict[str, Relation], outer: bool = False
    ) -> Relation:
        """UNNEST or a LATERAL query beside each row of what stands before it."""
        if isinstance(source, tree.Unnest):
            return self._unnest(left, source, withs, outer)
        assert isinstance(source, tree.Derived)
        result, rows = self._lateral(left, source, withs)
        return self._joined(
            left,
            result,
            rows,
            np.arange(result.count),
            tree.Join(
                source.start, source.end, "LEFT" if outer else "INNER", source, source, None, ()
            ),
        )

    def _lateral(
        self, left: Relation, source: tree.Derived, withs: dict[str, Relation]
    ) -> tuple[Relation, np.ndarray]:
        """A LATERAL query's rows for each row before it, and the rows they belong to."""
        outer = self._outer(source.query, left, withs)
        names = {
            (name.table.casefold(), name.text.casefold()): left.find(name, self.text)
            for name in outer
        }
        codes, first = codes_of(
            [left.vectors[index].values for index in names.values()], left.count
        )
        parts: list[Relation] = []
        self.quiet += 1
        try:
            for row in first if len(first) else [-1]:
                around = Outer(names, {}, left.take(np.array([row])))
                before, self._around = self._around, around
                try:
                    parts.append(typed(self.run_query(source.query, withs)))
                finally:
                    self._around = before
        finally:
            self.quiet -= 1
        sizes = np.array([part.count for part in parts])
        starts = np.cumsum(sizes) - sizes
        types = []
        for position in range(len(parts[0].names)):
            kind = parts[0].types[position]
            for part in parts[1:]:
                kind = common(kind, part.types[position]) or kind
            types.append(kind)
        vectors = [
            joined([part.vectors[index] for part in parts], kind)
            for index, kind in enumerate(types)
        ]
        whole = Relation(
            parts[0].names, ("",) * len(types), tuple(types), Columns(vectors), int(sizes.sum())
        )
        if not len(first):
            whole = whole.take(np.zeros(0, np.int64))
            return renamed(whole, source.alias, source.columns, source, self.text), np.zeros(
                0, np.int64
            )
        each = sizes[codes]
        rows = np.repeat(np.arange(left.count), each)
        offsets = np.arange(len(rows)) - np.repeat(np.cumsum(each) - each, each)
        whole = whole.take(np.repeat(starts[codes], each) + offsets)
        return renamed(whole, source.alias, source.columns, source, self.text), rows

    def _source(self, node: tree.Node, withs: dict[str, Relation]) -> Relation:
        if isinstance(node, tree.TableReference):
            return self._table(node, withs)
        if isinstance(node, tree.Derived):
            # Only a LATERAL query reads what stands beside it; what is around the whole query any
            # may read.
            return renamed(
                self.run_query(node.query, withs), node.alias, node.columns, node, self.text
            )
        if isinstance(node, tree.Unnest):
            item, _ = self._with_outer(Relation((), (), (), Columns(()), 1))
            return self._without_outer(
                self._unnest(item, node, withs, outer=False), len(item.names)
            )
        assert isinstance(node, tree.Join)
        left = self._source(node.left, withs)
        if self._reads_left(node.right, left):
            if node.kind not in ("CROSS", "INNER", "LEFT") or node.using or node.natural:
                raise self._wrong(
                    "what reads the tables before it is joined with CROSS JOIN, a comma, INNER or"
                    " LEFT JOIN … ON",
                    node.right,
                )
            if node.on is None or is_true(node.on):
                return self._beside(left, node.right, withs, outer=node.kind == "LEFT")
            return self._beside_where(left, node, withs)
        right = self._source(node.right, withs)
        if node.natural:
            seen = [name for index, name in enumerate(left.names) if index not in left.hidden]
            theirs = {
                name.casefold()
                for index, name in enumerate(right.names)
                if index not in right.hidden
            }
            node = replace(
                node, using=tuple(name for name in seen if name and name.casefold() in theirs)
            )
            if not node.using:
                node = replace(node, kind="CROSS" if node.kind == "INNER" else node.kind, on=_TRUE)
        return self._join(left, right, node, withs)

    @staticmethod
    def _without_outer(relation: Relation, first: int) -> Relation:
        """The columns after the first ones."""
        return Relation(
            relation.names[first:],
            relation.tables[first:],
            relation.types[first:],
            Columns(relation.vectors.cells[first:], relation.vectors.store),
            relation.count,
        )

    def _beside_where(
        self, left: Relation, node: tree.Join, withs: dict[str, Relation]
    ) -> Relation:
        """UNNEST or a LATERAL query joined on a condition."""
        numbered = left.with_columns([Vector(pa.array(np.arange(left.count)))], [INTEGER])
        pairs = self._beside(numbered, node.right, withs)
        result, _ = self.evaluate(
            node.on or _TRUE, self._with_outer(pairs)[0], withs, condition=True
        )
        sound = self._sound("ON", pairs, [(self._written(node.on or node), result)])
        keep = result.true(pairs.count)
        if sound is not None:
            keep[np.setdiff1d(np.arange(pairs.count), sound)] = False
        rows = pairs.vectors[len(left.names)].values.to_numpy()[keep]
        right = self._without_outer(pairs, len(numbered.names))
        return self._joined(
            left, right.take(np.flatnonzero(keep)), rows, np.arange(len(rows)), node
        )

    def _table(self, node: tree.TableReference, withs: dict[str, Relation]) -> Relation:
        if node.is_name and node.reference.casefold() in withs:
            result = withs[node.reference.casefold()]
            return renamed(result, node.alias or node.reference, node.columns, node, self.text)
        if node.is_name and node.reference.casefold() in self.relations:
            result = self.relations[node.reference.casefold()]
            result = replace(result, stage=self._tell(f"read {node.reference}", (), result.count))
            return renamed(result, node.alias or node.reference, node.columns, node, self.text)
        table = self._open(node)
        wanted = self._columns_wanted(table, node)
        self.paths |= table.files
        key = (table.name, frozenset(wanted))
        if key not in self._read:
            self._read[key] = self._relation(table, node, wanted, *self._loaded(table, wanted))
        return renamed(self._read[key], self._called(node), node.columns, node, self.text)

    def _columns_wanted(self, table: Source, node: tree.TableReference) -> list[int]:
        wanted = [
            i
            for i, name in enumerate(table.columns)
            if self._wanted is None or name.casefold() in self._wanted or node.columns
        ]
        return sorted({*wanted, *self._identifying(table.columns, wanted)})

    @staticmethod
    def _called(node: tree.TableReference) -> str:
        return node.alias or (node.reference if node.is_name else Path(node.reference).stem)

    def _relation(
        self,
        table: Source,
        node: tree.TableReference,
        wanted: Sequence[int],
        vectors: Sequence[Vector],
        types: dict[int, Type],
        rows: np.ndarray,
        malformed: tuple[Malformed, ...],
        beside: str = "",
    ) -> Relation:
        """What was read of a table, entered into the account."""
        self.malformed[table.name] = malformed
        names = tuple(table.columns[i] for i in wanted)
        unread = tuple(name for i, name in enumerate(table.columns) if i not in wanted)
        message = [f"{len(malformed):,} malformed records are skipped"] if malformed else []
        stage = self._tell(
            f"read {node.reference}",
            (),
            len(rows),
            "; ".join([*message, *([beside] if beside else [])]),
        )
        blank, columns = ("",) * len(names), Columns(vectors, self.store)
        return Relation(
            names,
            blank,
            tuple(types[i] for i in wanted),
            columns,
            len(rows),
            rows=rows,
            unread=unread,
            stage=stage,
        )

    def _first_rows(
        self, node: tree.TableReference, where: tree.Node | None, need: int
    ) -> Relation:
        """As much of the beginning of a table as holds so many rows for which a condition is
        true."""
        table = self._open(node)
        wanted = self._columns_wanted(table, node)
        self.paths |= table.files
        counts: list[int] = []
        typed_as: dict[int, Type] = {}

        def enough(batches: list[Batch], types: dict[int, Type]) -> bool:
            if types != typed_as:
                counts.clear()  # under other types the condition may be true of other rows
                typed_as.update(types)
            for batch in batches[len(counts) :]:
                counts.append(
                    batch.count
                    if where is None
                    else self._matching(table, node, where, wanted, batch, types)
                )
            return sum(counts) >= need

        batches, types, whole = table.load(wanted, enough)
        if not whole:
            rows = sum(batch.count for batch in batches)
            read = "the first row was" if rows == 1 else f"the first {rows:,} rows were"
            self.remarks.append(
                f"{node.reference}: {read} read, as many as the result needs; counts, cautions and"
                " types are of those"
            )
        beside = "" if whole else "the rest is not needed"
        result = self._relation(
            table, node, wanted, *_put_together(batches, types, wanted), beside=beside
        )
        return renamed(result, self._called(node), node.columns, node, self.text)

    def _matching(
        self,
        table: Source,
        node: tree.TableReference,
        where: tree.Node,
        wanted: Sequence[int],
        batch: Batch,
        types: dict[int, Type],
    ) -> int:
        """How many rows of a batch a condition is true of; one that fails in some row is decided
        later, with all that is told of it."""
        self.quiet += 1
        try:
            vectors, _, rows, _ = _put_together([batch], types, wanted)
            names = tuple(table.columns[i] for i in wanted)
            subset = Relation(
                names,
                ("",) * len(names),
                tuple(types[i] for i in wanted),
                Columns(vectors),
                len(rows),
                rows=rows,
            )
            result, _ = self.evaluate(
                where,
                renamed(subset, self._called(node), node.columns, node, self.text),
                {},
                condition=True,
                watched=False,
            )
            return int(result.true(batch.count).sum())
        finally:
            self.quiet -= 1

    def _identifying(self, columns: Sequence[str], wanted: Sequence[int]) -> list[int]:
        """The columns that tell apart what columns that are grouped by name."""
        named = [columns[index] for index in wanted if columns[index] in self._grouped]
        return [
            index
            for index, name in enumerate(columns)
            if any(identifies(name, item, index == 0) for item in named)
        ]

    def _loaded(
        self, table: Source, wanted: list[int]
    ) -> tuple[list[Vector], dict[int, Type], np.ndarray, tuple[Malformed, ...]]:
        """Columns of a table with their types, its row numbers, and what of it is malformed; in
        files where they do not fit."""
        if self.store is not None and not self.store.fits(table.path.stat().st_size):
            types = table.types(wanted)
            rows, bad = [np.zeros(0, np.int64)], []  # type: ignore[var-annotated]
            writers = [(index, self.store.writer(types[index].arrow)) for index in wanted]
            for batch in scan(table, lambda batch: batch, wanted):
                rows.append(batch.rows)
                bad.extend(batch.malformed)
                for index, writer in writers:
                    writer.write(view(batch.columns[index], types[index]).values)
            vectors = [Vector(writer.close()) for _, writer in writers]
            give_back_freed_blocks()
            return vectors, types, _end_to_end(rows), tuple(bad)
        batches, types, _ = table.load(wanted)
        return _put_together(batches, types, wanted)

    def _unnest(
        self, left: Relation, node: tree.Unnest, withs: dict[str, Relation], outer: bool
    ) -> Relation:
        lists, kind = self.evaluate(node.expression, left, withs)
        if kind.kind is not Kind.ARRAY:
            raise self._wrong(
                f"UNNEST takes an array, this is {kind}",
                node.expression,
                "make one: LIST_ITEMS(x, ';')",
            )
        if lists.errors is not None or lists.constant:
            lists = lists.spread(left.count)
            sound = self._sound("UNNEST", left, [(self._written(node.expression), lists)])
            if sound is not None:
                left, lists = left.take(sound), taken(lists, sound)
        rows, items, places, empty = joins.unnested(lists.values)
        without = len(empty)
        if outer and without:
            rows = np.concatenate([rows, empty])
            items = pa.concat_arrays([items, pa.nulls(without, items.type)])
            places = np.concatenate([places, np.zeros(without, np.int64)])
            order = np.argsort(rows, kind="stable")
            rows, items, places = rows[order], items.take(pa.array(order)), places[order]
        names = node.columns or ("item", "ordinality")[: 1 + node.ordinality]
        if len(names) > 1 + node.ordinality:
            raise self._wrong(f"{len(names)} names for {1 + node.ordinality} columns", node)
        columns, types = [Vector(items)], [kind.item or TEXT]
        if node.ordinality:
            names = (*names, "ordinality")[:2]
            columns.append(Vector(pa.array(places, mask=places == 0)))
            types.append(INTEGER)
        right = Relation(
            tuple(names[:1]) + tuple(names[1:]),
            (node.alias,) * len(columns),
            tuple(types),
            Columns(columns),
            len(rows),
        )
        message = f"{left.count - without:,} rows with items" + (
            f", {without:,} without" + (" are kept" if outer else " are lost") if without else ""
        )
        stage = self._tell("UNNEST", (left,), len(rows), message)
        if not outer:
            self._warn(
                "UNNEST loses rows",
                without,
                "have no item, so they are lost",
                "LEFT JOIN UNNEST(…) ON TRUE keeps them",
            )
        return replace(left.take(rows).beside(right), stage=stage)

    def _join(
        self, left: Relation, right: Relation, node: tree.Join, withs: dict[str, Relation]
    ) -> Relation:
        equal, rest = (
            ([], [])
            if node.using
            else self._split(node.on, left, right)
            if node.on is not None
            else ([], [])
        )
        keys: list[tuple[Vector, Vector, Type]] = []
        message: list[tuple[str, str]] = []
        for name in node.using:
            index = tree.Name(node.start, node.end, name)
            item, other = left.find(index, self.text), right.find(index, self.text)
            keys.append(
                self._key(
                    left.vectors[item],
                    left.types[item],
                    right.vectors[other],
                    right.types[other],
                    node,
                )
            )
            message.append((name, name))
        for a, b in equal:
            (x, first), (y, second) = self.evaluate(a, left, withs), self.evaluate(b, right, withs)
            keys.append(self._key(x, first, y, second, a))
            message.append((self._written(a), self._written(b)))
        sound = self._sound(
            "ON", left, [(text, x) for (x, _, _), (text, _) in zip(keys, message, strict=True)]
        )
        if sound is not None:
            left, keys = left.take(sound), [(taken(x, sound), y, kind) for x, y, kind in keys]
        sound = self._sound(
            "ON", right, [(text, y) for (_, y, _), (_, text) in zip(keys, message, strict=True)]
        )
        if sound is not None:
            right, keys = right.take(sound), [(x, taken(y, sound), kind) for x, y, kind in keys]
        self._warn_of_null_keys(keys, message)
        pairs: Iterable[tuple[np.ndarray, np.ndarray]]
        if keys:
            pairs = [
                joins.equal_pairs(
                    [key[0] for key in keys],
                    [key[1] for key in keys],
                    [key[2] for key in keys],
                    self.memory,
                    self._give_back,
                )
            ]
        else:
            pairs = joins.all_pairs(left.count, right.count)
        lefts, rights = [], []
        asked = False
        for ones, twos in pairs:
            for condition in rest:
                if not len(ones) and asked:
                    break
                both, _ = self._with_outer(left.take(ones).beside(right.take(twos)))
                result, _ = self.evaluate(condition, both, withs, condition=True, watched=False)
                if result.errors is not None:
                    self._fault("ON", self._written(condition), result.errors, both.rows)
                keep = result.true(len(ones))
                ones, twos = ones[keep], twos[keep]
            asked = True
            lefts.append(ones)
            rights.append(twos)
        if not asked:
            # No pair to ask: a condition that is none is a mistake all the same.
            none = np.zeros(0, np.int64)
            for condition in rest:
                self.evaluate(
                    condition,
                    self._with_outer(left.take(none).beside(right.take(none)))[0],
                    withs,
                    condition=True,
                    watched=False,
                )
        met, theirs = (
            (
                subset[0]
                if len(subset) == 1
                else np.concatenate(subset)
                if subset
                else np.zeros(0, np.int64)
            )
            for subset in (lefts, rights)
        )
        del lefts, rights, pairs
        if len(keys) == 1 and keys[0][2] == TEXT and not self.quiet:
            self._warn_of_almost_equal_keys(
                keys[0][0].values, keys[0][1].values, met, message[0][0]
            )
        return self._joined(left, right, met, theirs, node)

    def _warn_of_null_keys(
        self, keys: list[tuple[Vector, Vector, Type]], message: list[tuple[str, str]]
    ) -> None:
        """Both sides have rows with NULL in a key, of which = pairs none."""
        for (left, right, _), (mine, theirs) in zip(keys, message, strict=True):
            ones, twos = left.values.null_count, right.values.null_count
            if ones and twos:
                detail = (
                    f"on the left have NULL in {mine[:60]}, as {twos:,} on the right have, and ="
                    " pairs none of them"
                )
                hint = (
                    f"{mine[:60]} IS NOT DISTINCT FROM {theirs[:60]} would; or leave them out:"
                    f" WHERE {mine[:60]} IS NOT NULL"
                )
                self._warn("NULL in join keys", ones, detail, hint)

    def _warn_of_almost_equal_keys(
        self, left: pa.Array, right: pa.Array, matched: np.ndarray, name: str
    ) -> None:
        """Rows on the left whose key would have a partner if case and spaces were ignored."""
        alone = np.ones(len(left), bool)
        alone[matched] = False
        subset = left.filter(pa.array(alone))
        near = pc.is_in(upper(tidy_spaces(subset)), upper(tidy_spaces(right.drop_null())))
        rows = pc.sum(pc.and_(near, pc.is_valid(subset))).as_py() or 0
        message = (
            f"on the left have no partner, and would if case and spaces of {name[:60]} were ignored"
        )
        self._warn(
            "JOIN and case", rows, message, f"join on UPPER(TIDY_SPACES({name[:60]})) on both sides"
        )

    def _joined(
        self, left: Relation, right: Relation, array: np.ndarray, two: np.ndarray, node: tree.Join
    ) -> Relation:
        several, alone_left = _met(array, left.count)
        _, alone_right = _met(two, right.count)
        pairs = len(array)
        extra = pairs - (left.count - len(alone_left))
        if node.kind in ("LEFT", "FULL") and len(alone_left):
            array, two = (
                np.concatenate([array, alone_left]),
                np.concatenate([two, np.full(len(alone_left), -1)]),
            )
            order = np.argsort(array, kind="stable")
            array, two = array[order], two[order]
        if node.kind in ("RIGHT", "FULL") and len(alone_right):
            array, two = (
                np.concatenate([array, np.full(len(alone_right), -1)]),
                np.concatenate([two, alone_right]),
            )
        result = left.take(array).beside(right.take(two))
        sides = []
        if node.kind in ("LEFT", "FULL") and len(alone_left):
            sides.append((frozenset(range(len(left.names), len(result.names))), two < 0))
        if node.kind in ("RIGHT", "FULL") and len(alone_right):
            sides.append((frozenset(range(len(left.names))), array < 0))
        result = replace(result, alone=(*result.alone, *sides))
        if node.using:
            result = self._merged(result, left, node)
        if node.kind == "WHERE":
            message = f"{left.count:,} rows with {right.count:,}, where {self._shown(node)}"
            stage = self._tell("tables joined by WHERE", (left, right), result.count, message)
        elif node.kind != "CROSS":
            message = (
                f"{left.count - len(alone_left):,} rows on the left matched, {len(alone_left):,}"
                " without a partner; "
            )
            message += f"{len(alone_right):,} on the right without one"
            if several:
                message += f"; {several:,} rows on the left met several (+{extra:,} rows)"
            stage = self._tell(f"{node.kind} JOIN", (left, right), result.count, message)
            self._warn(
                "a join multiplies rows",
                several,
                f"on the left meet several rows on the right: {extra:,} rows more",
                "join on a key of the right table",
            )
            if node.kind in ("INNER", "RIGHT"):
                self._warn(
                    "a join loses rows",
                    len(alone_left),
                    "on the left have no partner, so they are lost",
                    "LEFT JOIN keeps them",
                )
        else:
            stage = self._tell(
                "CROSS JOIN",
                (left, right),
                pairs,
                f"each of {left.count:,} rows with each of {right.count:,}",
            )
        return replace(result, stage=stage)

    def _shown(self, node: tree.Join) -> str:
        parts = node.on.operands if isinstance(node.on, tree.Logic) else (node.on,)
        return " AND ".join(self._written(part)[:60] for part in parts if part is not None)

    def _merged(self, relation: Relation, left: Relation, node: tree.Join) -> Relation:
        """USING: one column for the two, the first that is known; each side's own is found by its
        table's name only."""
        vectors, names, types, hidden = [], [], [], set(relation.hidden)
        for name in node.using:
            position = tree.Name(node.start, node.end, name)
            first_rows = left.find(position, self.text)
            two = next(
                i
                for i in range(len(left.names), len(relation.names))
                if relation.names[i].casefold() == name.casefold()
            )
            kind = common(relation.types[first_rows], relation.types[two]) or TEXT
            a, b = as_type(relation.vectors[first_rows], kind), as_type(relation.vectors[two], kind)
            first = b if node.kind == "RIGHT" else a
            second = a if node.kind == "RIGHT" else b
            # Either side's error is one of the merged column, though of a pair both keys were
            # sound.
            vectors.append(
                Vector(
                    pc.coalesce(first.values, second.values),
                    first_error([first, second], relation.count),
                )
            )
            names.append(relation.names[first_rows])
            types.append(kind)
            hidden |= {first_rows, two}
        shift = len(vectors)
        return Relation(
            (*names, *relation.names),
            ("",) * shift + relation.tables,
            (*types, *relation.types),
            Columns(vectors).beside(relation.vectors),
            relation.count,
            frozenset(index + shift for index in hidden),
            relation.rows,
            relation.unread,
            tuple(
                (frozenset(index + shift for index in columns), mask)
                for columns, mask in relation.alone
            ),
            relation.origin,
            (None,) * shift + relation.plains,
        )

    def _key(
        self, a: Vector, first: Type, b: Vector, second: Type, node: tree.Node
    ) -> tuple[Vector, Vector, Type]:
        kind = common(first, second)
        if kind is None:
            hint = f"cast one: CAST(… AS {second if first == TEXT else first}) or CAST(… AS TEXT)"
            raise self._wrong(f"= cannot mix {first} and {second}", node, hint)
        kind = TEXT if kind.kind is Kind.NULL else kind
        return as_type(a, kind), as_type(b, kind), kind

    def _split(
        self, on: tree.Node, left: Relation, right: Relation
    ) -> tuple[list[tuple[tree.Node, tree.Node]], list[tree.Node]]:
        """The equalities of a condition between one side and the other that stand first, and what
        is decided after them."""
        parts = list(on.operands) if isinstance(on, tree.Logic) and on.operator == "AND" else [on]
        equal: list[tuple[tree.Node, tree.Node]] = []
        rest: list[tree.Node] = []
        for part in parts:
            pair = None
            if (
                isinstance(part, tree.Call)
                and part.name == "="
                and part.operator
                and not rest
                and not top(part, (*SUBQUERIES, tree.Row))
            ):
                sides = [self._sides(argument, left, right) for argument in part.arguments]
                if sides == [{0}, {1}]:
                    pair = (part.arguments[0], part.arguments[1])
                elif sides == [{1}, {0}]:
                    pair = (part.arguments[1], part.arguments[0])
            if pair is None:
                rest.append(part)
            else:
                equal.append(pair)
        return equal, rest

    def _sides(self, node: tree.Node, left: Relation, right: Relation) -> set[int]:
        result = set()
        for name in parse.column_names(node):
            inside = [
                side
                for side, relation in enumerate((left, right))
                if relation.search(name, self.text) is not None
            ]
            if len(inside) == 2 and not name.table:
                raise self._wrong(
                    f"{name.text} is on both sides of the join", name, "write it with its table"
                )
            result |= set(inside)
        return result


def _met(rows: np.ndarray, count: int) -> tuple[int, np.ndarray]:
    """Of so many rows, of which some are met, how many are met more than once, and which are not
    met."""
    times = np.bincount(rows, minlength=count)
    return int((times > 1).sum()), flat_indices(times == 0)


def _put_together(
    batches: Sequence[Batch], types: dict[int, Type], wanted: Sequence[int]
) -> tuple[list[Vector], dict[int, Type], np.ndarray, tuple[Malformed, ...]]:
    """The columns of some batches with their types, the row numbers, and what is malformed."""
    malformed = tuple(item for batch in batches for item in batch.malformed)
    vectors = [
        view(
            (
                pa.concat_arrays([batch.columns[i] for batch in batches])
                if batches
                else pa.nulls(0, pa.string())
            ),
            types[i],
        )
        for i in wanted
    ]
    return vectors, types, _end_to_end([batch.rows for batch in batches]), malformed


def _end_to_end(parts: list[np.ndarray]) -> np.ndarray:
    """Row numbers one after another, in 32 bits where they fit."""
    rows = sum(map(len, parts))
    last = max((int(part[-1]) for part in parts if len(part)), default=0)
    numbers = np.empty(rows, np.int32 if last < 2**31 else np.int64)
    index = 0
    for part in parts:
        numbers[index : index + len(part)] = part
        index += len(part)
    return numbers
