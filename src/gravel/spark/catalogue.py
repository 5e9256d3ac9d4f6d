"""Tables of Spark's catalogue. Their rows have no place of their own, so that they are written to
Parquet files first: a snapshot, whose row numbers stand for this run."""

from __future__ import annotations

import atexit
import re
import shutil
import tempfile
from pathlib import Path

import pyarrow.parquet as pq
from py4j.protocol import Py4JError
from pyspark.errors import AnalysisException, PySparkException
from pyspark.sql import DataFrame, SparkSession

from gravel.problems import TableProblem, nearest
from gravel.sources.opening import CATALOGUE
from gravel.spark.session import reason

_AS_TEXT = re.compile(r"\b(interval|variant|geometry|geography)\b")  # Parquet has not, or not alike
_OPTIONS = {"parquet.block.size": 16 << 20}  # row groups that several tasks share
_SETTINGS = {
    "spark.sql.parquet.outputTimestampType": "TIMESTAMP_MICROS",
    "spark.sql.parquet.datetimeRebaseModeInWrite": "CORRECTED",
}


def write_snapshot(
    session: SparkSession, reference: str, folder: Path, local: bool
) -> tuple[Path, list[str]]:
    """The folder of Parquet files with the rows of a table, gone when the program ends, and notes
    on its columns. `folder`: one that the executors see too; where they are on this machine
    (`local`) it is the one for temporary files. Raises TableProblem."""
    frame = _table(session, reference)
    wanted, notes = [], []
    for field in frame.schema.fields:
        column = frame[f"`{field.name.replace('`', '``')}`"]
        kind = field.dataType.simpleString()
        if _AS_TEXT.search(kind):
            notes.append(f"{field.name} is read as its text: it is {kind}, which is not known here")
            column = column.cast("string").alias(field.name)
        wanted.append(column)
    place = Path(tempfile.mkdtemp(prefix=".gravel-", dir=None if local else folder.absolute()))
    atexit.register(shutil.rmtree, place, ignore_errors=True)
    path = place / "rows"
    for name, value in _SETTINGS.items():
        session.conf.set(name, value)
    try:
        rows = frame.count()
        frame.select(*wanted).write.options(**_OPTIONS).parquet(path.as_uri())
    except (PySparkException, Py4JError, ConnectionError, EOFError) as error:
        raise TableProblem(f"{reference} cannot be read", detail=reason(error)) from None
    _refuse_others(path, reference, rows)
    return path, notes


def _table(session: SparkSession, reference: str) -> DataFrame:
    name = reference.removeprefix(CATALOGUE)
    try:
        frame = session.table(name)
        _ = frame.schema  # a server looks for it when it is asked
    except AnalysisException as error:
        if error.getCondition() != "TABLE_OR_VIEW_NOT_FOUND":
            raise TableProblem(f"{reference} cannot be read", detail=reason(error)) from None
        raise TableProblem(
            f"Spark's catalogue has no table {name}", hint=_instead(session, name)
        ) from None
    except PySparkException as error:
        raise TableProblem(f"{reference} cannot be read", detail=reason(error)) from None
    return frame


def _instead(session: SparkSession, name: str) -> str:
    """What may be meant by a name that no table has: one beside it, or those of a database."""
    if inside := _tables(session, name):
        return f"{name} is a database, with {', '.join(inside[:8])}{' …' if inside[8:] else ''}"
    database, dot, table = name.rpartition(".")
    near = nearest(table, _tables(session, database))
    return f"did you mean {CATALOGUE}{database}{dot}{near}?" if near else ""


def _tables(session: SparkSession, database: str) -> list[str]:
    try:
        return [table.name for table in session.catalog.listTables(database or None)]
    except PySparkException:
        return []


def _refuse_others(path: Path, reference: str, rows: int) -> None:
    """Raises TableProblem where the files here are not what the executors have written: a folder
    that they do not share is one of that name on each of them."""
    seen = sum(pq.read_metadata(part).num_rows for part in path.glob("part-*.parquet"))
    if seen != rows:
        raise TableProblem(
            f"{reference} has {rows:,} rows by Spark's count, and {seen:,} came here",
            detail=f"they were written to {path.parent}",
            hint="run it in a folder that the executors share, and when nobody writes the table",
        )
