"""Putting a proved result where it belongs: into a file, into one that keeps types, or into a new
table of a database. All of it is read back and compared before anything of it stands.
"""

from __future__ import annotations

import secrets
from collections.abc import Callable, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any

from msgspec import Struct, field

from gravel.language.types import BINARY, TEXT, Kind, Type
from gravel.ledger.fingerprint import Content, compared, content_of, kept_type
from gravel.plans.changes import TableDiff
from gravel.plans.destination import IN_PLACE
from gravel.plans.ledger import Proof
from gravel.plans.left import LEFT_COLUMNS
from gravel.plans.result_rows import TypedRows
from gravel.plans.steps import BoundPlan
from gravel.problems import CallProblem, DataProblem, Problem, TableProblem
from gravel.sinks import arrow as arrow_file
from gravel.sinks import files
from gravel.sinks.atomic_file import Output
from gravel.sources.source import Source, scan
from gravel.stores.sql import open_database
from gravel.stores.sql.new_table import fill
from gravel.words import number_of

Columns = list[tuple[str, Type]]


class Placed(Struct):
    """What was put into a place, until `commit` or `discard`. `content`: of a table of a database;
    `output`: the file; `notes`: what the person should know."""

    proofs: list[Proof] = field(default_factory=list)
    content: str = ""
    output: Output | None = None
    changes: TableDiff | None = None
    conflict: str = ""
    notes: list[str] = field(default_factory=list)
    _commit: Callable[[], None] = lambda: None
    _undo: Callable[[], None] = lambda: None
    _close: Callable[[], None] = lambda: None
    _stands: bool = False

    def commit(self) -> None:
        """Let it stand. Raises TableProblem."""
        self._commit()
        self._stands = True

    def stands(self) -> None:
        """It was put in its place by others."""
        self._stands = True

    def discard(self) -> None:
        """Leave no trace, unless it was committed; let go."""
        if not self._stands:
            self._undo()
        self._close()


def store_columns(plan: BoundPlan) -> Columns:
    """The output's columns with the types that a store is given for them."""
    binary = plan.table.binary
    return [
        (
            column.name,
            (
                BINARY
                if column.source is not None
                and not column.touched
                and plan.table.columns[column.source] in binary
                else kept_type(column.type)
            ),
        )
        for column in plan.columns
    ]


def _nested(plan: BoundPlan) -> set[str]:
    """The output's columns of arrays and objects: those that no step touched, and ARRAYs."""
    return {
        column.name
        for column in plan.columns
        if column.type.kind is Kind.ARRAY
        or (
            column.source is not None
            and not column.touched
            and plan.table.columns[column.source] in plan.table.nested
        )
    }


def may_be_placed(plan: BoundPlan, backup: str | None) -> None:
    """Whether a store can take it, looked at before the first row is read. Raises CallProblem,
    TableProblem, DataProblem."""
    to = plan.destination
    if to.typed and to.kind != IN_PLACE:
        for column in plan.columns:
            name = (
                "" if column.source is None or column.touched else plan.table.columns[column.source]
            )
            if name in plan.table.mixed and name not in plan.file.model.types:
                raise DataProblem(
                    f"{plan.table.name}: {name} holds values of several types"
                    f" ({plan.table.mixed[name]}), and {to.shown} keeps one a column",
                    hint=f'a step that settles it, or declare {name} = "TEXT" in [types]',
                )
    if backup is not None and not (to.kind == IN_PLACE or plan.file.model.replace):
        raise CallProblem("--backup is for a table that is changed in place or replaced")
    if not to.database:
        return
    if to.file is not None and to.kind == "table" and not to.file.exists():
        if not to.file.parent.is_dir():
            raise TableProblem(
                f"{to.shown} cannot be written: there is no folder {to.file.parent.name}"
            )
        return
    base = open_database(to.reference, plan.file.path.parent)
    try:
        refuse_unfit_table(plan, base, backup)
    finally:
        base.close()


def refuse_unfit_table(plan: BoundPlan, base: Any, backup: str | None) -> None:
    """Raises CallProblem for a table, a backup or a table of rejects that may not be written."""
    to, model = plan.destination, plan.file.model
    if to.kind == "table" and base.has(to.table):
        if not model.replace:
            raise CallProblem(f"{to.shown} is there already", hint="replace = true replaces it")
        if base.shape(to.table).view:
            raise CallProblem(f"{to.shown} is a view, which is not replaced")
        _alone(base, to.table)
    if to.kind == IN_PLACE:
        if to.left_table and not base.whole_ddl:
            message = (
                f"{base.shown} ends a transaction where a table is made, so rejected rows cannot"
                " go to one with a change in place"
            )
            raise CallProblem(message, hint="rejects names a file")
        shape = base.shape(to.table)
        if shape.view:
            raise CallProblem(
                f"{to.shown} is a view, which cannot be changed in place", hint="write a new table"
            )
        touched = [column.name for column in plan.columns if column.touched]
        computed = [name for name in touched if name in shape.computed]
        if computed:
            raise CallProblem(f"a step changes {computed[0]}, which the database computes")
    if backup is not None and base.has(backup):
        raise CallProblem(
            f"{base.shown}#{backup} is there already: a backup replaces nothing",
            hint="another name",
        )
    if (
        to.left_table
        and base.has(to.left_table)
        and base.shape(to.left_table).columns[: len(LEFT_COLUMNS)] != LEFT_COLUMNS
    ):
        raise CallProblem(
            f"{base.shown}#{to.left_table} holds no rejected rows: it is not replaced",
            hint="another name in rejects",
        )


def _alone(base: Any, table: str) -> None:
    """A table that others refer to is not dropped: their rows could go with it. Raises
    CallProblem."""
    others = ", ".join(dependent.table for dependent in base.dependents(table))
    if others:
        message = (
            f"{base.shown}#{table} is not replaced: {others} refers to it by a foreign key, and"
            " could lose rows with it"
        )
        raise CallProblem(
            message, hint="write a table of another name, or change this one in place"
        )


def into_file(plan: BoundPlan, rows: Source, scratch: Path | None) -> Placed:
    """The rows in a file that keeps types, beside its target. Raises TableProblem, DataProblem."""
    to, columns = plan.destination, store_columns(plan)
    output = Output(to.home, to.shown, scratch)
    placed = Placed(output=output, _commit=output.commit, _close=output.discard)
    try:
        placed.notes += files.write(output.path, rows, columns, output.write, _nested(plan))
        output.close()
        placed.proofs.append(
            _same(rows, files.opened_again(output.path, rows), columns, to.shown)[0]
        )
    except BaseException:
        output.discard()
        raise
    return placed


def into_typed_file(plan: BoundPlan, result: TypedRows, scratch: Path | None) -> Placed:
    """The rows in a file that keeps Arrow's types, beside its target. Raises TableProblem."""
    to, rows = plan.destination, result.opened()
    output = Output(to.home, to.shown, scratch)
    placed = Placed(
        output=output, _commit=output.commit, _close=output.discard, notes=result.notes()
    )
    try:
        fields, notes = arrow_file.write(
            output.path, rows, result.fields(), output.write, result.forms
        )
        placed.notes += notes
        output.close()
        again = arrow_file.opened(output.path, to.shown)
        placed.proofs.append(
            Proof(
                f"{to.shown} holds what was proved",
                *arrow_file.same_values(rows, again, result.forms),
            )
        )
        placed.proofs += _same_types(plan, fields, again, result.untouched())
    except BaseException:
        output.discard()
        raise
    return placed


def _same_types(
    plan: BoundPlan, fields: Sequence[Any], again: Source, untouched: dict[str, Any]
) -> list[Proof]:
    """The types of the columns that no step touched, as the file that was written has them."""
    if not untouched:
        return []
    kept = {again.columns[index]: field.type for index, field in again.fields.items()}
    other = [name for name, arrow in untouched.items() if kept.get(name) != arrow]
    # What a format has no unit for it keeps in the next finer one.
    finer = [name for name in other if arrow_file.in_finer_unit(untouched[name], kept.get(name))]
    wrong = [name for name in other if name not in finer]
    detail = f"{number_of(len(untouched), 'column')}, as {plan.table_name} has them"
    if finer:
        detail += "; " + ", ".join(
            f"{name} is {kept[name]} for {untouched[name]}, which Parquet has not" for name in finer
        )
    if wrong:
        detail = f"{wrong[0]} was {untouched[wrong[0]]} and is {kept.get(wrong[0])}"
    return [Proof("columns that no step touched have the same types", not wrong, detail)]


def _same(rows: Source, again: Source, columns: Columns, shown: str) -> tuple[Proof, Content]:
    same, detail, stored = compared(rows, again, columns)
    return Proof(f"{shown} holds what was proved", same, detail), stored


def into_table(plan: BoundPlan, rows: Source, left: Source | None, backup: str | None) -> Placed:
    """The rows in a new table of a database. Raises TableProblem, DataProblem."""
    to, columns = plan.destination, store_columns(plan)
    base = open_database(to.reference, plan.file.path.parent)
    placed = Placed(_close=base.close)
    try:
        refuse_unfit_table(plan, base, backup)
        there = base.has(to.table)
        result = to.table if base.whole_ddl else _hidden(to.table)
        pairs = [(result, to.table)]
        if there and (lost := base.goes_with(to.table)):
            placed.notes.append(
                f"the table that is replaced had {', '.join(lost)}; the new one has not"
            )
        if backup is not None and there and base.whole_ddl:
            placed.proofs.append(backed_up(base, to.table, backup))
        if there and base.whole_ddl:
            base.drop(to.table)
        key = [plan.names[index] for index in plan.key_after or ()]
        untouched = {
            column.name: column.source
            for column in plan.columns
            if column.source is not None and not column.touched
        }
        base.create(result, columns, key, base.declared_as(plan.table, untouched))
        placed._undo = lambda: drop_made(base, [result])
        counted, inserted, expected = fill(base, result, columns, rows)
        message = (
            f"{number_of(counted)} by the database's own count, {inserted:,} inserted,"
            f" {expected:,} in the ledger"
        )
        placed.proofs.append(
            Proof(
                "the table has the rows the ledger says", counted == inserted == expected, message
            )
        )
        proof, content = _same(rows, base.read(result), columns, to.shown)
        placed.proofs.append(proof)
        placed.content = content.value
        if left is not None:
            hidden = to.left_table if base.whole_ddl else _hidden(to.left_table)
            pairs.append((hidden, to.left_table))
            placed.proofs.append(rejects_placed(base, hidden, left, drop=base.whole_ddl))
            placed._undo = lambda: drop_made(base, [result, hidden])
    except BaseException:
        placed.discard()
        raise
    placed._commit = (
        base.commit if base.whole_ddl else lambda: _renamed(base, pairs, to.table, backup)
    )
    return placed


def _hidden(table: str) -> str:
    schema, dot, name = table.rpartition(".")
    return f"{schema}{dot}{name[:40]}_gravel_{secrets.token_hex(4)}"


def drop_made(base: Any, names: Sequence[str]) -> None:
    """Take away what was made where a database makes tables for good at once."""
    from sqlalchemy.exc import SQLAlchemyError

    if not base.whole_ddl:
        for name in names:
            with suppress(Problem, SQLAlchemyError):
                base.connection.rollback()
                if base.has(name):
                    base.drop(name)


def _renamed(base: Any, pairs: Sequence[tuple[str, str]], table: str, backup: str | None) -> None:
    base.commit()
    moves: list[tuple[str, str]] = []
    old: list[str] = []
    for result, name in pairs:
        if base.has(name):
            away = backup if name == table and backup is not None else _hidden(name)
            moves.append((name, away))
            old += [] if away == backup else [away]
        moves.append((result, name))
    base.rename(moves)
    for name in old:
        base.drop(name)
    base.commit()


def backed_up(base: Any, table: str, backup: str) -> Proof:
    """Copy a table, and whether the copy holds what it holds. Raises TableProblem."""
    base.copy(table, backup)
    return kept_copy(base, table, backup)


def kept_copy(base: Any, table: str, backup: str) -> Proof:
    """Whether a copy of a table holds what it holds."""
    then, copied = (base.read(name) for name in (table, backup))
    rows, kept = (content_of(item, [TEXT] * len(item.columns)) for item in (then, copied))
    same = (rows.rows, rows.value) == (kept.rows, kept.value) and then.columns == copied.columns
    return Proof(
        f"{backup} holds the rows as they were",
        same,
        f"{number_of(kept.rows)} copied of {rows.rows:,}, compared by value",
    )


def rejects_placed(base: Any, name: str, left: Source, drop: bool) -> Proof:
    """Put the rejects into a table, and whether it has them all; `drop`: an older one goes first.
    Raises TableProblem."""
    columns: Columns = [(column, TEXT) for column in left.columns]
    if drop and base.has(name):
        base.drop(name)
    base.create(name, columns, ())
    supplied = 0
    for batch in scan(left, lambda batch: batch.columns):
        if len(batch[0]):
            supplied += base.insert(name, columns, batch)
    counted = base.count(name)
    proof, _ = _same(left, base.read(name), columns, name)
    return Proof(
        "the table of rejects has them all",
        counted == supplied and proof.holds,
        f"{number_of(counted)}; {proof.detail}",
    )
