"""What a query runs in, and expressions over its rows: names, subqueries, what has been computed already."""

from __future__ import annotations

import dataclasses
from abc import ABC, abstractmethod
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.evaluate import run
from gravel.engine.mapped import Store
from gravel.engine.vector import Vector, vector
from gravel.inspecting.cautions import Watch
from gravel.language import parse, tree
from gravel.language.bind import Given, Scope, bind
from gravel.language.diagnostics import Diagnostic
from gravel.language.errors import CODES, meaning, sqlstate
from gravel.language.types import BOOLEAN, TEXT, Kind, Type, common
from gravel.problems import CallProblem, DataProblem, nearest
from gravel.querying import joins
from gravel.querying.relation import Columns, Grouped, Relation, as_type, codes_of, joined, taken
from gravel.querying.shapes import top
from gravel.tables.reference import open_table
from gravel.tables.table import Malformed


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
class Base(ABC):
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
    malformed: dict[str, tuple[Malformed, ...]] = field(default_factory=dict)
    paths: set[Path] = field(default_factory=set)  # the files that were read
    relations: dict[str, Relation] = field(default_factory=dict)  # tables that are at hand, by their folded names
    store: Store | None = None  # room for the columns; without one all are held
    failed: list[np.ndarray] = field(default_factory=list)  # origins of the rows that errors left out
    _read: dict[tuple[str, frozenset[int]], Relation] = field(default_factory=dict)
    _wanted: set[str] | None = None
    _withs: dict[str, Relation] = field(default_factory=dict)
    _with_null: set[int] = field(default_factory=set)  # subqueries, by identity, that have a NULL
    _around: tuple[dict[tuple[str, str], int], Relation] | None = None

    @abstractmethod
    def run_query(self, query: tree.Query, withs: dict[str, Relation]) -> Relation:
        """A query's relation, its order kept."""

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

    def _sound(self, stage: str, made: Relation, vectors: Iterable[tuple[str, Vector]]) -> np.ndarray | None:
        """What a stage reads of some rows: its errors are told, and where such rows are left out, which remain (else None)."""
        failed = np.zeros(made.count, bool)
        for expression, one in vectors:
            if one.errors is not None:
                self._fault(stage, expression, one.errors, made.rows)
                failed |= one.errors != 0
        if self.on_error != "omit" or not failed.any():
            return None
        self._tell(f"{stage}: omitted", made.count, int((~failed).sum()), "rows with an error")
        self._left_out(made, failed)
        return np.flatnonzero(~failed)

    def _left_out(self, made: Relation, failed: np.ndarray) -> None:
        """Remember which rows of a plan's table errors have left out."""
        if made.origin is not None and self.on_error == "omit":
            self.failed.append(made.origin[failed])

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

    def evaluate(
        self,
        node: tree.Node,
        over: Relation,
        withs: dict[str, Relation],
        stands: dict[Any, int] | None = None,
        condition: bool = False,
        watched: bool = True,
    ) -> tuple[Vector, Type]:
        """An expression over a relation's rows. `stands` maps shapes of nodes to columns that hold them already; its
        cautions are told if it is `watched`, which needs all rows at once."""
        known = dict(stands or {})
        over = self._subqueries(node, over, withs, known)

        def stand(one: tree.Node) -> int | None:
            return known.get(id(one), known.get(self.shape(one, over))) if known else None

        scope = Scope(over.names, over.types, frozenset(), self.given, stand, over.find)
        self._withs = withs
        bound = bind(node, scope, self.text)
        if condition and bound.type.kind not in (Kind.BOOLEAN, Kind.NULL):
            raise self._wrong(f"a condition is needed here, this is {bound.type}", node, "compare it: … = …, … IS NOT NULL")
        frame = over.frame().remembering()
        made = run(bound, frame).spread(over.count)
        if watched and not self.quiet:
            watch = Watch([(bound, self.text)])
            if watch.probes:
                watch.add(watch.count(frame))
                for one in watch.cautions():
                    self._warn(one.caution, one.rows, one.detail, one.hint)
            self._not_in(node, over)
        if condition and pa.types.is_null(made.values.type):
            made = Vector(made.values.cast(pa.bool_()), made.errors)
        return made, bound.type

    def _not_in(self, node: tree.Node, over: Relation) -> None:
        """NOT IN is never true where the query has a NULL."""
        for one in top(node, (tree.InQuery,)):
            if one.negated and id(one.query) in self._with_null:
                self._warn("NOT IN over NULL", over.count, f"for which {self._written(one)[:60]} cannot be true: the query has a NULL",
                           "add WHERE … IS NOT NULL to it, or write NOT EXISTS")  # fmt: skip

    def shape(self, node: Any, over: Relation) -> Any:
        """What a node says, wherever it stands: names by the columns they mean."""
        if isinstance(node, tree.Name):
            # Of groups: the columns of the rows that were grouped.
            source = over.ungrouped if isinstance(over, Grouped) and over.ungrouped is not None else over
            try:
                found = source.search(node, self.text)
            except Diagnostic:
                found = None
            return ("column", found) if found is not None else ("name", node.text, node.table)
        if isinstance(node, tree.Node):
            fields = [
                getattr(node, one.name) for one in dataclasses.fields(node) if one.name not in ("start", "end", "name_end", "name_start")
            ]
            name = getattr(node, "name", None)
            if isinstance(node, (tree.Call, tree.Aggregate)) and isinstance(name, str):
                fields = [name.upper() if one == name else one for one in fields]
            return (type(node).__name__, *(self.shape(one, over) for one in fields))
        if isinstance(node, tuple):
            return tuple(self.shape(one, over) for one in node)
        return node

    def _subqueries(self, node: tree.Node, over: Relation, withs: dict[str, Relation], known: dict[Any, int]) -> Relation:
        """The relation with a column for each subquery of an expression that is a value of its own."""
        rows = over

        def stands(one: tree.Node) -> bool:
            return bool(known) and (id(one) in known or self.shape(one, rows) in known)

        for one in top(node, (tree.Scalar, tree.Exists, tree.InQuery), stop=stands):
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
                if not table:
                    self._warn("a name from outside", over.count, f"take {one.text} from the row around the subquery, in which no table has it",
                               f"if that is meant, write it with its table: {over.tables[over.find(one, self.text)] or 't'}.{one.text}")  # fmt: skip
        return list(found.values())

    def _inner_columns(self, query: tree.Query, withs: dict[str, Relation]) -> set[tuple[str, str]]:
        """(table, column) of everything that the sources within a query have."""
        found: set[tuple[str, str]] = set()
        for one in parse.walk(query):
            if isinstance(one, tree.Table):
                alias = (one.alias or one.reference).casefold()
                if one.is_name and one.reference.casefold() in withs:
                    names: Sequence[str] = withs[one.reference.casefold()].names
                elif one.is_name and one.reference.casefold() in self.relations:
                    names = self.relations[one.reference.casefold()].names
                elif one.is_name and any(item.name.casefold() == one.reference.casefold() for item in query.withs):
                    names = ()
                else:
                    names = self._open(one).columns
                found |= {(alias, name.casefold()) for name in (one.columns or names)}
            elif isinstance(one, (tree.Derived, tree.Unnest)):
                found |= {(one.alias.casefold(), name.casefold()) for name in one.columns}
                found.add((one.alias.casefold(), ""))
            elif isinstance(one, tree.Select) and (one is not query.body or query.order):
                # What the queries within give their readers; its own names mean something in ORDER BY alone.
                found |= {("", item.name.casefold()) for item in one.items if isinstance(item, tree.Named)}
        return found

    def _decided(self, one: Any, over: Relation, withs: dict[str, Relation]) -> tuple[Vector, Type]:
        """A subquery's value for each row: once for all rows, or once for each different combination of what it reads of them."""
        outer = self._outer(one.query, over, withs)
        if not outer:
            made, kind = self._once(one, over, withs, None)
            return (made.spread(over.count) if made.constant else made), kind
        places = [over.find(name, self.text) for name in outer]
        codes, first = codes_of([over.vectors[at].values for at in places], over.count)
        given = {(name.table.casefold(), name.text.casefold()): at for name, at in zip(outer, places, strict=True)}
        parts, kind, rows = [], BOOLEAN, []
        members = isinstance(one, tree.InQuery)
        order = np.argsort(codes, kind="stable") if members else codes
        ends = np.cumsum(np.bincount(codes, minlength=len(first))) if members else codes
        for number, row in enumerate(first):
            # What is looked for may differ among rows that share what the subquery reads.
            sharing = order[ends[number - 1] if number else 0 : ends[number]] if members else np.array([row])
            part, kind = self._once(one, over.take(sharing), withs, (given, over.take(np.array([row]))))
            parts.append(part.spread(len(sharing)))
            rows.append(sharing)
        if not parts:
            # No row asks; one of NULLs tells the type.
            single = over.take(np.array([-1]))
            _, kind = self._once(one, single, withs, (given, single))
            return Vector(pa.nulls(0, kind.arrow)), kind
        if not members:
            return taken(joined(parts, kind), codes), kind
        place = np.empty(over.count, np.int64)
        place[np.concatenate(rows)] = np.arange(over.count)
        return taken(joined(parts, kind), place), kind

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
            if len(found.names) != 1:
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
        left = [as_type(made, kind) for (made, _), kind in zip(sides, kinds, strict=True)]
        right = [as_type(made, kind) for made, kind in zip(found.vectors, kinds, strict=True)]
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

    def members(self, query: tree.Query, text: str) -> tuple[Type, Any, bool]:
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
        if one.values.null_count:
            self._with_null.add(id(query))
        return found.types[0], pc.unique(one.values.drop_null()), bool(one.values.null_count)

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
            vectors.append(taken(single.vectors[at], np.zeros(over.count, np.int64)))
        if not names:
            return over
        extra = Relation(tuple(names), tuple(tables), tuple(types), Columns(vectors), over.count)
        made = over.beside(extra)
        return made

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
