"""What a query runs in, and expressions over its rows: names, subqueries, what has been computed
already."""

from __future__ import annotations

import dataclasses
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.aggregates import ordered
from gravel.engine.evaluate import run
from gravel.engine.mapped import Store
from gravel.engine.vector import Vector, first_error, vector
from gravel.inspecting.cautions import Caution, Watch
from gravel.language import parse, tree
from gravel.language.bind import Given, Scope, bind
from gravel.language.cautions import ListItems
from gravel.language.diagnostics import Diagnostic
from gravel.language.errors import CODES, meaning, sqlstate
from gravel.language.functions.operators import compared
from gravel.language.functions.text import tidy_spaces, upper
from gravel.language.types import BOOLEAN, NUMBERS, TEXT, Kind, Type, common
from gravel.problems import CallProblem, DataProblem, nearest
from gravel.querying import joins
from gravel.querying.partitions import more_than
from gravel.querying.relation import Columns, Grouped, Relation, as_type, codes_of, joined, taken
from gravel.querying.scopes import Scopes
from gravel.querying.shapes import SUBQUERIES, top
from gravel.sources.opening import open_table
from gravel.sources.source import Malformed, Source

_FOLDED = (
    200_000  # distinct keys up to which those that differ in case or spaces only are looked for
)


@dataclass(frozen=True)
class Stage:
    """An operator of a query: rows into it and out of it, and what became of the difference.
    `inputs` are the places in the account of the operators that its rows come from; `spilled` the
    bytes that were written to temporary files meanwhile.
    """

    stage: str
    rows_in: int
    rows_out: int
    detail: str = ""
    inputs: tuple[int, ...] = ()
    spilled: int = 0


@dataclass(frozen=True)
class RowFault:
    """Rows that failed at a stage: the expression, the SQLSTATE, how many, and the first source
    rows if they are known."""

    stage: str
    expression: str
    sqlstate: str
    rows: int
    first: tuple[int, ...] = ()

    @property
    def row(self) -> int | None:
        """The first source row."""
        return self.first[0] if self.first else None


class RowProblem(DataProblem):
    """A row error that stops a query."""

    def __init__(self, fault: RowFault, detail: str) -> None:
        count = "1 row" if fault.rows == 1 else f"{fault.rows:,} rows"
        where = ""
        if fault.first:
            where = (
                f", first in source row{'s' if len(fault.first) > 1 else ''}"
                f" {', '.join(f'{row:,}' for row in fault.first)}"
            )
        state = fault.sqlstate
        super().__init__(
            f"{fault.stage}: {fault.expression[:80]} fails in {count}{where}: {state},"
            f" {meaning(state)}",
            detail=detail,
            hint="guard it with CASE, or --on-error null or omit",
        )
        self.sqlstate = state


@dataclass
class Outer:
    """The row around a subquery: the names and aggregates that the subquery reads of it, where they
    stand there, and the row."""

    names: dict[tuple[str, str], int]
    aggregates: dict[int, int]
    row: Relation


@dataclass
class Base(ABC):
    """What a query runs in: tables by name, named queries, parameters, what is done with errors;
    and its account."""

    text: str
    given: Given = field(default_factory=Given)
    tables: dict[str, str] = field(default_factory=dict)
    opened: dict[str, Source] = field(default_factory=dict)  # tables at hand, by folded names
    base: Path | None = None
    on_error: str = "stop"
    account: list[Stage] = field(default_factory=list)
    cautions: list[Caution] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)
    list_items: ListItems = field(default_factory=dict)
    faults: list[RowFault] = field(default_factory=list)
    quiet: int = 0
    malformed: dict[str, tuple[Malformed, ...]] = field(default_factory=dict)
    paths: set[Path] = field(default_factory=set)  # the files that were read
    relations: dict[str, Relation] = field(
        default_factory=dict
    )  # tables that are at hand, by their folded names
    store: Store | None = None  # room for the columns; without one all are held
    failed: list[np.ndarray] = field(
        default_factory=list
    )  # origins of the rows that errors left out
    _instead: dict[int, int] = field(
        default_factory=dict
    )  # for an operator, the one that left rows of it out
    _read: dict[tuple[str, frozenset[int]], Relation] = field(default_factory=dict)
    _wanted: set[str] | None = None
    _grouped: set[str] = field(default_factory=set)  # names that a query groups by
    _withs: dict[str, Relation] = field(default_factory=dict)
    _with_null: set[int] = field(default_factory=set)  # subqueries, by identity, that have a NULL
    _around: Outer | None = None
    _reasons: dict[str, str] = field(
        default_factory=dict
    )  # why subqueries have no value, by SQLSTATE

    @property
    def memory(self) -> int | None:
        """Bytes that a stage may take for a while; None: as many as it needs."""
        return None if self.store is None else self.store.memory

    @abstractmethod
    def _from(
        self, select: tree.Select, withs: dict[str, Relation], decided: set[int] | None = None
    ) -> Relation:
        """The rows of a FROM."""

    @abstractmethod
    def run_query(self, query: tree.Query, withs: dict[str, Relation]) -> Relation:
        """A query's relation, its order kept."""

    def _fault(
        self, stage: str, expression: str, errors: np.ndarray, rows: np.ndarray | None
    ) -> None:
        """Row errors that a result or a condition reads. Raises DataProblem where errors stop the
        query."""
        for code in np.unique(errors[errors != 0]):
            index = np.flatnonzero(errors == code)
            first = (
                ()
                if rows is None
                else tuple(dict.fromkeys(int(row) for row in rows[index[:100]] if row > 0))[:3]
            )
            self.faults.append(RowFault(stage, expression, sqlstate(int(code)), len(index), first))
        if self.on_error == "stop" and self.faults:
            problem = RowProblem(self.faults[0], self._reasons.get(self.faults[0].sqlstate, ""))
            if self.quiet:
                self.faults.clear()
            raise problem

    def _sound(
        self,
        stage: str,
        relation: Relation,
        vectors: Iterable[tuple[str, Vector]],
        detail: Callable[[np.ndarray], str] | None = None,
    ) -> np.ndarray | None:
        """What a stage reads of some rows: its errors are told, and where such rows are left out,
        which remain (else None)."""
        failed = np.zeros(relation.count, bool)
        for expression, item in vectors:
            if item.errors is not None:
                spread = item.spread(relation.count).errors
                assert spread is not None
                self._fault(stage, expression, spread, relation.rows)
                failed |= item.errors != 0
        if self.on_error != "omit" or not failed.any():
            return None
        message = "rows with an error" + (detail(failed) if detail else "")
        place = self._tell(f"{stage}: omitted", (relation,), int((~failed).sum()), message)
        if place is not None and relation.stage is not None:
            self._instead[relation.stage] = place
        self._left_out(relation, failed)
        return np.flatnonzero(~failed)

    def _left_out(self, relation: Relation, failed: np.ndarray) -> None:
        """Remember which rows of a plan's table errors have left out."""
        if relation.origin is not None and self.on_error == "omit":
            self.failed.append(relation.origin[failed])

    def _tell(
        self,
        stage: str,
        inputs: Sequence[Relation],
        rows_out: int,
        detail: str = "",
        rows_in: int | None = None,
    ) -> int | None:
        """Enter an operator into the account; its place there, None within a subquery, whose
        operators run once a row."""
        self._let_go()
        if self.quiet:
            return None
        spilled = (
            0
            if self.store is None
            else self.store.spilled - sum(item.spilled for item in self.account)
        )
        places = tuple(
            self._instead.pop(item.stage, item.stage) for item in inputs if item.stage is not None
        )
        into = rows_in if rows_in is not None else inputs[0].count if inputs else rows_out
        self.account.append(Stage(stage, into, rows_out, detail, places, spilled))
        return len(self.account) - 1

    def _let_go(self) -> None:
        """Let go of what is in memory and in files alike, and of freed memory, where files are
        used."""
        if self.store is not None and self.store.spilled:
            self.store.let_go()

    def _give_back(self) -> None:
        """As `_let_go`, where work is done part by part."""
        if self.store is not None:
            self.store.let_go()

    def _warn(
        self, caution: str, rows: int, detail: str, hint: str, examples: tuple[str, ...] = ()
    ) -> None:
        if (
            rows
            and not self.quiet
            and not any((item.caution, item.detail) == (caution, detail) for item in self.cautions)
        ):
            self.cautions.append(Caution(caution, rows, detail, hint, examples))

    def _warn_alike(self, caution: str, keys: Sequence[pa.Array], what: str, hint: str) -> None:
        """Distinct combinations of some keys (Arrow arrays of one length) that differ from another
        one in case and spaces only."""
        count = len(keys[0]) if keys else 0
        if self.quiet or not any(pa.types.is_string(key.type) for key in keys):
            return
        if more_than(keys, count, _FOLDED):
            return
        _, first = codes_of(list(keys), count)
        if len(first) > _FOLDED:
            return
        kept = [key.take(pa.array(first)) for key in keys]
        folded = [
            upper(tidy_spaces(item)) if pa.types.is_string(item.type) else item for item in kept
        ]
        alike = len(first) - len(codes_of(folded, len(first))[1])
        self._warn(
            caution, alike, f"as {what} they differ from another one only in case or spaces", hint
        )

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
        counted: bool = False,
    ) -> tuple[Vector, Type]:
        """An expression over a relation's rows. `stands` maps shapes of nodes to columns that hold
        them already; its cautions are told if it is `watched`, which needs all rows at once; of one
        that is `counted`, NULL is the answer no.
        """
        known = dict(stands or {})
        over = self._subqueries(node, over, withs, known)

        def stand(value: tree.Node) -> int | None:
            return known.get(id(value), known.get(self.shape(value, over))) if known else None

        failing = frozenset(index for index in range(len(over.names)) if over.vectors.fails(index))
        scope = Scope(over.names, over.types, frozenset(), self.given, stand, over.find, failing)
        self._withs = withs
        bound = bind(node, scope, self.text)
        if condition and bound.type.kind not in (Kind.BOOLEAN, Kind.NULL):
            raise self._wrong(
                f"a condition is needed here, this is {bound.type}",
                node,
                "compare it: … = …, … IS NOT NULL",
            )
        frame = over.frame().remembering()
        result = run(bound, frame).spread(over.count)
        if watched and not self.quiet:
            watch = Watch([(bound, self.text)], counted, self.list_items)
            self.remarks += [line for line in watch.days() if line not in self.remarks]
            if watch.probes:
                watch.add(watch.count(frame))
                for item in watch.cautions():
                    self._warn(item.caution, item.rows, item.detail, item.hint, item.examples)
            self._not_in(node, over)
        if condition and pa.types.is_null(result.values.type):
            result = Vector(result.values.cast(pa.bool_()), result.errors)
        return result, bound.type

    def _not_in(self, node: tree.Node, over: Relation) -> None:
        """NOT IN is never true where the query has a NULL."""
        for item in top(node, (tree.InQuery,)):
            if item.negated and id(item.query) in self._with_null:
                self._warn(
                    "NOT IN over NULL",
                    over.count,
                    f"for which {self._written(item)[:60]} cannot be true: the query has a NULL",
                    "add WHERE … IS NOT NULL to it, or write NOT EXISTS",
                )

    def shape(self, node: Any, over: Relation) -> Any:
        """What a node says, wherever it stands: names by the columns they mean."""
        if isinstance(node, tree.Name):
            # Of groups: the columns of the rows that were grouped.
            source = (
                over.ungrouped if isinstance(over, Grouped) and over.ungrouped is not None else over
            )
            try:
                match = source.search(node, self.text)
            except Diagnostic:
                match = None
            return ("column", match) if match is not None else ("name", node.text, node.table)
        if isinstance(node, tree.Node):
            fields = [
                getattr(node, dataclass.name)
                for dataclass in dataclasses.fields(node)
                if dataclass.name not in ("start", "end", "name_end", "name_start")
            ]
            name = getattr(node, "name", None)
            if isinstance(node, (tree.Call, tree.Aggregate)) and isinstance(name, str):
                fields = [name.upper() if field == name else field for field in fields]
            return (type(node).__name__, *(self.shape(field, over) for field in fields))
        if isinstance(node, tuple):
            return tuple(self.shape(item, over) for item in node)
        return node

    def _subqueries(
        self, node: tree.Node, over: Relation, withs: dict[str, Relation], known: dict[Any, int]
    ) -> Relation:
        """The relation with a column for each subquery of an expression that is a value of its
        own."""
        rows = over

        def stands(value: tree.Node) -> bool:
            return bool(known) and (id(value) in known or self.shape(value, rows) in known)

        for item in top(node, SUBQUERIES, stop=stands):
            plain = isinstance(item, tree.InQuery) and not isinstance(item.operand, tree.Row)
            if (
                plain
                and not self._outer(item.query, over, withs)
                and not self._outer_aggregates(item.query, over, withs, known)
            ):
                continue  # the binder asks for its members
            result, kind = self._decided(item, over, withs, known)
            known[id(item)] = len(over.names)
            over = over.with_columns([result], [kind])
        return over

    def scopes(self) -> Scopes:
        """What resolves names in subqueries."""

        def names_of(node: tree.TableReference) -> Sequence[str]:
            if node.is_name and node.reference.casefold() in self.relations:
                return self.relations[node.reference.casefold()].names
            return self._open(node).columns

        return Scopes(names_of)

    def _free(self, query: tree.Query, withs: dict[str, Relation]) -> list[tree.Name]:
        return self.scopes().free(
            query,
            {name: [item.casefold() for item in result.names] for name, result in withs.items()},
        )

    def _outer(
        self, query: tree.Query, over: Relation, withs: dict[str, Relation]
    ) -> list[tree.Name]:
        """The names in a subquery that mean columns of the rows around it."""
        results: dict[tuple[str, str], tree.Name] = {}
        for item in self._free(query, withs):
            if over.search(item, self.text) is not None:
                results[item.table.casefold(), item.text.casefold()] = item
                if not item.table:
                    self._warn(
                        "a name from outside",
                        over.count,
                        f"take {item.text} from the row around the subquery, in which no table"
                        " has it",
                        "if that is meant, write it with its table:"
                        f" {over.tables[over.find(item, self.text)] or 't'}.{item.text}",
                    )
        return list(results.values())

    def _outer_aggregates(
        self, node: Any, over: Relation, withs: dict[str, Relation], known: dict[Any, int]
    ) -> list[tree.Aggregate]:
        """The aggregates in a subquery that have been computed for the rows around it, since they
        read these alone."""
        return [
            item
            for item in parse.walk(node)
            if isinstance(item, tree.Aggregate) and item.over is None and id(item) in known
        ]

    def aggregates_of_outer_columns(
        self, node: tree.Node, over: Relation, withs: dict[str, Relation]
    ) -> list[tree.Aggregate]:
        """The aggregates within an expression's subqueries that belong to this block: every column
        they name is one of its own."""
        results = []
        for subquery in top(node, SUBQUERIES):
            aggregates = [
                item
                for item in parse.walk(subquery.query)
                if isinstance(item, tree.Aggregate) and item.over is None
            ]
            if not aggregates:
                continue
            free = {id(name) for name in self._free(subquery.query, withs)}
            for aggregate in aggregates:
                named = list(parse.column_names(aggregate))
                if named and all(
                    id(name) in free and over.search(name, self.text) is not None for name in named
                ):
                    results.append(aggregate)
        return results

    def _decided(
        self, value: Any, over: Relation, withs: dict[str, Relation], known: dict[Any, int]
    ) -> tuple[Vector, Type]:
        """A subquery's value for each row: once for all rows, or once for each different
        combination of what it reads of them."""
        outer = self._outer(value.query, over, withs)
        aggregates = self._outer_aggregates(value.query, over, withs, known)
        if not outer and not aggregates:
            output, kind = self._once(value, over, withs, self._around)
            return (output.spread(over.count) if output.constant else output), kind
        if not aggregates and (result := self._semi_join(value, outer, over, withs)) is not None:
            return result, BOOLEAN
        names = {
            (name.table.casefold(), name.text.casefold()): over.find(name, self.text)
            for name in outer
        }
        stand = {id(node): known[id(node)] for node in aggregates}
        codes, first = codes_of(
            [over.vectors[index].values for index in (*names.values(), *stand.values())], over.count
        )
        parts, kind, rows = [], BOOLEAN, []
        members = isinstance(value, (tree.InQuery, tree.Quantified))
        order = np.argsort(codes, kind="stable") if members else codes
        ends = np.cumsum(np.bincount(codes, minlength=len(first))) if members else codes
        for number, row in enumerate(first):
            # What is looked for may differ among rows that share what the subquery reads.
            sharing = (
                order[ends[number - 1] if number else 0 : ends[number]]
                if members
                else np.array([row])
            )
            around = Outer(names, stand, over.take(np.array([row])))
            part, kind = self._once(value, over.take(sharing), withs, around)
            parts.append(part.spread(len(sharing)))
            rows.append(sharing)
        if not parts:
            # No row asks; one of NULLs tells the type.
            single = over.take(np.array([-1]))
            _, kind = self._once(value, single, withs, Outer(names, stand, single))
            return Vector(pa.nulls(0, kind.arrow)), kind
        failed = self._read_errors(over, [*names.values(), *stand.values()])
        if not members:
            output = taken(joined(parts, kind), codes)
        else:
            place = np.empty(over.count, np.int64)
            place[np.concatenate(rows)] = np.arange(over.count)
            output = taken(joined(parts, kind), place)
        if failed is not None:
            output = vector(
                output.values,
                (
                    failed
                    if output.errors is None
                    else np.where(failed != 0, failed, output.errors).astype(np.uint8)
                ),
            )
        return output, kind

    @staticmethod
    def _read_errors(over: Relation, places: list[int]) -> np.ndarray | None:
        """The errors of what a subquery reads of each row."""
        return first_error([over.vectors[place] for place in places], over.count)

    def _once(
        self, value: Any, over: Relation, withs: dict[str, Relation], outer: Outer | None
    ) -> tuple[Vector, Type]:
        """A subquery's value for rows that share what it reads of them."""
        self.quiet += 1
        before, self._around = self._around, outer
        try:
            result = self.run_query(value.query, withs)
        except RowProblem as problem:
            # It counts where the value is read: in a branch that no row takes it does not.
            self._reasons.setdefault(problem.sqlstate, f"in the subquery {problem.message}")
            error = np.array([CODES[problem.sqlstate]], np.uint8)
            kind = BOOLEAN
            if isinstance(value, (tree.Scalar, tree.ArrayOf)):
                kind = self._type_of(value, withs, outer)
            return vector(pa.nulls(1, kind.arrow), error, True), kind
        finally:
            self._around = before
            self.quiet -= 1
        if isinstance(value, tree.Exists):
            return Vector(pa.array([result.count > 0]), None, True), BOOLEAN
        if isinstance(value, (tree.Scalar, tree.ArrayOf)):
            if len(result.names) != 1:
                raise self._wrong(
                    f"a value is needed here, this query has {len(result.names)} columns", value
                )
            kind, values = result.types[0], result.vectors[0]
            if isinstance(value, tree.ArrayOf):
                item = TEXT if kind.kind is Kind.NULL else kind
                kind = Type(Kind.ARRAY, item=item)
                if values.errors is not None:
                    return (
                        vector(
                            pa.nulls(1, kind.arrow), values.errors[values.errors != 0][:1], True
                        ),
                        kind,
                    )
                lists = pa.ListArray.from_arrays(
                    pa.array([0, result.count], pa.int32()), as_type(values, item).values
                )
                return Vector(lists, None, True), kind
            if result.count > 1:
                return (
                    vector(pa.nulls(1, kind.arrow), np.array([CODES["21000"]], np.uint8), True),
                    kind,
                )
            return (
                vector(
                    values.values if result.count else pa.nulls(1, kind.arrow),
                    values.errors if result.count else None,
                    True,
                ),
                kind,
            )
        values_of = list(zip(result.names, result.vectors, strict=True))
        sound = self._sound("subquery", result, values_of)
        result = result if sound is None else result.take(sound)
        if isinstance(value, tree.Quantified):
            return self._compared(value, over, result, withs), BOOLEAN
        return self._row_in(value, over, result, withs), BOOLEAN

    def _type_of(self, value: Any, withs: dict[str, Relation], outer: Outer | None) -> Type:
        """The type of a subquery that has no value, from running it with its errors as NULL."""
        before, self.on_error = self.on_error, "null"
        faults = list(self.faults)
        try:
            return self._once(value, Relation((), (), (), Columns(()), 1), withs, outer)[1]
        finally:
            self.on_error, self.faults = before, faults

    def _pairs_alike(
        self,
        value: Any,
        items: Sequence[tree.Node],
        over: Relation,
        relation: Relation,
        withs: dict[str, Relation],
    ) -> tuple[list[Vector], list[Vector], list[Type]]:
        """Both sides of IN or of a comparison with a query's values, in common types."""
        if len(items) != len(relation.names):
            raise self._wrong(f"{len(items)} values beside {len(relation.names)} columns", value)
        sides = [self.evaluate(item, over, withs) for item in items]
        kinds = []
        for (_, kind), other, item in zip(sides, relation.types, items, strict=True):
            both = common(kind, other)
            if both is None:
                raise self._wrong(f"IN cannot mix {kind} and {other}", item)
            kinds.append(TEXT if both.kind is Kind.NULL else both)
        left = [as_type(result, kind) for (result, _), kind in zip(sides, kinds, strict=True)]
        return (
            left,
            [as_type(vector, kind) for vector, kind in zip(relation.vectors, kinds, strict=True)],
            kinds,
        )

    def _compared(
        self,
        quantified: tree.Quantified,
        over: Relation,
        relation: Relation,
        withs: dict[str, Relation],
    ) -> Vector:
        """x < ANY (SELECT …): TRUE where it is true of the value that is farthest, unknown where a
        NULL might have been; ALL is the opposite of the opposite comparison with ANY."""
        (left,), (right,), _ = self._pairs_alike(
            quantified, [quantified.operand], over, relation, withs
        )
        opposite = {"=": "<>", "<>": "=", "<": ">=", ">=": "<", ">": "<=", "<=": ">"}
        operator = opposite[quantified.operator] if quantified.all else quantified.operator
        known = right.values.drop_null()
        true = np.zeros(over.count, bool)
        if len(known):
            order = ordered(known)
            ends: dict[str, Sequence[int]] = {
                "<": [-1],
                "<=": [-1],
                ">": [0],
                ">=": [0],
                "<>": [0, -1],
                "=": range(len(order)),
            }
            for end in ends[operator]:
                value = known[int(order[end])]
                true |= pc.fill_null(compared(operator)(left.values, value), False).to_numpy(
                    zero_copy_only=False
                )
        unknown = (
            ~true
            & (
                pc.is_null(left.values).to_numpy(zero_copy_only=False)
                | bool(right.values.null_count)
            )
            & bool(relation.count)
        )
        return vector(pa.array(true != quantified.all, mask=unknown), left.errors)

    def _row_in(
        self, in_query: tree.InQuery, over: Relation, relation: Relation, withs: dict[str, Relation]
    ) -> Vector:
        """(a, b) IN (SELECT …): TRUE where all are equal; unknown where a NULL might have been."""
        items = (
            in_query.operand.items
            if isinstance(in_query.operand, tree.Row)
            else (in_query.operand,)
        )
        left, right, kinds = self._pairs_alike(in_query, items, over, relation, withs)
        count = over.count
        true = np.zeros(count, bool)
        pairs, _ = (
            joins.equal_pairs(left, right, kinds)
            if relation.count and count
            else (np.zeros(0, np.int64), None)
        )
        true[pairs] = True
        unknown = np.zeros(count, bool)
        left_null = np.array(
            [pc.is_null(part.values).to_numpy(zero_copy_only=False) for part in left]
        )
        right_null = np.array(
            [pc.is_null(part.values).to_numpy(zero_copy_only=False) for part in right]
        )
        equal = compared("=")
        for rows in [np.flatnonzero(right_null.any(axis=0))] if relation.count else []:
            for row in rows:
                possible = np.ones(count, bool)
                for index, (a, b) in enumerate(zip(left, right, strict=True)):
                    if right_null[index, row]:
                        continue
                    possible &= pc.fill_null(equal(a.values, b.values[int(row)]), True).to_numpy(
                        zero_copy_only=False
                    )
                unknown |= possible
        if relation.count:
            for row in np.flatnonzero(left_null.any(axis=0)):
                possible = np.ones(relation.count, bool)
                for index, (a, b) in enumerate(zip(left, right, strict=True)):
                    if not left_null[index, row]:
                        possible &= pc.fill_null(
                            equal(b.values, a.values[int(row)]), True
                        ).to_numpy(zero_copy_only=False)
                unknown[row] |= bool(possible.any())
        result = pa.array(true != in_query.negated, mask=unknown & ~true)
        return vector(result, first_error(left, count))

    def _semi_join(
        self, value: Any, outer: list[tree.Name], over: Relation, withs: dict[str, Relation]
    ) -> Vector | None:
        """EXISTS and IN of a plain correlated SELECT as pairs of rows: equalities between the two
        sides that stand first in its WHERE find the pairs, and the other conditions are decided on
        these, in their order. None where the query is of another kind.
        """
        query = value.query
        body = query.body
        if isinstance(value, tree.InQuery) and not isinstance(value.operand, tree.Row):
            operands: tuple[tree.Node, ...] = (value.operand,)
        elif isinstance(value, tree.Exists):
            operands = ()
        else:
            return None
        if (
            not isinstance(body, tree.Select)
            or query.withs
            or query.fetch is not None
            or query.offset is not None
            or body.where is None
            or body.groups is not None
            or body.having is not None
            or self._around is not None
            or len(body.items) != max(1, len(operands))
            or any(top((*body.items, body.where), (*SUBQUERIES, tree.Aggregate)))
            or not all(isinstance(item, tree.Named) for item in body.items if operands)
        ):
            return None
        if {id(name) for source in body.sources for name in self._free_in(source, withs)} & {
            id(name) for name in self._free(query, withs)
        }:
            return None
        self.quiet += 1
        try:
            inner = self._from(replace(body, where=None), withs)
        finally:
            self.quiet -= 1
        parts = (
            list(body.where.operands)
            if isinstance(body.where, tree.Logic) and body.where.operator == "AND"
            else [body.where]
        )
        free = {id(name) for name in self._free(query, withs)}
        equal: list[tuple[tree.Node, tree.Node]] = []
        while parts:
            pair = _equality(parts[0], free)
            if pair is not None:
                equal.append(pair)
            elif any(id(name) in free for name in parse.column_names(parts[0])):
                break
            else:
                result, _ = self.evaluate(parts[0], inner, withs, condition=True, watched=False)
                if result.errors is not None:
                    break
                inner = inner.take(np.flatnonzero(result.true(inner.count)))
            parts.pop(0)
        if not equal:
            return None
        keys = []
        for mine, theirs in equal:
            (x, first), (y, second) = (
                self.evaluate(theirs, over, withs, watched=False),
                self.evaluate(mine, inner, withs, watched=False),
            )
            kind = common(first, second)
            if kind is None or x.errors is not None or y.errors is not None:
                return None
            kind = TEXT if kind.kind is Kind.NULL else kind
            keys.append((as_type(x, kind), as_type(y, kind), kind))
        lefts, rights = joins.equal_pairs(
            [key[0] for key in keys], [key[1] for key in keys], [key[2] for key in keys]
        )
        true, unknown = np.zeros(over.count, bool), np.zeros(over.count, bool)
        errors = np.zeros(over.count, np.uint8)
        for begin in range(0, len(lefts), joins.CHUNK):
            ones, twos = lefts[begin : begin + joins.CHUNK], rights[begin : begin + joins.CHUNK]
            for condition in parts:
                result, _ = self._on_pairs(condition, outer, over, inner, ones, twos, withs, True)
                if result.errors is not None:
                    bad = result.errors != 0
                    errors[ones[bad]] = np.where(
                        errors[ones[bad]] != 0, errors[ones[bad]], result.errors[bad]
                    )
                keep = result.true(len(ones))
                ones, twos = ones[keep], twos[keep]
            if not operands:
                true[ones] = True
                continue
            item = body.items[0]
            assert isinstance(item, tree.Named)
            (x, first), (y, second) = (
                self._on_pairs(operands[0], None, over, inner, ones, twos, withs, False),
                self._on_pairs(item.expression, outer, over, inner, ones, twos, withs, False),
            )
            kind = common(first, second)
            if kind is None:
                raise self._wrong(f"IN cannot mix {first} and {second}", value)
            kind = TEXT if kind.kind is Kind.NULL else kind
            failed = first_error([x, y], len(ones))
            if failed is not None:
                errors[ones[failed != 0]] = failed[failed != 0]
            same = compared("=")(as_type(x, kind).values, as_type(y, kind).values)
            true[ones[pc.fill_null(same, False).to_numpy(zero_copy_only=False)]] = True
            unknown[ones[pc.is_null(same).to_numpy(zero_copy_only=False)]] = True
        return vector(
            pa.array(true != getattr(value, "negated", False), mask=unknown & ~true),
            np.where(true, 0, errors).astype(np.uint8),
        )

    def _free_in(self, source: tree.Node, withs: dict[str, Relation]) -> list[tree.Name]:
        return [name for name in parse.walk(source) if isinstance(name, tree.Name)]

    def _on_pairs(
        self,
        node: tree.Node,
        outer: list[tree.Name] | None,
        over: Relation,
        inner: Relation,
        ones: np.ndarray,
        twos: np.ndarray,
        withs: dict[str, Relation],
        condition: bool,
    ) -> tuple[Vector, Type]:
        """An expression of a subquery over pairs of a row around it and one of its own; without
        `outer` one of the row around it."""
        if outer is None:
            return self.evaluate(node, over.take(ones), withs, watched=False)
        names = {
            (name.table.casefold(), name.text.casefold()): over.find(name, self.text)
            for name in outer
        }
        rows = inner.take(twos).beside(self._outer_columns(names, over.take(ones), inner))
        return self.evaluate(node, rows, withs, condition=condition, watched=False)

    def members(self, query: tree.Query, text: str) -> tuple[Type, Any, bool]:
        """What an uncorrelated x IN (SELECT …) asks: the subquery's values."""
        self.quiet += 1
        try:
            result = self.run_query(query, self._withs)
        finally:
            self.quiet -= 1
        if len(result.names) != 1:
            raise self._wrong(f"IN needs one column, this query has {len(result.names)}", query)
        sound = self._sound("subquery", result, [(result.names[0], result.vectors[0])])
        item = result.vectors[0] if sound is None else taken(result.vectors[0], sound)
        if item.values.null_count:
            self._with_null.add(id(query))
        _, first = codes_of([item.values], len(item))
        return (
            result.types[0],
            item.values.take(pa.array(first)).drop_null(),
            bool(item.values.null_count),
        )

    def _with_outer(self, over: Relation) -> tuple[Relation, dict[Any, int]]:
        """The rows with what a correlated subquery reads of the row around it, each as a column of
        one value; and where the aggregates among them stand."""
        around = self._around
        if around is None:
            return over, {}
        once = np.zeros(over.count, np.int64)
        extra = self._outer_columns(around.names, around.row.take(once), over)
        stands = {
            node: len(over.names) + len(extra.names) + index
            for index, node in enumerate(around.aggregates)
        }
        extra = extra.with_columns(
            [
                taken(around.row.vectors[aggregate], once)
                for aggregate in around.aggregates.values()
            ],
            [around.row.types[aggregate] for aggregate in around.aggregates.values()],
        )
        return (over.beside(extra) if extra.names else over), stands

    @staticmethod
    def _outer_columns(
        names: dict[tuple[str, str], int], rows: Relation, inner: Relation
    ) -> Relation:
        """The columns of the rows around a subquery that it reads; one named with its table is
        found by that alone, so that a column of the subquery's own tables wins."""
        own = {
            name.casefold() for index, name in enumerate(inner.names) if index not in inner.hidden
        }
        kept = [
            (table, name, index)
            for (table, name), index in names.items()
            if table or name not in own
        ]
        return Relation(
            tuple(rows.names[index] for _, _, index in kept),
            tuple(table or rows.tables[index] for table, _, index in kept),
            tuple(rows.types[index] for _, _, index in kept),
            Columns([rows.vectors[index] for _, _, index in kept]),
            rows.count,
            frozenset(place for place, (table, _, _) in enumerate(kept) if table),
        )

    def number(self, node: tree.Node, what: str) -> int | None:
        """A number of rows: a constant expression's whole value, None for NULL."""
        result, kind = self.evaluate(
            node, Relation((), (), (), Columns(()), 1), self._withs, watched=False
        )
        if kind.kind not in (*NUMBERS, Kind.NULL) or result.errors is not None:
            raise self._wrong(f"{what} is a number, this is {kind}", node)
        value = result.values[0].as_py()
        if value is not None and value != int(value):
            raise self._wrong(f"{what} is a whole number", node)
        return None if value is None else int(value)

    def _open(self, node: tree.TableReference) -> Any:
        reference = node.reference
        if node.is_name and reference.casefold() in self.opened:
            return self.opened[reference.casefold()]
        if node.is_name:
            known = {name.casefold(): name for name in self.tables}
            if reference.casefold() not in known:
                near = nearest(reference, list(self.tables))
                hint = (
                    f"did you mean {near}?"
                    if near
                    else (
                        "a file stands in quotes: FROM 'boats.csv'; --table NAME=FILE gives it a"
                        " name"
                    )
                )
                raise self._wrong(f"there is no table {reference}", node, hint)
            reference = self.tables[known[reference.casefold()]]
        try:
            return open_table(reference, base=self.base)
        except CallProblem as problem:
            raise Diagnostic(
                problem.message, self.text, node.start, node.end, hint=problem.hint
            ) from None


def _equality(node: tree.Node, outer: set[int]) -> tuple[tree.Node, tree.Node] | None:
    """(the subquery's side, the side of the row around it) of an equality between the two."""
    if not isinstance(node, tree.Call) or node.name != "=" or not node.operator:
        return None
    if any(isinstance(argument, tree.Row) for argument in node.arguments):
        return None
    sides = [
        {id(name) in outer for name in parse.column_names(argument)} for argument in node.arguments
    ]
    if sides == [{False}, {True}]:
        return node.arguments[0], node.arguments[1]
    if sides == [{True}, {False}]:
        return node.arguments[1], node.arguments[0]
    return None
