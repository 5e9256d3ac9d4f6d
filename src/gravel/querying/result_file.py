"""A query's result as texts, and written to a file or a new table, which is read back and compared
before it stands."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct

from gravel.engine.arrow_values import has_type, is_finest, of_type, plain_type, text_of, type_of
from gravel.engine.memory import give_back_freed_blocks
from gravel.kernels.arrays import to_arrow
from gravel.language.functions.casts import to_text
from gravel.language.types import Kind, Type
from gravel.ledger import fingerprint
from gravel.problems import CallProblem, TableProblem
from gravel.querying.relation import Relation
from gravel.sinks import arrow, csv, files
from gravel.sinks.atomic_file import Output, is_stream, private_folder
from gravel.sources.csv.reader import CsvSource
from gravel.sources.read_options import ReadOptions
from gravel.sources.source import Batch, Source, scan
from gravel.stores.sql import open_database, parted
from gravel.stores.sql.new_table import fill
from gravel.stores.sql.transaction import masked
from gravel.words import number_of

_ROWS = 1 << 16  # of a part that is written at a time


def text_parts(relation: Relation, most: int | None = None) -> Iterator[list[Any]]:
    """The result as texts, some rows at a time, an Arrow array a column."""
    count = relation.count if most is None else min(most, relation.count)
    for number, start in enumerate(range(0, count, _ROWS) or (0,)):
        if number % 16 == 0:
            _let_go(relation)
        rows = min(_ROWS, count - start)
        yield [
            to_text(relation.vectors.part(index, start, rows).values, kind)
            for index, kind in enumerate(relation.types)
        ]


def texts(relation: Relation, most: int | None = None) -> list[list[str | None]]:
    parts = [[column.to_pylist() for column in part] for part in text_parts(relation, most)]
    return [
        [cell for part in parts for cell in part[index]] for index in range(len(relation.names))
    ]


def write(target: Path, relation: Relation, replace: bool, kept: Source | None = None) -> list[str]:
    """Write a result to a file whose kind its ending tells; it is read back and counted before it
    stands there. What is to be known of it. `kept`: the table that the result's columns may stay as
    they are kept in. Raises CallProblem, TableProblem."""
    if not files.known(target) and not is_stream(target):
        raise CallProblem(
            f"{target} cannot be written: its ending is not known",
            hint="known are " + " ".join((*files.ENDINGS, *files.PACKED)),
        )
    files.may_write(target, replace)
    if arrow.keeps_arrow(target):
        return _write_typed(target, relation, stored_columns(relation, kept))
    notes: list[str] = []
    plain = files.ending(target) in files.TEXT_ENDINGS or not files.known(target)
    sign = "\t" if files.ending(target).startswith(".tsv") else ","
    with private_folder() as folder:
        output = Output(target, str(target))
        rows = output if plain else Output(Path(folder, "rows.csv"), str(target))
        try:
            result = _spooled(relation, rows, sign)
            counted = sum(scan(result, lambda batch: batch.count, []))
            if not plain:
                columns = _columns(relation)
                named = zip(relation.names, relation.types, strict=True)
                arrays = {name for name, kind in named if kind.kind is Kind.ARRAY}
                notes = files.write(output.path, result, columns, output.write, arrays)
                output.close()
                same, message, _ = fingerprint.compared(
                    result, files.opened_again(output.path, result), columns
                )
                if not same:
                    raise TableProblem(
                        f"{target} does not hold the result: {message}; nothing was written"
                    )
            if counted != relation.count:
                raise TableProblem(
                    f"{target} would have {number_of(counted)} instead of"
                    f" {relation.count:,}: nothing"
                    " was written"
                )
            output.commit()
            return notes
        finally:
            output.discard()
            rows.discard()


def write_table(reference: str, relation: Relation, replace: bool) -> str:
    """Write a result to a new table of a database in one transaction; it is counted by the database
    and read back before it is committed; the table's name as it may be shown. Raises CallProblem,
    TableProblem."""
    _, table = parted(reference)
    if not table:
        raise CallProblem(
            f"{masked(reference)} names no table to be made", hint=f"{masked(reference)}#NAME"
        )
    columns = _columns(relation)
    base = open_database(reference, Path())
    shown = f"{base.shown}#{table}"
    try:
        if not base.whole_ddl:
            raise CallProblem(
                f"{base.shown} ends a transaction where a table is made, so a query makes none",
                hint='a plan with a step query = "…" does',
            )
        if base.has(table):
            by_plan = 'a plan with a step query = "…" and replace = true replaces it'
            raise CallProblem(
                f"{shown} is there already, and a query replaces no table of a database"
                if replace
                else f"{shown} is there already",
                hint=by_plan if replace else f"another name, or {by_plan}",
            )
        with private_folder() as folder:
            output = Output(Path(folder, "rows.csv"), shown)
            try:
                rows = _spooled(relation, output, ",")
                base.create(table, columns, [])
                counts = fill(base, table, columns, rows)
                same, message, _ = fingerprint.compared(rows, base.read(table), columns)
            finally:
                output.discard()
        if {*counts} != {relation.count}:
            same, message = False, f"{number_of(counts[0])} instead of {relation.count:,}"
        if not same:
            raise TableProblem(f"{shown} does not hold the result: {message}; nothing was written")
        base.commit()
        return shown
    finally:
        base.close()


def _columns(relation: Relation) -> list[tuple[str, Type]]:
    return [
        (name, fingerprint.kept_type(kind))
        for name, kind in zip(relation.names, relation.types, strict=True)
    ]


def _spooled(relation: Relation, output: Output, delimiter: str) -> CsvSource:
    """The result in a text file, to be read again."""
    output.write(csv.header(relation.names, delimiter))
    for part in text_parts(relation):
        output.write(csv.encode(part, delimiter))
    output.close()
    _let_go(relation)
    return CsvSource(output.path, output.name, ReadOptions(delimiter, own=True))


class StoredColumn(Struct, frozen=True):
    """A column as its store keeps it: its type, and its values where the language has no type for
    them."""

    type: pa.DataType
    values: pa.Array | None

    def part(self, values: pa.Array, rows: np.ndarray) -> pa.Array:
        """Some rows (below 0: NULL), of which the language has these values."""
        if self.values is None:
            return values.cast(plain_type(self.type))
        return self.values.take(to_arrow(np.maximum(rows, 0), mask=rows < 0))


def stored_columns(relation: Relation, kept: Source | None) -> dict[int, StoredColumn]:
    """By place the columns of a result that stand as they are in a table."""
    if kept is None or relation.origin is None or not relation.count:
        return {}
    results = {}
    for place, name in enumerate(relation.plains):
        if name is None or name in kept.texts:
            continue
        index, kind = kept.columns.index(name), relation.types[place]
        arrow = kept.fields[index].type
        if kind != type_of(arrow) and not is_finest(arrow):
            continue
        if has_type(arrow) and _casts(kind.arrow, plain_type(arrow)):
            results[place] = StoredColumn(arrow, None)
        else:
            parts = list(scan(kept, partial(_column, index), [index]))
            results[place] = StoredColumn(arrow, pa.concat_arrays(parts))
    return results


def _casts(of: pa.DataType, to: pa.DataType) -> bool:
    """Whether Arrow has a cast."""
    try:
        pa.array([], of).cast(to)
    except pa.ArrowNotImplementedError:
        return False
    return True


def _column(index: int, batch: Batch) -> pa.Array:
    return batch.columns[index]


def _write_typed(target: Path, relation: Relation, stored: Mapping[int, StoredColumn]) -> list[str]:
    """The result as Arrow values in a file that keeps them, read back and compared; what is to be
    known of it. Raises TableProblem."""
    kinds = [
        kind if kind.kind is Kind.ARRAY else fingerprint.kept_type(kind) for kind in relation.types
    ]
    fields = [
        pa.field(name, stored[index].type if index in stored else files.arrow_type(kinds[index]))
        for index, name in enumerate(relation.names)
    ]
    arrow.refuse_types(target, fields)
    with private_folder() as folder:
        rows = Output(Path(folder, "rows.arrow"), str(target))
        output = Output(target, str(target))
        try:
            laid = arrow.ArrowRows(fields, rows.write)
            wide = {i for i, field in enumerate(fields) if pa.types.is_decimal256(field.type)}
            wide -= stored.keys()
            for start in range(0, relation.count, _ROWS):
                columns = []
                for index, (kind, own) in enumerate(zip(kinds, relation.types, strict=True)):
                    values = relation.vectors.part(index, start, _ROWS).values
                    if index in stored and relation.origin is not None:
                        rows_of = relation.origin[start : start + _ROWS]
                        columns.append(stored[index].part(values, rows_of))
                        continue
                    columns.append(
                        text_of(values, own)
                        if pa.types.is_string(files.arrow_type(kind))
                        else of_type(values, kind)
                    )
                laid.write(pa.record_batch(columns, schema=laid.schema))
                wide -= {
                    index
                    for index in wide
                    if not arrow.fits(columns[index], arrow.common_decimal(fields[index].type))
                }
            for index in wide:
                fields[index] = fields[index].with_type(arrow.common_decimal(fields[index].type))
            laid.close()
            rows.close()
            _let_go(relation)
            result = arrow.opened(rows.path, str(target))
            _, notes = arrow.write(output.path, result, fields, output.write)
            output.close()
            same, message = arrow.same_values(result, arrow.opened(output.path, str(target)))
            if not same or result.counted != relation.count:
                raise TableProblem(
                    f"{target} does not hold the result: {message}; nothing was written"
                )
            output.commit()
            return notes
        finally:
            output.discard()
            rows.discard()


def _let_go(relation: Relation) -> None:
    """Let go of what is in memory and can be read again, and of freed memory."""
    if relation.vectors.store is None:
        give_back_freed_blocks()
    else:
        relation.vectors.store.let_go()
