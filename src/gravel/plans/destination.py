"""Where a plan's rows go: a text file, a file that keeps types, a table of a database, or the table
that they came from."""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from gravel.problems import CallProblem
from gravel.sinks import files
from gravel.sinks.atomic_file import STANDARD_OUTPUT, is_stream
from gravel.sources.opening import CATALOGUE
from gravel.sources.source import Source
from gravel.stores.sql import is_database, is_server, parted, same_server
from gravel.stores.sql.transaction import masked

if TYPE_CHECKING:
    from gravel.plans.model import PlanFile

IN_PLACE = "in place"


class Destination(Struct, frozen=True):
    """`kind`: text, file, table or in place. `shown`: as it may be printed. `home`: the file
    itself, or for a database a path beside the plan after which the record and the file of rows
    rejected are named. `reference`: the database's address; `table`: the table in it; `file`: a
    SQLite file. `left_table`: the table for rejected rows, '' for a file.
    """

    kind: str
    shown: str
    home: Path
    reference: str = ""
    table: str = ""
    file: Path | None = None
    left_table: str = ""

    @property
    def typed(self) -> bool:
        """Whether it has types, so that those of all columns matter."""
        return self.kind in ("table", IN_PLACE) or (
            self.kind == "file" and files.keeps_types(self.home)
        )

    def is_base(self, address: str, folder: Path) -> bool:
        """Whether another reference's database is this one, whoever asks for it."""
        if self.file is not None:
            return not is_server(address) and (folder / address).resolve() == self.file.resolve()
        return is_server(address) and same_server(address, self.reference)

    @property
    def database(self) -> bool:
        """Whether rows go into a database."""
        return self.kind in ("table", IN_PLACE)


def destination_of(plan: PlanFile, table: Source) -> Destination:
    """What a plan's `write` and `rejects` name. Raises CallProblem."""
    model, folder = plan.model, plan.path.parent
    beside = plan.path.resolve().with_suffix(".csv")
    for reference in (model.write, model.rejects or ""):
        if reference.startswith(CATALOGUE):
            raise CallProblem(
                f"{reference} cannot be written: Spark's catalogue does not say whether a table"
                " changes in one commit",
                hint="write a .parquet file, which Spark's own SQL takes from there",
            )
    if model.write == IN_PLACE:
        if model.table.startswith(CATALOGUE) or not is_database(model.table):
            raise CallProblem(
                f"{table.name} is not a table of a database, and only such a one is changed in"
                " place",
                hint='name another file in write = "…"',
            )
        address, _ = parted(model.table)
        result = Destination(
            IN_PLACE,
            table.name,
            beside,
            address,
            table.part,
            None if table.server else table.origin,
        )
    elif is_database(model.write):
        address, name = parted(model.write)
        if not name:
            raise CallProblem(
                f"{_shown(address)} is a database, and write does not say which table",
                hint=f"{_shown(address)}#stays_clean",
            )
        result = Destination(
            "table",
            _shown(model.write),
            beside,
            address,
            name,
            None if is_server(address) else folder / address,
        )
    else:
        if re.fullmatch(r"in[ _-]?place", model.write.strip(), re.IGNORECASE):
            raise CallProblem(
                f"{model.write!r} would be a file of that name",
                hint=f'write = "{IN_PLACE}" changes the table where it is',
            )
        target = STANDARD_OUTPUT if model.write == "-" else (folder / model.write).resolve()
        special = is_stream(target)
        if target == plan.path.resolve():
            raise CallProblem(
                "the plan would write over itself", hint='name another file in write = "…"'
            )
        if not files.known(target) and not special:
            raise CallProblem(
                f"{model.write} cannot be written: its ending is not known",
                hint="write to a .csv file; known are "
                + " ".join((*files.ENDINGS, *files.PACKED))
                + ", and FILE.db#table",
            )
        plain = special or files.ending(target) in files.TEXT_ENDINGS or not files.known(target)
        result = Destination(
            "text" if plain else "file",
            "standard output" if target == STANDARD_OUTPUT else model.write,
            target,
        )
    if model.replace and result.kind == IN_PLACE:
        raise CallProblem(
            "a table that is changed in place is not replaced", hint="leave replace out"
        )
    if model.store_sets and result.kind != IN_PLACE:
        raise CallProblem('store_sets is for write = "in place"')
    if model.metadata and (result.kind != "text" or is_stream(result.home)):
        raise CallProblem(
            f"metadata describes a text file, and {result.shown} is none",
            hint="write to a .csv file, or leave metadata out",
        )
    return _with_left(plan, result)


def _with_left(plan: PlanFile, destination: Destination) -> Destination:
    supplied = plan.model.rejects
    if supplied is None or not is_database(supplied):
        return destination
    address, name = parted(supplied)
    same = destination.database and destination.is_base(address, plan.path.parent)
    if not same or not name:
        raise CallProblem(
            (
                "the rejected rows can go to a table only where the others go to the same database"
                if not same
                else f"{_shown(supplied)} is a database, and rejects does not say which table"
            ),
            hint='or name a file: rejects = "stays-left.csv"',
        )
    if name in (destination.table, destination.table.rpartition(".")[2]):
        raise CallProblem("the rejected rows would go to the table of the others")
    return replace(destination, left_table=name)


def _shown(reference: str) -> str:
    if not is_server(reference):
        return reference
    address, hash_sign, table = reference.partition("#")
    return masked(address) + hash_sign + table


def targets_outside(plan: PlanFile) -> list[Path]:
    """The files that a plan writes outside its own folder."""
    folder = plan.path.resolve().parent
    named = [
        item
        for item in (plan.model.write, plan.model.rejects)
        if item is not None and item not in (IN_PLACE, "-")
    ]
    paths = [
        (folder / (parted(item)[0] if is_database(item) else item)).resolve()
        for item in named
        if not is_server(item)
    ]
    return [
        path
        for path in paths
        if not path.is_relative_to(folder) and (path.is_file() or not path.exists())
    ]
