"""Rows of a query on their way: named, typed columns of values and errors."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import lru_cache
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from gravel.engine.frame import Frame
from gravel.engine.mapped import Store
from gravel.engine.vector import Vector
from gravel.kernels.arrays import to_arrow
from gravel.language import tree
from gravel.language.diagnostics import Diagnostic
from gravel.language.functions.casts import widened
from gravel.language.scope import quotes_hint
from gravel.language.types import TEXT, Kind, Type
from gravel.problems import nearest


class Columns(Sequence[Vector]):
    """Columns of which each is made when it is first asked for: most of what a join or a filter
    takes is never read."""

    def __init__(self, cells: Iterable[Vector | Later], store: Store | None = None) -> None:
        self.cells, self.store = list(cells), store

    def __len__(self) -> int:
        return len(self.cells)

    def __getitem__(self, index: Any) -> Any:
        if isinstance(index, slice):
            return [self[position] for position in range(*index.indices(len(self)))]
        cell = self.cells[index]
        return cell.get() if isinstance(cell, Later) else cell

    def fails(self, index: int) -> bool:
        """Whether some row of a column has an error, as far as that is known without making it."""
        cell = self.cells[index]
        return (cell.source if isinstance(cell, Later) else cell).errors is not None

    def part(self, index: int, start: int, count: int) -> Vector:
        """Some rows of a column, one after another; a column that is yet to be made is not made for
        them."""
        cell = self.cells[index]
        if isinstance(cell, Later):
            return cell.part(start, count)
        return Vector(
            cell.values.slice(start, count),
            None if cell.errors is None else cell.errors[start : start + count],
        )

    def take(self, rows: np.ndarray) -> Columns:
        """These rows of each; an index below 0 is a row of NULLs."""
        composed: dict[int, np.ndarray] = {}
        results: list[Vector | Later] = []
        for cell in self.cells:
            if isinstance(cell, Later) and cell.made is None:
                if id(cell.rows) not in composed:
                    before = cell.rows
                    if len(rows) and int(rows.min()) >= 0:
                        composed[id(cell.rows)] = before[rows]
                    else:
                        composed[id(cell.rows)] = (
                            np.where(rows < 0, -1, before[np.maximum(rows, 0)])
                            if len(before)
                            else np.full(len(rows), -1)
                        )
                results.append(Later(cell.source, composed[id(cell.rows)], self.store))
            else:
                results.append(
                    Later(cell.get() if isinstance(cell, Later) else cell, rows, self.store)
                )
        return Columns(results, self.store)

    def beside(self, others: Iterable[Vector | Later]) -> Columns:
        """These and others."""
        more = others.cells if isinstance(others, Columns) else others
        store = self.store or (others.store if isinstance(others, Columns) else None)
        return Columns([*self.cells, *more], store)


class Later:
    """Some rows of a vector, taken when they are asked for."""

    def __init__(self, source: Vector, rows: np.ndarray, store: Store | None = None) -> None:
        self.source, self.rows, self.store = source, rows, store
        self.made: Vector | None = None

    def part(self, start: int, count: int) -> Vector:
        """Some of the rows, one after another."""
        if self.made is not None:
            return Columns([self.made]).part(0, start, count)
        return taken(self.source, self.rows[start : start + count])

    def get(self) -> Vector:
        """The rows."""
        if self.made is None:
            if self.store is not None and self.source.errors is None:
                self.made = Vector(self.store.taken(self.source.values, self.rows))
            else:
                self.made = taken(self.source, self.rows)
        return self.made


class Relation(Struct, frozen=True):
    """Columns side by side. `tables` has the name of the table each belongs to ('' for none);
    `hidden` ones are found only with their table's name (the two sides of a USING); `rows` are
    source row numbers of the first table, if they still stand.
    """

    names: tuple[str, ...]
    tables: tuple[str, ...]
    types: tuple[Type, ...]
    vectors: Columns
    count: int
    hidden: frozenset[int] = frozenset()
    rows: np.ndarray | None = None
    # columns of its tables that the query does not name, each with its table: for hints
    unread: tuple[tuple[str, str], ...] = ()
    # What outer joins have added: the columns of the side without a partner, and which rows have
    # none there.
    alone: tuple[tuple[frozenset[int], np.ndarray], ...] = ()
    origin: np.ndarray | None = (
        # for each row the row that it comes from of a plan's table, or of the one that columns are
        # kept of, -1 for none; None: no such table
        None
    )
    plain: tuple[str | None, ...] = ()  # the columns of that table that these are as they stand
    stage: int | None = None  # the operator in the account that these rows come out of

    @property
    def plains(self) -> tuple[str | None, ...]:
        """`plain` for every column."""
        return self.plain + (None,) * (len(self.names) - len(self.plain))

    def frame(self) -> Frame:
        """The rows to evaluate over."""
        return Frame.of(self.vectors, self.types, self.count)

    def take(self, rows: np.ndarray) -> Relation:
        """These rows (their indices), in this order; an index below 0 is a row of NULLs."""
        vectors = self.vectors.take(rows)
        inside = not len(rows) or int(rows.min()) >= 0
        if self.rows is None or inside:
            numbers = None if self.rows is None else self.rows[rows]
        else:
            numbers = np.where(rows < 0, 0, self.rows[np.maximum(rows, 0)] if self.count else 0)
        alone = tuple(
            (
                columns,
                (
                    mask[np.maximum(rows, 0)] & (rows >= 0)
                    if self.count
                    else np.zeros(len(rows), bool)
                ),
            )
            for columns, mask in self.alone
        )
        origin = self.origin
        if origin is not None and inside:
            origin = origin[rows]
        elif origin is not None:
            origin = (
                np.where(rows < 0, -1, origin[np.maximum(rows, 0)])
                if self.count
                else np.full(len(rows), -1)
            )
        return replace(
            self, vectors=vectors, count=len(rows), rows=numbers, alone=alone, origin=origin
        )

    def for_a_while(self) -> Relation:
        """The same, of which some rows at a time are taken and forgotten again: they are not
        counted as held."""
        return replace(self, vectors=Columns(self.vectors.cells))

    def beside(self, other: Relation) -> Relation:
        """The columns of both, row by row."""
        shifted = frozenset(index + len(self.names) for index in other.hidden)
        alone = tuple(
            (frozenset(index + len(self.names) for index in columns), mask)
            for columns, mask in other.alone
        )
        return Relation(
            self.names + other.names,
            self.tables + other.tables,
            self.types + other.types,
            self.vectors.beside(other.vectors),
            self.count,
            self.hidden | shifted,
            self.rows,
            self.unread + other.unread,
            self.alone + alone,
            other.origin if self.origin is None else self.origin,
            self.plains + (other.plains if self.origin is None else ()),
            self.stage,
        )

    def with_columns(self, vectors: Sequence[Vector], types: Sequence[Type]) -> Relation:
        """More columns, which no name finds."""
        blank = ("",) * len(vectors)
        return replace(
            self,
            names=self.names + blank,
            tables=self.tables + blank,
            types=(*self.types, *types),
            vectors=self.vectors.beside(vectors),
        )

    def from_column(self, first: int) -> Relation:
        """The columns from one on, as they stand."""
        return Relation(
            self.names[first:],
            self.tables[first:],
            self.types[first:],
            Columns(self.vectors.cells[first:], self.vectors.store),
            self.count,
        )

    def find(self, node: tree.Name, text: str) -> int:
        """The position of the column a name means. Raises Diagnostic."""
        index = self.search(node, text)
        if index is not None:
            return index
        named = [*zip(self.tables, self.names, strict=True), *self.unread]
        seen = list(dict.fromkeys(name for _, name in named if name))
        if node.table and node.table.casefold() not in {table.casefold() for table in self.tables}:
            tables = [table for table in dict.fromkeys(self.tables) if table]
            near = nearest(node.table, tables)
            if node.table in seen:
                hint = f"{node.table} is a column: JSON_VALUE({node.table}, '$.{node.text}')"
                hint += " is what its JSON text has there"
            elif near:
                hint = f"did you mean {near}?"
            elif tables:
                hint = "tables: " + ", ".join(tables)
            else:
                hint = "a file has the name that it is given: FROM 'boats.csv' AS b"
            raise Diagnostic(
                f"there is no table {node.table} here", text, node.start, node.end, hint=hint
            )
        message = f"there is no column {node.text}"
        if node.table:
            message += f" in {node.table}"
            own = node.table.casefold()
            seen = [name for table, name in named if table.casefold() == own and name]
            beside = [table for table, name in named if table and name == node.text]
            near = f"{beside[0]}.{node.text}" if beside else nearest(node.text, seen)
        else:
            near = nearest(node.text, seen)
        hint = (
            f"did you mean {near}?"
            if near
            else "columns: " + ", ".join(seen[:12]) + (" …" if len(seen) > 12 else "")
        )
        if not near:
            hint = quotes_hint(node, text) or hint
        raise Diagnostic(message, text, node.start, node.end, hint=hint)

    def search(self, node: tree.Name, text: str) -> int | None:
        """Like `find`, None where there is none. Raises Diagnostic where several could be meant."""
        places = [
            index
            for index in _places_of(self.names).get(node.text.casefold(), ())
            if (
                self.tables[index].casefold() == node.table.casefold()
                if node.table
                else index not in self.hidden
            )
        ]
        exact = [index for index in places if self.names[index] == node.text]
        result = exact or ([] if node.quoted else places)
        if len(result) > 1:
            both = " and ".join(
                (
                    f"{self.tables[index]}.{self.names[index]}"
                    if self.tables[index]
                    else f'"{self.names[index]}"'
                )
                for index in result[:2]
            )
            apart = len({self.tables[index] for index in result}) > 1
            hint = (
                "write the one you mean with its table"
                if apart
                else "give the columns names of their own: AS t (a, b, …)"
            )
            raise Diagnostic(f"{node.text} could be {both}", text, node.start, node.end, hint=hint)
        return result[0] if result else None


@lru_cache(maxsize=16)
def _places_of(names: tuple[str, ...]) -> dict[str, list[int]]:
    """Where names stand, whatever their case; some have none."""
    places: dict[str, list[int]] = {}
    for index, name in enumerate(names):
        if name:
            places.setdefault(name.casefold(), []).append(index)
    return places


def distinct_names(names: Sequence[str]) -> tuple[str, ...]:
    """Names of which none is there twice, further ones numbered: in a file columns are told apart
    by them."""
    result: list[str] = []
    for name in names:
        number, new = 1, name
        while new in result or (number > 1 and new in names):
            number += 1
            new = f"{name}_{number}"
        result.append(new)
    return tuple(result)


def taken(vector: Vector, rows: np.ndarray) -> Vector:
    """These rows of a vector; an index below 0 is NULL."""
    if len(rows) and int(rows.min()) < 0:
        missing = rows < 0
        values = (
            vector.values.take(to_arrow(np.maximum(rows, 0), mask=missing))
            if len(vector.values)
            else pa.nulls(len(rows), vector.values.type)
        )
        errors = (
            None
            if vector.errors is None
            else np.where(missing, 0, vector.errors[np.maximum(rows, 0)]).astype(np.uint8)
        )
    else:
        values = vector.values.take(to_arrow(rows))
        errors = None if vector.errors is None else vector.errors[rows]
    return Vector(values, errors if errors is not None and errors.any() else None)


def joined(parts: Sequence[Vector], kind: Type) -> Vector:
    """Vectors one after another, as one type."""
    return (
        end_to_end([as_type(part, kind) for part in parts])
        if parts
        else Vector(pa.nulls(0, kind.arrow))
    )


def end_to_end(parts: Sequence[Vector]) -> Vector:
    """Vectors of one type one after another."""
    errors = None
    if any(part.errors is not None for part in parts):
        errors = np.concatenate(
            [
                np.zeros(len(part), np.uint8) if part.errors is None else part.errors
                for part in parts
            ]
        )
    return Vector(pa.concat_arrays([part.values for part in parts]), errors)


class Grouped(Relation, frozen=True):
    """Groups: a column of the rows that is not grouped by has no value of its own here."""

    ungrouped: Relation | None = None

    def find(self, node: tree.Name, text: str) -> int:
        if (
            self.search(node, text) is None
            and self.ungrouped is not None
            and self.ungrouped.search(node, text) is not None
        ):
            raise Diagnostic(
                f"{node.text} is neither grouped by nor inside an aggregate",
                text,
                node.start,
                node.end,
                hint=f"add it to GROUP BY, or write MIN({node.text})",
            )
        return super().find(node, text)


def as_type(vector: Vector, kind: Type) -> Vector:
    """A vector widened to a type."""
    return (
        vector
        if vector.values.type == kind.arrow
        else Vector(widened(vector.values, kind.arrow), vector.errors, vector.constant)
    )


def typed(relation: Relation) -> Relation:
    """A relation in which columns that hold NULL alone are TEXT."""
    if all(kind.kind is not Kind.NULL for kind in relation.types):
        return relation
    types = tuple(TEXT if kind.kind is Kind.NULL else kind for kind in relation.types)
    return replace(
        relation,
        types=types,
        vectors=Columns(
            as_type(vector, kind) for vector, kind in zip(relation.vectors, types, strict=True)
        ),
    )


def renamed(
    relation: Relation, table: str, columns: tuple[str, ...], node: tree.Node, text: str
) -> Relation:
    """A relation under a table's name, its columns renamed from the left."""
    if len(columns) > len(relation.names):
        raise Diagnostic(
            f"{len(columns)} names for {len(relation.names)} columns", text, node.start, node.end
        )
    names = (*columns, *relation.names[len(columns) :])
    relation = typed(relation)
    return Relation(
        names,
        (table,) * len(names),
        relation.types,
        relation.vectors,
        relation.count,
        frozenset(),
        relation.rows,
        tuple((table, name) for _, name in relation.unread),
        origin=relation.origin,
        plain=relation.plain,
        stage=relation.stage,
    )
