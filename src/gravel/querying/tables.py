"""Tables that a query reads: which columns, how many rows, held or in files."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any, TypeGuard

import numpy as np
import pyarrow as pa
from msgspec import Struct, field
from msgspec.structs import replace

from gravel.engine.frame import view
from gravel.engine.memory import give_back_freed_blocks
from gravel.engine.vector import Vector
from gravel.language import parse, tree
from gravel.language.diagnostics import Diagnostic
from gravel.language.types import Type
from gravel.language.writing import text_literal
from gravel.problems import CallProblem, TableProblem, nearest
from gravel.profiling.column_kind import identifies
from gravel.querying.account import Account
from gravel.querying.context import QueryContext
from gravel.querying.evaluation import ExpressionEvaluator
from gravel.querying.relation import Columns, Relation, renamed
from gravel.sources.opening import CATALOGUE, ENDINGS
from gravel.sources.source import Batch, Malformed, Source, as_it_is, scan
from gravel.spark import open_by
from gravel.words import number_of


class Tables(Struct):
    """Reads tables."""

    account: Account
    context: QueryContext
    expressions: ExpressionEvaluator
    malformed: dict[str, tuple[Malformed, ...]] = field(default_factory=dict)
    read_as: dict[str, dict[str, Any]] = field(default_factory=dict)  # of the tables read
    paths: set[Path] = field(default_factory=set)  # the files that were read
    # of those that are read elsewhere, what came here
    came: list[tuple[str, str]] = field(default_factory=list)
    # of those that have Arrow values the first: results know its rows and columns, where asked for
    kept: Source | None = None
    # By reference, and whether that is a name: a subquery asks for its table again and again.
    _opened: dict[tuple[str, bool], Source] = field(default_factory=dict)
    _read: dict[tuple[int, frozenset[int]], Relation] = field(default_factory=dict)  # by a source
    _wanted: set[str] | None = None
    _grouped: set[str] = field(default_factory=set)  # names that a query groups by

    def open(self, node: tree.TableReference) -> Any:
        """The table that a reference means."""
        reference, reading = node.reference, None
        if node.is_name and reference.casefold() in self.context.opened:
            return self.context.opened[reference.casefold()]
        key = (reference.casefold() if node.is_name else reference, node.is_name)
        if key in self._opened:
            return self._opened[key]
        if node.is_name:
            known = {name.casefold(): name for name in self.context.references}
            if reference.casefold() not in known:
                near = nearest(reference, list(self.context.references))
                hint = f"did you mean {near}?" if near else self._files_called(reference)
                raise self.context.wrong(f"there is no table {reference}", node, hint)
            reading = self.context.readings.get(reference.casefold())
            reference = self.context.references[known[reference.casefold()]]
        try:
            table = open_by(self.context.engine, reference, reading, self.context.base)
        except TableProblem as problem:
            if problem.hint.startswith("--"):
                problem.hint += f"; in a query: --table 't={reference};OPTION=VALUE'"
            raise
        except CallProblem as problem:
            raise Diagnostic(
                problem.message, self.context.text, node.start, node.end, hint=problem.hint
            ) from None
        self._opened[key] = table
        return table

    def _files_called(self, name: str) -> str:
        """How a file is named, by one that is called so where there is one."""
        folder = self.context.base or Path()
        files = (folder / f"{name}{ending}" for ending in ("", *ENDINGS))
        file = next((path.name for path in files if path.exists()), None)
        if file is None:
            return "a file stands in quotes: FROM 'boats.csv'; --table NAME=FILE gives it a name"
        in_quotes = f"a file stands in quotes: FROM {text_literal(file)}"
        return f"{in_quotes}; gravel query --in . knows those of a folder by their names"

    def forget(self) -> None:
        """Let go of the tables and of the rows that were read."""
        self._read.clear()
        self._opened.clear()

    def table(self, node: tree.TableReference, withs: dict[str, Relation]) -> Relation:
        if node.is_name and node.reference.casefold() in withs:
            result = withs[node.reference.casefold()]
            return renamed(
                result, node.alias or node.reference, node.columns, node, self.context.text
            )
        if node.is_name and node.reference.casefold() in self.context.relations:
            result = self.context.relations[node.reference.casefold()]
            result = replace(
                result, stage=self.account.enter(f"read {node.reference}", (), result.count)
            )
            return renamed(
                result, node.alias or node.reference, node.columns, node, self.context.text
            )
        table = self.open(node)
        wanted = self._columns_wanted(table, node)
        self.paths |= table.files
        key = (id(table), frozenset(wanted))
        if key not in self._read:
            self._read[key] = self._relation(table, node, wanted, *self._loaded(table, wanted))
            self.note(table, number_of(self._read[key].count))
        return self._named(self._read[key], node)

    def _columns_wanted(self, table: Source, node: tree.TableReference) -> list[int]:
        wanted = [
            i
            for i, name in enumerate(table.columns)
            if self._wanted is None or name.casefold() in self._wanted or node.columns
        ]
        return sorted({*wanted, *self._identifying(table.columns, wanted)})

    @staticmethod
    def _called(node: tree.TableReference) -> str:
        if node.alias or node.is_name:
            return node.alias or node.reference
        if node.reference.startswith(CATALOGUE):
            return node.reference.rpartition(".")[2].removeprefix(CATALOGUE)
        return Path(node.reference).stem

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
        read: int | None = None,
    ) -> Relation:
        """What was read of a table, entered into the account; `read`: how many rows, where only
        some came along."""
        name = table.name
        if self.read_as.get(name, table.read_as) != table.read_as:
            name = f"{name} as {node.reference}"  # one file under two names
        self.malformed[name] = malformed
        self.read_as[name] = table.read_as
        names = tuple(table.columns[i] for i in wanted)
        chosen = set(wanted)
        unread = tuple(("", name) for i, name in enumerate(table.columns) if i not in chosen)
        message = [f"{len(malformed):,} malformed records are skipped"] if malformed else []
        stage = self.account.enter(
            f"read {node.reference}",
            (),
            len(rows) if read is None else read,
            "; ".join([*message, *([beside] if beside else [])]),
        )
        blank, columns = ("",) * len(names), Columns(vectors, self.account.store)
        result = Relation(
            names,
            blank,
            tuple(types[i] for i in wanted),
            columns,
            len(rows),
            rows=rows,
            unread=unread,
            stage=stage,
        )
        if self._is_kept(table):
            origin = np.arange(len(rows)) if read is None else rows - 1
            result = replace(result, origin=origin, plain=names)
        return result

    def is_read(
        self, node: tree.Node | None, withs: dict[str, Relation]
    ) -> TypeGuard[tree.TableReference]:
        """Whether a part of a FROM is a table that is read: its rows are not at hand."""
        return isinstance(node, tree.TableReference) and not (
            node.is_name and node.reference.casefold() in {*withs, *self.context.relations}
        )

    def let_come_first(self, node: tree.TableReference) -> None:
        """Let a table stand before those that are read from now on until it is itself."""
        table = self.open(node)
        self.malformed.setdefault(table.name, ())
        self.read_as.setdefault(table.name, table.read_as)
        self._is_kept(table)

    def _is_kept(self, table: Source) -> bool:
        """Whether a table is the one that results know the rows and columns of: the first that can
        be."""
        if self.context.as_stored and table.fields and self.kept is None:
            self.kept = table
        return self.kept is table

    def is_scanned(self, node: tree.TableReference) -> bool:
        """Whether what a query asks of a table alone is worked out while it is read, batch by
        batch: where it does not fit into memory, or is read elsewhere. Errors of values that are
        not of a declared type are of all rows."""
        table = self.open(node)
        wanted = self._columns_wanted(table, node)
        declared = any(table.columns[index] in table.declared for index in wanted)
        in_memory = (id(table), frozenset(wanted)) in self._read
        return self._is_large(table) and not declared and not in_memory

    def size(self, node: tree.TableReference) -> int:
        """The bytes of a table's files."""
        return _size_of(self.open(node))

    def _is_large(self, table: Source) -> bool:
        store = self.account.store
        elsewhere = table.engine.address is not None
        return store is not None and (elsewhere or not store.has_room(_size_of(table)))

    def without_rows(self, node: tree.TableReference) -> tuple[Source, list[int], Relation]:
        """A table that is scanned, the positions of the columns that a query reads, and the
        relation of these without a row."""
        table = self.open(node)
        wanted = self._columns_wanted(table, node)
        self.paths |= table.files
        known = table.types(wanted)
        types = tuple(known[index] for index in wanted)
        names = tuple(table.columns[index] for index in wanted)
        blank = Columns(Vector(pa.nulls(0, kind.arrow)) for kind in types)
        rows = np.zeros(0, np.int64)
        chosen = set(wanted)
        unread = tuple(("", name) for i, name in enumerate(table.columns) if i not in chosen)
        nothing = Relation(names, ("",) * len(names), types, blank, 0, rows=rows, unread=unread)
        return table, wanted, self._named(nothing, node)

    def note(self, table: Source, what: str) -> None:
        """Take note of what has come of a table that is read elsewhere."""
        if table.engine.address is not None:
            self.came.append((table.name, what))

    def _named(self, relation: Relation, node: tree.TableReference) -> Relation:
        """A table's rows under the name that it has in a query."""
        return renamed(relation, self._called(node), node.columns, node, self.context.text)

    def columns_of(
        self, node: tree.TableReference, batches: Iterable[Batch]
    ) -> tuple[list[Vector], np.ndarray]:
        """The columns that a query reads of a table and the row numbers, of some batches of it."""
        table = self.open(node)
        return self.written(batches, table.types(self._columns_wanted(table, node)))[:2]

    def scanned(
        self,
        node: tree.TableReference,
        vectors: list[Vector],
        rows: np.ndarray,
        malformed: tuple[Malformed, ...],
        read: int,
    ) -> Relation:
        """What came along of so many rows of a table, entered into the account."""
        table = self.open(node)
        wanted = self._columns_wanted(table, node)
        types = table.types(wanted)
        result = self._relation(table, node, wanted, vectors, types, rows, malformed, read=read)
        return self._named(result, node)

    def first_rows(
        self, node: tree.TableReference, where: tree.Node | None, need: int
    ) -> Relation | None:
        """As much of the beginning of a table as holds so many rows for which a condition is
        true; None where that is more than may be held."""
        table = self.open(node)
        wanted = self._columns_wanted(table, node)
        self.paths |= table.files
        counts: list[int] = []
        typed_as: dict[int, Type] = {}
        store, held = self.account.store, 0

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
            nonlocal held
            held += sum(column.nbytes for column in batches[-1].columns if column is not None)
            return sum(counts) >= need or (store is not None and not store.has_room(held))

        batches, types, whole = table.load(wanted, enough)
        if not whole and sum(counts) < need:
            return None
        if not whole:
            rows = sum(batch.count for batch in batches)
            self.remark_first(node, rows, "counts, cautions and types")
        self.note(table, number_of(sum(batch.count for batch in batches)))
        beside = "" if whole else "the rest is not needed"
        result = self._relation(
            table, node, wanted, *_put_together(batches, types, wanted), beside=beside
        )
        return self._named(result, node)

    def remark_first(self, node: tree.TableReference, rows: int, what: str) -> None:
        """Remark that only the first rows of a table were read, and what is said of those."""
        read = "the first row was" if rows == 1 else f"the first {rows:,} rows were"
        self.account.remarks.append(
            f"{node.reference}: {read} read, as many as the result needs; {what} are of those"
        )

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
        self.account.quiet += 1
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
            result, _ = self.expressions.evaluate(
                where,
                renamed(subset, self._called(node), node.columns, node, self.context.text),
                {},
                condition=True,
                watched=False,
            )
            return int(result.true(batch.count).sum())
        finally:
            self.account.quiet -= 1

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
        if self._is_large(table):
            types = table.types(wanted)
            vectors, rows, malformed = self.written(scan(table, as_it_is, wanted), types)
            return vectors, types, rows, malformed
        if self.account.store is not None:
            self.account.store.fits(_size_of(table))
        batches, types, _ = table.load(wanted)
        return _put_together(batches, types, wanted)

    def written(
        self, batches: Iterable[Batch], types: dict[int, Type]
    ) -> tuple[list[Vector], np.ndarray, tuple[Malformed, ...]]:
        """Columns in files, by their places in batches, with the row numbers and what is
        malformed."""
        assert self.account.store is not None
        rows, bad, count = [np.zeros(0, np.int64)], [], 0  # type: ignore[var-annotated]
        writers = {index: self.account.store.writer(kind.arrow) for index, kind in types.items()}
        failed: dict[int, list[tuple[int, np.ndarray]]] = {index: [] for index in types}
        for batch in batches:
            rows.append(batch.rows)
            bad.extend(batch.malformed)
            for index, writer in writers.items():
                part = view(batch.columns[index], types[index])
                writer.write(part.values)
                if part.errors is not None:
                    failed[index].append((count, part.errors))
            count += batch.count
        vectors = [
            Vector(writer.close(), _errors_of(failed[index], count))
            for index, writer in writers.items()
        ]
        give_back_freed_blocks()
        return vectors, _end_to_end(rows), tuple(bad)

    def read_only_named(self, query: tree.Query) -> None:
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


def _size_of(table: Source) -> int:
    """The bytes of a table's files."""
    return sum(source.state[1] for source in table.sources if source.state)


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


def _errors_of(parts: list[tuple[int, np.ndarray]], count: int) -> np.ndarray | None:
    """The errors of so many rows from those of some, each with its first row."""
    if not parts:
        return None
    errors = np.zeros(count, np.uint8)
    for first, part in parts:
        errors[first : first + len(part)] = part
    return errors


def _end_to_end(parts: list[np.ndarray]) -> np.ndarray:
    """Row numbers one after another, in 32 bits where they fit."""
    rows = sum(map(len, parts))
    last = max((int(part.max()) for part in parts if len(part)), default=0)
    numbers = np.empty(rows, np.int32 if last < 2**31 else np.int64)
    index = 0
    for part in parts:
        numbers[index : index + len(part)] = part
        index += len(part)
    return numbers
