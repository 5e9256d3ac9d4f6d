"""Running a query: FROM, WHERE, GROUP BY, HAVING, windows, SELECT, DISTINCT, ORDER BY, in the standard's order; each stage
accounts for its rows."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.evaluate import run
from gravel.engine.frame import view
from gravel.engine.vector import Vector, vector
from gravel.inspecting.look import sort_order
from gravel.language import nodes, parse, tree
from gravel.language.bind import Given, Scope, bind
from gravel.language.diagnostics import Diagnostic
from gravel.language.errors import CODES, meaning, sqlstate
from gravel.language.types import BOOLEAN, DOUBLE, INTEGER, NUMBERS, TEXT, Kind, Type, common
from gravel.problems import CallProblem, DataProblem, nearest
from gravel.querying import groups, joins
from gravel.querying.relation import Relation, codes_of, joined
from gravel.querying.windows import Sorted, vector_of
from gravel.tables.reference import open_table
from gravel.tables.table import scan

RANKS = ("ROW_NUMBER", "RANK", "DENSE_RANK", "PERCENT_RANK", "CUME_DIST", "NTILE")
WINDOWS = (*RANKS, "LAG", "LEAD", "FIRST_VALUE", "LAST_VALUE")


@dataclass(frozen=True)
class Stage:
    """Rows into a stage and out of it, and what became of the difference."""

    stage: str
    rows_in: int
    rows_out: int
    detail: str = ""


@dataclass(frozen=True)
class RowFault:
    """Rows that failed at a stage: the expression, the SQLSTATE, how many, and the first source row if it is known."""

    stage: str
    expression: str
    sqlstate: str
    rows: int
    row: int | None


@dataclass
class Session:
    """What a query runs in: tables by name, named queries, parameters, what is done with errors; and its account."""

    text: str
    given: Given = field(default_factory=Given)
    tables: dict[str, str] = field(default_factory=dict)
    base: Path | None = None
    on_error: str = "stop"
    account: list[Stage] = field(default_factory=list)
    cautions: list[tuple[str, int, str, str]] = field(default_factory=list)
    faults: list[RowFault] = field(default_factory=list)
    quiet: int = 0
    _read: dict[tuple[str, frozenset[int]], Relation] = field(default_factory=dict)
    _wanted: set[str] | None = None

    # -- whole queries
    def query(self, text: str) -> Relation:
        """The result of a query text. Raises Diagnostic, TableProblem, DataProblem for a row error where errors stop it."""
        self.text = text
        made = parse.query(text)
        self.given = replace(self.given, members=self._members)
        names = {node.text.casefold() for node in parse.walk(made) if isinstance(node, tree.Name)}
        names |= {name.casefold() for node in parse.walk(made) if isinstance(node, tree.Join) for name in node.using}
        self._wanted = None if any(isinstance(node, tree.AllColumns) for node in parse.walk(made)) else names
        found = self.run_query(made, {})
        return self._settle(found)

    def run_query(self, query: tree.Query, withs: dict[str, Relation]) -> Relation:
        """A query's relation, its order kept."""
        own = dict(withs)
        for one in query.withs:
            own[one.name.casefold()] = _renamed(self.run_query(one.query, own), one.name, one.columns, one, self.text)
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
        failed = np.zeros(found.count, bool)
        for name, one in zip(found.names, found.vectors, strict=True):
            if one.errors is not None:
                self._fault("SELECT", name, one.errors, found.rows)
                failed |= one.errors != 0
        if not failed.any():
            return found
        if self.on_error == "omit":
            kept = found.take(np.flatnonzero(~failed))
            self._tell("omitted", found.count, kept.count, "rows with an error")
            found = kept
        return replace(found, vectors=tuple(Vector(one.values) for one in found.vectors))

    def _fault(self, stage: str, expression: str, errors: np.ndarray, rows: np.ndarray | None) -> None:
        """Row errors that a result or a condition reads. Raises DataProblem where errors stop the query."""
        for code in np.unique(errors[errors != 0]):
            at = np.flatnonzero(errors == code)
            row = int(rows[at[0]]) if rows is not None else None
            self.faults.append(RowFault(stage, expression, sqlstate(int(code)), len(at), row))
        if self.on_error == "stop" and self.faults:
            first = self.faults[0]
            where = f", first in source row {first.row:,}" if first.row else ""
            count = "1 row" if first.rows == 1 else f"{first.rows:,} rows"
            raise DataProblem(
                f"{first.stage}: {first.expression[:80]} fails in {count}{where}: {first.sqlstate}, {meaning(first.sqlstate)}",
                hint="guard it with CASE, or --on-error null or omit",
            )

    def _tell(self, stage: str, rows_in: int, rows_out: int, detail: str = "") -> None:
        if not self.quiet:
            self.account.append(Stage(stage, rows_in, rows_out, detail))

    def _warn(self, caution: str, rows: int, detail: str, hint: str) -> None:
        if rows and not self.quiet and not any(one[0] == caution and one[2] == detail for one in self.cautions):
            self.cautions.append((caution, rows, detail, hint))

    def _wrong(self, message: str, node: tree.Node, hint: str = "") -> Diagnostic:
        return Diagnostic(message, self.text, node.start, node.end, hint=hint)

    def _written(self, node: tree.Node) -> str:
        return self.text[node.start : node.end]

    # -- expressions
    def evaluate(
        self, node: tree.Node, over: Relation, withs: dict[str, Relation], stands: dict[Any, int] | None = None, condition: bool = False
    ) -> tuple[Vector, Type]:
        """An expression over a relation's rows. `stands` maps shapes of nodes to columns that hold them already."""
        known = dict(stands or {})
        over = self._subqueries(node, over, withs, known)

        def stand(one: tree.Node) -> int | None:
            return known.get(id(one), known.get(self.shape(one, over))) if known else None

        scope = Scope(over.names, over.types, frozenset(), self.given, stand, over.find)
        self._withs = withs
        bound = bind(node, scope, self.text)
        if condition and bound.type.kind not in (Kind.BOOLEAN, Kind.NULL):
            raise self._wrong(f"a condition is needed here, this is {bound.type}", node, "compare it: … = …, … IS NOT NULL")
        made = run(bound, over.frame()).spread(over.count)
        if isinstance(bound, nodes.Column) and pa.types.is_null(made.values.type):
            made = Vector(made.values.cast(bound.type.arrow), made.errors)
        return made, bound.type

    def shape(self, node: Any, over: Relation) -> Any:
        """What a node says, wherever it stands: names by the columns they mean."""
        if isinstance(node, tree.Name):
            try:
                found = over.search(node, self.text)
            except Diagnostic:
                found = None
            return ("column", found) if found is not None else ("name", node.text, node.table)
        if isinstance(node, tree.Node):
            fields = [getattr(node, one.name) for one in dataclasses.fields(node) if one.name not in ("start", "end", "name_end", "name_start")]
            name = getattr(node, "name", None)
            if isinstance(node, (tree.Call, tree.Aggregate)) and isinstance(name, str):
                fields = [name.upper() if one == name else one for one in fields]
            return (type(node).__name__, *(self.shape(one, over) for one in fields))
        if isinstance(node, tuple):
            return tuple(self.shape(one, over) for one in node)
        return node

    def _subqueries(self, node: tree.Node, over: Relation, withs: dict[str, Relation], known: dict[Any, int]) -> Relation:
        """The relation with a column for each subquery of an expression that is a value of its own."""
        for one in _top(node, (tree.Scalar, tree.Exists, tree.InQuery)):
            if id(one) in known:
                continue
            if isinstance(one, tree.InQuery) and not isinstance(one.operand, tree.Row) and not self._outer(one.query, over, withs):
                continue  # the binder asks for its members
            made, kind = self._decided(one, over, withs)
            known[id(one)] = len(over.names)
            over = over.with_columns([made], [kind])
        return over

    def _outer(self, query: tree.Query, over: Relation, withs: dict[str, Relation]) -> list[tree.Name]:
        """The names in a subquery that mean columns of the rows around it."""
        found: dict[tuple[str, str], tree.Name] = {}
        inner = self._inner_columns(query, withs)
        tables = {name for name, _ in inner}
        for one in parse.walk(query):
            if not isinstance(one, tree.Name):
                continue
            table, name = one.table.casefold(), one.text.casefold()
            own = (table, name) in inner if table else any(known == name for _, known in inner)
            if not own and not (table and table in tables) and over.search(one, self.text) is not None:
                found[table, name] = one
        return list(found.values())

    def _inner_columns(self, query: tree.Query, withs: dict[str, Relation]) -> set[tuple[str, str]]:
        """(table, column) of everything that the sources within a query have."""
        found: set[tuple[str, str]] = set()
        for one in parse.walk(query):
            if isinstance(one, tree.Table):
                alias = (one.alias or one.reference).casefold()
                if one.is_name and one.reference.casefold() in withs:
                    names: Sequence[str] = withs[one.reference.casefold()].names
                elif one.is_name and any(item.name.casefold() == one.reference.casefold() for item in query.withs):
                    names = ()
                else:
                    names = self._open(one).columns
                found |= {(alias, name.casefold()) for name in (one.columns or names)}
            elif isinstance(one, (tree.Derived, tree.Unnest)):
                found |= {(one.alias.casefold(), name.casefold()) for name in one.columns}
                found.add((one.alias.casefold(), ""))
            elif isinstance(one, tree.Named):
                found.add(("", one.name.casefold()))
        return found

    def _decided(self, one: Any, over: Relation, withs: dict[str, Relation]) -> tuple[Vector, Type]:
        """A subquery's value for each row: once for all rows, or once for each different combination of what it reads of them."""
        outer = self._outer(one.query, over, withs)
        if not outer:
            made, kind = self._once(one, over, withs, None)
            return (made.spread(over.count) if made.constant else made), kind
        places = [over.find(name, self.text) for name in outer]
        codes, first = codes_of([over.vectors[at].values for at in places], over.count)
        parts, kind = [], BOOLEAN
        for row in first:
            single = over.take(np.array([row]))
            given = {(name.table.casefold(), name.text.casefold()): at for name, at in zip(outer, places, strict=True)}
            part, kind = self._once(one, single, withs, (given, single))
            parts.append(part.spread(1))
        if not parts:
            made, kind = self._empty(one, over, withs)
            return made, kind
        return _taken(joined(parts, kind), codes), kind

    def _empty(self, one: Any, over: Relation, withs: dict[str, Relation]) -> tuple[Vector, Type]:
        return Vector(pa.nulls(0, pa.bool_())), BOOLEAN

    def _once(self, one: Any, over: Relation, withs: dict[str, Relation], outer: Any) -> tuple[Vector, Type]:
        """A subquery's value for rows that share what it reads of them."""
        self.quiet += 1
        before, self._around = getattr(self, "_around", None), outer
        try:
            found = self.run_query(one.query, withs)
        finally:
            self._around = before
            self.quiet -= 1
        if isinstance(one, tree.Exists):
            return Vector(pa.array([found.count > 0]), None, True), BOOLEAN
        if isinstance(one, tree.Scalar):
            if len([name for name in found.names]) != 1:
                raise self._wrong(f"a value is needed here, this query has {len(found.names)} columns", one)
            if found.count > 1:
                return vector(pa.nulls(1, found.types[0].arrow), np.array([CODES["21000"]], np.uint8), True), found.types[0]
            values = found.vectors[0].values if found.count else pa.nulls(1, found.types[0].arrow)
            return vector(values, found.vectors[0].errors if found.count else None, True), found.types[0]
        return self._row_in(one, over, found, withs), BOOLEAN

    def _row_in(self, one: tree.InQuery, over: Relation, found: Relation, withs: dict[str, Relation]) -> Vector:
        """(a, b) IN (SELECT …): TRUE where all are equal; unknown where a NULL might have been."""
        items = one.operand.items if isinstance(one.operand, tree.Row) else (one.operand,)
        if len(items) != len(found.names):
            raise self._wrong(f"{len(items)} values beside {len(found.names)} columns", one)
        sides = [self.evaluate(item, over, withs) for item in items]
        kinds = []
        for (_, kind), other, item in zip(sides, found.types, items, strict=True):
            both = common(kind, other)
            if both is None:
                raise self._wrong(f"IN cannot mix {kind} and {other}", item)
            kinds.append(TEXT if both.kind is Kind.NULL else both)
        left = [_as(made, kind) for (made, _), kind in zip(sides, kinds, strict=True)]
        right = [_as(made, kind) for made, kind in zip(found.vectors, kinds, strict=True)]
        count = over.count
        true = np.zeros(count, bool)
        pairs, _ = joins.equal_pairs(left, right, kinds) if found.count and count else (np.zeros(0, np.int64), None)
        true[pairs] = True
        unknown = np.zeros(count, bool)
        left_null = np.array([pc.is_null(one.values).to_numpy(zero_copy_only=False) for one in left])
        right_null = np.array([pc.is_null(one.values).to_numpy(zero_copy_only=False) for one in right])
        for rows in [np.flatnonzero(right_null.any(axis=0))] if found.count else []:
            for row in rows:
                possible = np.ones(count, bool)
                for at, (a, b) in enumerate(zip(left, right, strict=True)):
                    if right_null[at, row]:
                        continue
                    same = pc.fill_null(pc.equal(a.values, b.values[int(row)]), True).to_numpy(zero_copy_only=False)
                    possible &= same
                unknown |= possible
        if found.count:
            for row in np.flatnonzero(left_null.any(axis=0)):
                possible = np.ones(found.count, bool)
                for at, (a, b) in enumerate(zip(left, right, strict=True)):
                    if not left_null[at, row]:
                        possible &= pc.fill_null(pc.equal(b.values, a.values[int(row)]), True).to_numpy(zero_copy_only=False)
                unknown[row] |= bool(possible.any())
        result = np.where(true, True, False)
        if one.negated:
            result = ~result
        return Vector(pa.array(result, mask=unknown & ~true))

    def _members(self, query: tree.Query, text: str) -> tuple[Type, Any, bool]:
        """What an uncorrelated x IN (SELECT …) asks: the subquery's values."""
        self.quiet += 1
        try:
            found = self.run_query(query, self._withs)
        finally:
            self.quiet -= 1
        if len(found.names) != 1:
            raise self._wrong(f"IN needs one column, this query has {len(found.names)}", query)
        one = found.vectors[0]
        if one.errors is not None:
            self._fault("subquery", found.names[0], one.errors, found.rows)
        return found.types[0], pc.unique(one.values.drop_null()), bool(one.values.null_count)

    # -- FROM
    def _open(self, node: tree.Table) -> Any:
        reference = node.reference
        if node.is_name:
            known = {name.casefold(): name for name in self.tables}
            if reference.casefold() not in known:
                near = nearest(reference, list(self.tables))
                hint = f"did you mean {near}?" if near else "a file stands in quotes: FROM 'boats.csv'; --table NAME=FILE gives it a name"
                raise self._wrong(f"there is no table {reference}", node, hint)
            reference = self.tables[known[reference.casefold()]]
        try:
            return open_table(reference, base=self.base)
        except CallProblem as problem:
            raise Diagnostic(problem.message, self.text, node.start, node.end, hint=problem.hint) from None

    def _source(self, node: tree.Node, withs: dict[str, Relation]) -> Relation:
        if isinstance(node, tree.Table):
            return self._table(node, withs)
        if isinstance(node, tree.Derived):
            return _renamed(self.run_query(node.query, withs), node.alias, node.columns, node, self.text)
        if isinstance(node, tree.Unnest):
            one = Relation((), (), (), (), 1)
            return self._unnest(one, node, withs, outer=False)
        assert isinstance(node, tree.Join)
        left = self._source(node.left, withs)
        if isinstance(node.right, tree.Unnest):
            if node.kind not in ("CROSS", "INNER", "LEFT") or not (node.on is None or _is_true(node.on)):
                raise self._wrong("UNNEST is joined with CROSS JOIN, a comma, or LEFT JOIN … ON TRUE", node.right)
            return self._unnest(left, node.right, withs, outer=node.kind == "LEFT")
        return self._join(left, self._source(node.right, withs), node, withs)

    def _table(self, node: tree.Table, withs: dict[str, Relation]) -> Relation:
        if node.is_name and node.reference.casefold() in withs:
            found = withs[node.reference.casefold()]
            return _renamed(found, node.alias or node.reference, node.columns, node, self.text)
        table = self._open(node)
        wanted = [i for i, name in enumerate(table.columns) if self._wanted is None or name.casefold() in self._wanted or node.columns]
        key = (str(table.path), frozenset(wanted))
        if key not in self._read:
            types = table.types(wanted)
            batches = list(scan(table, lambda batch: batch, wanted))
            bad = sum(len(batch.malformed) for batch in batches)
            count = sum(batch.count for batch in batches)
            vectors = [
                view(pa.concat_arrays([batch.columns[i] for batch in batches]) if batches else pa.nulls(0, pa.string()), types[i]) for i in wanted
            ]
            rows = np.concatenate([batch.rows for batch in batches]) if batches else np.zeros(0, np.int64)
            names = tuple(table.columns[i] for i in wanted)
            self._read[key] = Relation(names, ("",) * len(names), tuple(types[i] for i in wanted), tuple(vectors), count, rows=rows)
            self._tell(f"read {node.reference}", count, count, f"{bad:,} malformed records are no rows" if bad else "")
        name = node.alias or (node.reference if node.is_name else Path(node.reference).stem)
        return _renamed(self._read[key], name, node.columns, node, self.text)

    def _unnest(self, left: Relation, node: tree.Unnest, withs: dict[str, Relation], outer: bool) -> Relation:
        lists, kind = self.evaluate(node.expression, left, withs)
        if kind.kind is not Kind.ARRAY:
            raise self._wrong(f"UNNEST takes an array, this is {kind}", node.expression, "make one: LIST_ITEMS(x, ';')")
        if lists.errors is not None:
            self._fault("UNNEST", self._written(node.expression), lists.errors, left.rows)
        rows, items, places = joins.unnested(lists.values)
        without = left.count - len(np.unique(rows))
        if outer and without:
            missing = np.setdiff1d(np.arange(left.count), rows)
            rows = np.concatenate([rows, missing])
            items = pa.concat_arrays([items, pa.nulls(len(missing), items.type)])
            places = np.concatenate([places, np.zeros(len(missing), np.int64)])
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
        right = Relation(tuple(names[:1]) + tuple(names[1:]), (node.alias,) * len(columns), tuple(types), tuple(columns), len(rows))
        told = f"{left.count - without:,} rows with items" + (f", {without:,} without" + (" are kept" if outer else " are lost") if without else "")
        self._tell("UNNEST", left.count, len(rows), told)
        if not outer:
            self._warn("UNNEST loses rows", without, "have no item, so they are lost", "LEFT JOIN UNNEST(…) ON TRUE keeps them")
        return left.take(rows).beside(right)

    def _join(self, left: Relation, right: Relation, node: tree.Join, withs: dict[str, Relation]) -> Relation:
        both = _beside_names(left, right)
        equal, rest = ([], []) if node.using else self._split(node.on, left, right, both) if node.on is not None else ([], [])
        keys: list[tuple[Vector, Vector, Type]] = []
        for name in node.using:
            at = tree.Name(node.start, node.end, name)
            one, other = left.find(at, self.text), right.find(at, self.text)
            keys.append(self._key(left.vectors[one], left.types[one], right.vectors[other], right.types[other], node))
        for a, b in equal:
            (x, first), (y, second) = self.evaluate(a, left, withs), self.evaluate(b, right, withs)
            keys.append(self._key(x, first, y, second, a))
        for side, relation in ((0, left), (1, right)):
            for pair, (a, b) in zip(keys[len(node.using) :], equal, strict=True):
                if pair[side].errors is not None:
                    self._fault("ON", self._written((a, b)[side]), pair[side].errors, relation.rows)
        if keys:
            pairs = [joins.equal_pairs([key[0] for key in keys], [key[1] for key in keys], [key[2] for key in keys])]
        else:
            pairs = joins.all_pairs(left.count, right.count)  # type: ignore[assignment]
        lefts, rights = [], []
        for a, b in pairs:
            for condition in rest:
                if not len(a):
                    break
                made, _ = self.evaluate(condition, left.take(a).beside(right.take(b)), withs, condition=True)
                if made.errors is not None:
                    self._fault("ON", self._written(condition), made.errors, None)
                keep = made.true(len(a))
                a, b = a[keep], b[keep]
            lefts.append(a)
            rights.append(b)
        one = np.concatenate(lefts) if lefts else np.zeros(0, np.int64)
        two = np.concatenate(rights) if rights else np.zeros(0, np.int64)
        return self._joined(left, right, one, two, node)

    def _joined(self, left: Relation, right: Relation, one: np.ndarray, two: np.ndarray, node: tree.Join) -> Relation:
        matched_left, matched_right = np.bincount(one, minlength=left.count), np.bincount(two, minlength=right.count)
        alone_left, alone_right = np.flatnonzero(matched_left == 0), np.flatnonzero(matched_right == 0)
        extra = int(np.maximum(matched_left - 1, 0).sum())
        pairs = len(one)
        if node.kind in ("LEFT", "FULL") and len(alone_left):
            one, two = np.concatenate([one, alone_left]), np.concatenate([two, np.full(len(alone_left), -1)])
            order = np.argsort(one, kind="stable")
            one, two = one[order], two[order]
        if node.kind in ("RIGHT", "FULL") and len(alone_right):
            one, two = np.concatenate([one, np.full(len(alone_right), -1)]), np.concatenate([two, alone_right])
        made = left.take(one).beside(right.take(two))
        if node.using:
            made = self._merged(made, left, node)
        if node.kind != "CROSS":
            several = int((matched_left > 1).sum())
            told = f"{left.count - len(alone_left):,} rows on the left matched, {len(alone_left):,} without a partner; {len(alone_right):,} on the right without one"
            if several:
                told += f"; {several:,} rows on the left met several (+{extra:,} rows)"
            self._tell(f"{node.kind} JOIN", left.count, made.count, told)
            self._warn("a join multiplies rows", several, f"on the left meet several rows on the right: {extra:,} rows more", "join on a key of the right table")
            if node.kind in ("INNER", "RIGHT"):
                self._warn("a join loses rows", len(alone_left), "on the left have no partner, so they are lost", "LEFT JOIN keeps them")
        else:
            self._tell("CROSS JOIN", left.count, pairs, f"each of {left.count:,} rows with each of {right.count:,}")
        return made

    def _merged(self, made: Relation, left: Relation, node: tree.Join) -> Relation:
        """USING: one column for the two, the first that is known; each side's own is found by its table's name only."""
        vectors, names, types, hidden = [], [], [], set(made.hidden)
        for name in node.using:
            at = tree.Name(node.start, node.end, name)
            one = left.find(at, self.text)
            two = next(i for i in range(len(left.names), len(made.names)) if made.names[i].casefold() == name.casefold())
            kind = common(made.types[one], made.types[two]) or TEXT
            a, b = _as(made.vectors[one], kind), _as(made.vectors[two], kind)
            first = b if node.kind == "RIGHT" else a
            second = a if node.kind == "RIGHT" else b
            vectors.append(Vector(pc.coalesce(first.values, second.values)))
            names.append(made.names[one])
            types.append(kind)
            hidden |= {one, two}
        shift = len(vectors)
        return Relation(
            (*names, *made.names), ("",) * shift + made.tables, (*types, *made.types), (*vectors, *made.vectors), made.count,
            frozenset(index + shift for index in hidden), made.rows,
        )  # fmt: skip

    def _key(self, a: Vector, first: Type, b: Vector, second: Type, node: tree.Node) -> tuple[Vector, Vector, Type]:
        kind = common(first, second)
        if kind is None:
            hint = f"cast one: CAST(… AS {second if first == TEXT else first}) or CAST(… AS TEXT)"
            raise self._wrong(f"= cannot mix {first} and {second}", node, hint)
        kind = TEXT if kind.kind is Kind.NULL else kind
        return _as(a, kind), _as(b, kind), kind

    def _split(self, on: tree.Node, left: Relation, right: Relation, both: Relation) -> tuple[list[tuple[tree.Node, tree.Node]], list[tree.Node]]:
        """The equalities of a condition between one side and the other that stand first, and what is decided after them."""
        parts = list(on.operands) if isinstance(on, tree.Logic) and on.operator == "AND" else [on]
        equal, rest = [], []
        for part in parts:
            pair = None
            if isinstance(part, tree.Call) and part.name == "=" and part.operator and not rest and not _top(part, (tree.Scalar, tree.Exists, tree.InQuery)):
                sides = [self._sides(one, left, right) for one in part.arguments]
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
        found = set()
        for name in parse.column_names(node):
            inside = [side for side, relation in enumerate((left, right)) if relation.search(name, self.text) is not None]
            if len(inside) == 2 and not name.table:
                raise self._wrong(f"{name.text} is on both sides of the join", name, "write it with its table")
            found |= set(inside)
        return found

    # -- SELECT
    def _select(self, select: tree.Select, withs: dict[str, Relation], query: tree.Query | None) -> Relation:
        over = Relation((), (), (), (), 1)
        for at, source in enumerate(select.sources):
            if isinstance(source, tree.Unnest) and at:
                over = self._unnest(over, source, withs, outer=False)
                continue
            found = self._source(source, withs)
            over = found if not at else self._join(over, found, tree.Join(source.start, source.end, "CROSS", source, source, None, ()), withs)
        over = self._with_outer(over)
        if select.where is not None:
            over = self._where(select.where, over, withs, "WHERE")
        items = self._items(select, over)
        stands: dict[Any, int] = {}
        aggregates = self._aggregates(select, items, query)
        if select.groups is not None or aggregates or select.having is not None:
            over, stands = self._group(select, over, items, aggregates, withs)
            if select.having is not None:
                over = self._where(select.having, over, withs, "HAVING", stands)
        over, stands = self._windows(select, items, query, over, withs, stands)
        names, vectors, types = [], [], []
        for item in items:
            made, kind = self.evaluate(item.expression, over, withs, stands)
            plain = isinstance(item.expression, tree.Name) and item.name_start == item.start
            names.append(item.expression.text if plain and isinstance(item.expression, tree.Name) else item.name)
            vectors.append(made)
            types.append(TEXT if kind.kind is Kind.NULL else kind)
        vectors = [_as(one, kind) for one, kind in zip(vectors, types, strict=True)]
        made = Relation(tuple(names), ("",) * len(names), tuple(types), tuple(vectors), over.count, rows=over.rows)
        before: Relation | None = over
        shapes = {self.shape(item.expression, over): at for at, item in enumerate(items)}
        if select.distinct:
            made, before = self._distinct(made), None
        if query is None:
            return made
        return self._limited(self._ordered(made, before, query, stands, withs, shapes), query)

    def _with_outer(self, over: Relation) -> Relation:
        """The rows with what a correlated subquery reads of the row around it, each as a column of one value."""
        around = getattr(self, "_around", None)
        if around is None:
            return over
        given, single = around
        names, tables, vectors, types = [], [], [], []
        for (table, name), at in given.items():
            if not table and any(one.casefold() == name for one in over.names):
                continue
            names.append(single.names[at])
            tables.append(table or single.tables[at])
            types.append(single.types[at])
            vectors.append(_taken(single.vectors[at], np.zeros(over.count, np.int64)))
        if not names:
            return over
        extra = Relation(tuple(names), tuple(tables), tuple(types), tuple(vectors), over.count)
        made = over.beside(extra)
        return made

    def _where(self, node: tree.Node, over: Relation, withs: dict[str, Relation], stage: str, stands: dict[Any, int] | None = None) -> Relation:
        made, _ = self.evaluate(node, over, withs, stands, condition=True)
        if made.errors is not None:
            self._fault(stage, self._written(node), made.errors, over.rows)
        keep = made.true(over.count)
        false, failed = int(made.false(over.count).sum()), int(made.failed(over.count).sum())
        unknown = over.count - int(keep.sum()) - false - failed
        removed = over.count - int(keep.sum())
        told = f"{removed:,} removed ({false:,} false, {unknown:,} unknown{f', {failed:,} with an error' if failed else ''})" if removed else "none removed"
        self._tell(stage, over.count, int(keep.sum()), told)
        return over if keep.all() else over.take(np.flatnonzero(keep))

    def _items(self, select: tree.Select, over: Relation) -> list[tree.Named]:
        """The select list with * written out."""
        made: list[tree.Named] = []
        for item in select.items:
            if isinstance(item, tree.Named):
                made.append(item)
                continue
            assert isinstance(item, tree.AllColumns)
            if not select.sources:
                raise self._wrong("* needs a FROM", item)
            outer = getattr(self, "_around", None)
            own = len(over.names) - (len(outer[0]) if outer else 0)
            places = [at for at in range(own) if over.names[at] and (over.tables[at].casefold() == item.table.casefold() if item.table else at not in over.hidden)]
            if not places:
                raise self._wrong(f"there is no table {item.table} here", item)
            made += [
                tree.Named(item.start, item.end, over.names[at], item.start, tree.Name(item.start, item.end, over.names[at], True, over.tables[at] or ""))
                if [over.names[i] for i in range(len(over.names)) if i not in over.hidden].count(over.names[at]) > 1 or at in over.hidden
                else tree.Named(item.start, item.end, over.names[at], item.start, tree.Name(item.start, item.end, over.names[at], True))
                for at in places
            ]
        return made

    def _aggregates(self, select: tree.Select, items: list[tree.Named], query: tree.Query | None) -> list[tree.Aggregate]:
        """The aggregates that this block computes, its ORDER BY's too."""
        places: list[tree.Node] = [item.expression for item in items]
        places += [select.having] if select.having is not None else []
        places += [key.expression for key in query.order] if query is not None else []
        return [one for place in places for one in _top(place, (tree.Aggregate,), windows=True) if isinstance(one, tree.Aggregate) and one.over is None]

    def _group(
        self, select: tree.Select, over: Relation, items: list[tree.Named], aggregates: list[tree.Aggregate], withs: dict[str, Relation]
    ) -> tuple[Relation, dict[Any, int]]:
        sets = self._grouping(select.groups or (), over, items)
        every: dict[Any, tree.Node] = {}
        for some in sets:
            for node in some:
                every.setdefault(self.shape(node, over), node)
        keys = {shape: self.evaluate(node, over, withs) for shape, node in every.items()}
        for shape, (made, _) in keys.items():
            if made.errors is not None:
                self._fault("GROUP BY", self._written(every[shape]), made.errors, over.rows)
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
            heads = [_taken(made, first) if shape in shapes else Vector(pa.nulls(many, kind.arrow)) for shape, (made, kind) in keys.items()]
            computed, types = [], []
            for one, given in zip(aggregates, inputs, strict=True):
                made, kind = self._aggregate(one, given, numbers, many, over, [shape in shapes for shape in keys], list(keys))
                computed.append(made)
                types.append(kind)
            parts.append((heads, computed, many))
        if not types and aggregates:
            types = [INTEGER] * len(aggregates)
        key_types = [kind if kind.kind is not Kind.NULL else TEXT for _, kind in keys.values()]
        vectors = [joined([_as(part[0][at], kind) for part in parts], kind) for at, kind in enumerate(key_types)]
        vectors += [joined([part[1][at] for part in parts], kind) for at, kind in enumerate(types)]
        count = sum(part[2] for part in parts)
        self._tell("GROUP BY" if select.groups is not None else "aggregates", over.count, count, f"{count:,} groups")
        stands: dict[Any, int] = {shape: at for at, shape in enumerate(keys)}
        names = [node.text if isinstance(node, tree.Name) else "" for node in every.values()]
        tables = [over.tables[shape[1]] if isinstance(node, tree.Name) and shape[0] == "column" else "" for shape, node in every.items()]
        stands = {}
        grouped = _Grouped(
            (*names, *("" for _ in types)), (*tables, *("" for _ in types)), (*key_types, *types), tuple(vectors), count, frozenset(), None, over
        )  # fmt: skip
        for at, node in enumerate(every.values()):
            stands[self.shape(node, grouped)] = at
        for at, shape in enumerate(keys):
            stands[shape] = at
        for at, one in enumerate(aggregates):
            stands[id(one)] = len(keys) + at
            stands[self.shape(one, grouped)] = len(keys) + at
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

    def _input(self, one: tree.Aggregate, over: Relation, withs: dict[str, Relation]) -> _Input:
        name = one.name.upper()
        if name not in parse.AGGREGATES:
            raise self._wrong(f"{name} is no aggregate", one, "window functions have OVER (…)" if name in WINDOWS else "")
        mask = np.ones(over.count, bool)
        if one.filter is not None:
            made, _ = self.evaluate(one.filter, over, withs, condition=True)
            if made.errors is not None:
                self._fault("FILTER", self._written(one.filter), made.errors, over.rows)
            mask = made.true(over.count)
        if name == "GROUPING" or one.star:
            if one.star and name != "COUNT":
                raise self._wrong(f"{name} takes an expression", one)
            return _Input(name, None, INTEGER, mask, [], ())
        wants = {"LISTAGG": (1, 2), "PERCENTILE_CONT": (1, 1), "PERCENTILE_DISC": (1, 1)}.get(name, (1, 1))
        if not wants[0] <= len(one.arguments) <= wants[1]:
            raise self._wrong(f"{name} does not take {len(one.arguments)} arguments", one)
        subject = one.within[0].expression if name.startswith("PERCENTILE") and one.within else one.arguments[0]
        if name.startswith("PERCENTILE") and not one.within:
            raise self._wrong(f"{name} needs WITHIN GROUP (ORDER BY …)", one)
        value, kind = self.evaluate(subject, over, withs)
        if name in ("SUM", "AVG", "PERCENTILE_CONT") or name.startswith(("STDDEV", "VAR")):
            if kind.kind not in (*NUMBERS, Kind.NULL):
                raise self._wrong(f"{name} takes a number, this is {kind}", subject, f"write CAST({self._written(subject)[:60]} AS DECIMAL)")
            if kind.kind is Kind.NULL:
                value, kind = _as(value, INTEGER), INTEGER
        if name == "LISTAGG" and kind != TEXT:
            raise self._wrong(f"LISTAGG takes TEXT, this is {kind}", subject, f"write CAST({self._written(subject)[:60]} AS TEXT)")
        keys = [self.evaluate(key.expression, over, withs)[0].values for key in one.within] if name == "LISTAGG" else []
        if not self.quiet and name in ("COUNT", "AVG", "SUM"):
            nulls = int((pc.is_null(value.values).to_numpy(zero_copy_only=False) & mask).sum())
            if nulls and not one.distinct:
                self._warn("aggregate passes over NULL", nulls, f"have NULL in {self._written(one)[:60]}, which passes over them", "COUNT(*) counts rows; COALESCE gives NULL a value")
        return _Input(name, value, kind, mask, keys, one.within)

    def _aggregate(
        self, one: tree.Aggregate, given: _Input, numbers: np.ndarray, many: int, over: Relation, used: list[bool], shapes: list[Any]
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
        self, one: tree.Aggregate, given: _Input, numbers: np.ndarray, many: int, value: Any, kind: Type, known: np.ndarray
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
            separator = _literal_text(one.arguments[1]) if len(one.arguments) > 1 else ""
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

    def _group_errors(self, given: _Input, numbers: np.ndarray, many: int) -> np.ndarray | None:
        """An aggregate that meets an error is that error: of a group's errors the first."""
        if given.value is None or given.value.errors is None:
            return None
        rows = np.flatnonzero((given.value.errors != 0) & given.mask)
        made = np.zeros(many, np.uint8)
        made[numbers[rows[::-1]]] = given.value.errors[rows[::-1]]
        return made

    # -- windows
    def _windows(
        self, select: tree.Select, items: list[tree.Named], query: tree.Query | None, over: Relation, withs: dict[str, Relation], stands: dict[Any, int]
    ) -> tuple[Relation, dict[Any, int]]:
        places = [item.expression for item in items] + ([key.expression for key in query.order] if query is not None else [])
        found = [one for place in places for one in _top(place, (tree.Aggregate,)) if isinstance(one, tree.Aggregate) and one.over is not None]
        named = {name.casefold(): window for name, window in select.windows}
        stands = dict(stands)
        cache: dict[Any, Sorted] = {}
        for one in found:
            assert one.over is not None
            window = one.over
            if window.name:
                if window.name.casefold() not in named:
                    raise self._wrong(f"there is no window {window.name}", window)
                window = named[window.name.casefold()]
            key = self.shape((window.partition, window.order), over)
            if key not in cache:
                partition = [self.evaluate(node, over, withs, stands)[0].values for node in window.partition]
                keys = [self.evaluate(sort.expression, over, withs, stands)[0].values for sort in window.order]
                cache[key] = Sorted(partition, keys, window.order, over.count)
            made, kind = self._window(one, window, cache[key], over, withs, stands)
            stands[id(one)] = len(over.names)
            over = over.with_columns([made], [kind]) if not isinstance(over, _Grouped) else over.with_columns([made], [kind])
        return over, stands

    def _window(
        self, one: tree.Aggregate, window: tree.Window, rows: Sorted, over: Relation, withs: dict[str, Relation], stands: dict[Any, int]
    ) -> tuple[Vector, Type]:
        name = one.name.upper()
        given = [self.evaluate(node, over, withs, stands) for node in one.arguments]
        if name in RANKS:
            if name == "NTILE":
                number = _literal_number(one.arguments[0]) if one.arguments else None
                if not number or number < 1:
                    raise self._wrong("NTILE takes a number of buckets, 1 or more", one)
                return vector_of(rows.rank(name, number)), INTEGER
            return vector_of(rows.rank(name)), DOUBLE if name in ("PERCENT_RANK", "CUME_DIST") else INTEGER
        mask = np.ones(over.count, bool)
        if one.filter is not None:
            mask = self.evaluate(one.filter, over, withs, stands, condition=True)[0].true(over.count)
        if one.star:
            return Vector(rows.back(rows.counted(mask, window.frame))), INTEGER
        if not given:
            raise self._wrong(f"{name} takes an expression", one)
        value, kind = given[0]
        if name in ("LAG", "LEAD"):
            by = _literal_number(one.arguments[1]) if len(given) > 1 else 1
            if by is None:
                raise self._wrong(f"the distance of {name} is a number", one.arguments[1])
            default = _as(given[2][0], kind).values if len(given) > 2 else None
            return vector_of(rows.shifted(value.values, np.full(over.count, -by if name == "LAG" else by), default)), kind
        if name in ("FIRST_VALUE", "LAST_VALUE"):
            return vector_of(rows.edge(value.values, window.frame, name == "LAST_VALUE")), kind
        if one.distinct:
            raise self._wrong("DISTINCT has no window form", one)
        return self._windowed(one, name, value, kind, mask, rows, window)

    def _windowed(self, one: tree.Aggregate, name: str, value: Vector, kind: Type, mask: np.ndarray, rows: Sorted, window: tree.Window) -> tuple[Vector, Type]:
        known = mask & pc.is_valid(value.values).to_numpy(zero_copy_only=False)
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
            from decimal import Decimal

            scale = kind.scale if kind.kind is Kind.DECIMAL else 0
            exact = [0 if one is None else int(Decimal(one).scaleb(scale)) for one in value.values.to_pylist()]
            sums, counts = rows.summed(np.array(exact, object) if exact else np.zeros(0, np.int64), known, window.frame)
            to = groups.sum_type(kind)
            made = pa.array([None if not many else Decimal(int(total)).scaleb(-scale) for total, many in zip(sums, counts, strict=True)], to.arrow)
            total = Vector(rows.back(made))
        if name == "SUM":
            return total, groups.sum_type(kind)
        return groups.mean(total, Vector(rows.back(pa.array(counts, pa.int64()))), kind)

    # -- after SELECT
    def _distinct(self, made: Relation) -> Relation:
        _, first = codes_of([one.values for one in made.vectors], made.count)
        self._tell("DISTINCT", made.count, len(first), f"{made.count - len(first):,} removed")
        return made.take(first)

    def _ordered(
        self, made: Relation, before: Relation | None, query: tree.Query, stands: dict[Any, int], withs: dict[str, Relation], shapes: dict[Any, int] | None = None
    ) -> Relation:
        if not query.order:
            return made
        keys = []
        for key in query.order:
            node = key.expression
            at = None
            if isinstance(node, tree.Literal) and node.kind == "integer":
                at = int(node.text) - 1
                if not 0 <= at < len(made.names):
                    raise self._wrong(f"there is no column {node.text} to sort by", node)
            elif isinstance(node, tree.Name) and not node.table:
                at = made.search(node, self.text)
            if at is None and before is not None and shapes:
                at = shapes.get(self.shape(node, before))
            if at is not None:
                one = made.vectors[at]
            elif before is not None:
                one = self.evaluate(node, before, withs, stands)[0]
            else:
                one = self.evaluate(node, made, withs)[0]
            if one.errors is not None:
                self._fault("ORDER BY", self._written(node), one.errors, made.rows)
            keys.append(pa.chunked_array([one.values]))
        order = sort_order(keys, query.order)
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
                self._warn("ties", after + 1, "share the sort key of the last row, and some of them are not among the result", "add a key to ORDER BY, or WITH TIES")
        kept = made.take(np.arange(min(query.offset, made.count), end))
        self._tell("FETCH", made.count, kept.count, f"from row {query.offset + 1:,}")
        return kept

    def _values(self, node: tree.Values) -> Relation:
        width = len(node.rows[0].items)
        one = Relation((), (), (), (), 1)
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
            vectors.append(joined([_as(made, kind) for made, _ in column], kind))
            types.append(kind)
        names = tuple(f"column{at + 1}" for at in range(width))
        return Relation(names, ("",) * width, tuple(types), tuple(vectors), len(node.rows))

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
        vectors = [joined([_as(a, kind), _as(b, kind)], kind) for a, b, kind in zip(left.vectors, right.vectors, types, strict=True)]
        both = Relation(left.names, ("",) * len(types), tuple(types), tuple(vectors), left.count + right.count)
        keep = self._chosen(node, [one.values for one in vectors], left.count, right.count)
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


@dataclass(frozen=True)
class _Input:
    """What an aggregate is of: its value a row (None for COUNT(*)), the rows of its FILTER, its order."""

    name: str
    value: Vector | None
    kind: Type
    mask: np.ndarray
    keys: list[Any]
    sorts: Any


@dataclass(frozen=True)
class _Grouped(Relation):
    """Groups: a column of the rows that is not grouped by has no value of its own here."""

    ungrouped: Relation | None = None

    def find(self, node: tree.Name, text: str) -> int:
        if self.search(node, text) is None and self.ungrouped is not None and self.ungrouped.search(node, text) is not None:
            raise Diagnostic(f"{node.text} is neither grouped by nor inside an aggregate", text, node.start, node.end,
                             hint=f"add it to GROUP BY, or write MIN({node.text})")  # fmt: skip
        return super().find(node, text)


def _top(node: Any, kinds: tuple[type, ...], windows: bool = False) -> list[Any]:
    """The outermost nodes of some kinds below a node, not looking into subqueries; with `windows` also what stands inside
    a window function's arguments and window."""
    found: list[Any] = []

    def visit(one: Any) -> None:
        if isinstance(one, tuple):
            for part in one:
                visit(part)
            return
        if not isinstance(one, tree.Node):
            return
        if isinstance(one, kinds):
            found.append(one)
            if not (windows and isinstance(one, tree.Aggregate) and one.over is not None):
                return
        if isinstance(one, tree.Query):
            return
        for part in dataclasses.fields(one):
            visit(getattr(one, part.name))

    visit(node)
    return found


def _is_true(node: tree.Node) -> bool:
    return isinstance(node, tree.Literal) and node.kind == "boolean" and node.text.upper() == "TRUE"


def _literal_text(node: tree.Node) -> str | None:
    return node.text if isinstance(node, tree.Literal) and node.kind == "text" else None


def _literal_number(node: tree.Node) -> int | None:
    return int(node.text) if isinstance(node, tree.Literal) and node.kind == "integer" else None


def _as(one: Vector, kind: Type) -> Vector:
    """A vector widened to a type."""
    return one if one.values.type == kind.arrow else Vector(one.values.cast(kind.arrow), one.errors)


def _taken(one: Vector, rows: np.ndarray) -> Vector:
    from gravel.querying.relation import taken

    return taken(one, rows)


def _beside_names(left: Relation, right: Relation) -> Relation:
    return replace(left, names=left.names + right.names, tables=left.tables + right.tables, types=left.types + right.types, vectors=left.vectors + right.vectors)


def _renamed(found: Relation, table: str, columns: tuple[str, ...], node: tree.Node, text: str) -> Relation:
    """A relation under a table's name, its columns renamed from the left."""
    if len(columns) > len(found.names):
        raise Diagnostic(f"{len(columns)} names for {len(found.names)} columns", text, node.start, node.end)
    names = (*columns, *found.names[len(columns) :])
    return Relation(names, (table,) * len(names), found.types, found.vectors, found.count, frozenset(), found.rows)


Evaluate = Callable[[tree.Node, Relation], tuple[Vector, Type]]
