"""`gravel query`."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer
from msgspec import structs

from gravel import hidden
from gravel.cli.options import (
    EngineOption,
    Format,
    FormatOption,
    Memory,
    NoColor,
    Params,
    Replace,
    Today,
    engine_of,
    given_by,
    memory_of,
    row_limit,
)
from gravel.lazily import lazily
from gravel.problems import CallProblem, TableProblem
from gravel.sources import read_options
from gravel.sources.read_options import ReadOptions

with lazily():
    from gravel.engine import mapped
    from gravel.inspecting import commands
    from gravel.language import errors, writing
    from gravel.querying import account, context, result_file
    from gravel.querying import relation as relations
    from gravel.querying import result as query_result
    from gravel.querying import session as sessions
    from gravel.render import query as render_query
    from gravel.render import screen
    from gravel.sinks import arrow
    from gravel.sources import opening
    from gravel.stores import sql

if TYPE_CHECKING:
    from gravel.querying.relation import Relation
    from gravel.querying.session import Session


_LONGEST_PATH = 200  # a longer text names no file


class OnError(StrEnum):
    """What becomes of rows with an error."""

    stop = "stop"
    null = "null"
    set_aside = "set-aside"


def query(
    statement: Annotated[
        str | None,
        typer.Argument(
            metavar="SELECT", help="A query, or - for standard input.", show_default=False
        ),
    ] = None,
    file: Annotated[
        Path | None, typer.Option("--file", metavar="FILE.sql", help="Read the query from a file.")
    ] = None,
    table: Annotated[
        list[str] | None,
        typer.Option(
            "--table",
            metavar="NAME=REF[;OPTION=VALUE…]",
            help="A name for a table (repeatable), and how it is read: b=old.csv;null=NA;skip=2.",
        ),
    ] = None,
    folder: Annotated[
        Path | None,
        typer.Option(
            "--in",
            metavar="FOLDER|FILE.db",
            help="A folder or a database whose tables are known by their names.",
        ),
    ] = None,
    write: Annotated[
        str | None,
        typer.Option(
            "--write",
            metavar="FILE|DB#TABLE|-",
            help="Write the result to a file, a new table or standard output, and count it.",
        ),
    ] = None,
    rows: Annotated[
        str, typer.Option("--rows", metavar="N|all", help="How many rows to show.")
    ] = "40",
    explain: Annotated[
        bool, typer.Option("--explain", help="Show each stage: rows in, rows out, and why.")
    ] = False,
    on_error: Annotated[
        OnError,
        typer.Option(
            "--on-error",
            help="Rows with an error stop the query, become NULL, or are set aside and told.",
        ),
    ] = OnError.stop,
    memory: Memory = None,
    param: Params = None,
    today: Today = None,
    engine: EngineOption = None,
    format: FormatOption = Format.table,
    replace: Replace = False,
    no_color: NoColor = False,
) -> None:
    """Run a SELECT over files and databases, with row counts by stage.

    gravel query "SELECT pier, COUNT(*) FROM 'boats.csv' GROUP BY pier ORDER BY 2 DESC"
    """
    limit = row_limit(rows)
    if write in ("-", "/dev/stdout"):
        if format is not Format.table:
            raise CallProblem(f"--write - writes CSV, and --format {format.value} something else")
        write, format = "-", Format.csv
    text = _text(statement, file)
    room = mapped.Store(memory_of(memory, engine))
    references, readings = _tables(table, folder)
    session = sessions.Session(
        context.QueryContext(
            given=given_by(param, today, engine),
            engine=engine_of(engine),
            references=references,
            readings=readings,
            as_stored=write is not None and arrow.keeps_arrow(Path(write)),
        ),
        account.Account(errors.ErrorPolicy[on_error.name.upper()], room),
    )
    result = session.query(text)
    if write not in (None, "-"):
        write = _write(write, result, session, replace, not no_color)

    if format is Format.json:
        screen.print_json("query", query_result.outcome_of(result, session, write))
    elif format is Format.table:
        render_query.show(result, limit, not no_color, session.asked)
        if explain:
            render_query.explain(session, not no_color)
    else:
        for number, part in enumerate(result_file.text_parts(result)):
            screen.print_rows(
                format.value,
                result.names if number == 0 else None,
                [column.to_pylist() for column in part],
            )
    if format is Format.table or write == "-":
        screen.note(
            f"{result.count:,} {'row' if result.count == 1 else 'rows'}"
            + (f", written to {'standard output' if write == '-' else write}" if write else ""),
            not no_color,
        )
    screen.cautions(session.account.cautions, not no_color)
    screen.remarks(session.account.remarks, not no_color)
    for name, malformed in session.tables.malformed.items():
        screen.malformed_notes(name, malformed, not no_color)
    for fault in session.account.faults:
        count = "1 row" if fault.rows == 1 else f"{fault.rows:,} rows"
        first = (
            f", first in source row{'s' if len(fault.first_rows) > 1 else ''}"
            f" {', '.join(f'{row:,}' for row in fault.first_rows)}"
            if fault.first_rows
            else ""
        )
        left = {"null": "NULL in the result", "set-aside": "set aside"}.get(on_error.value, "")
        screen.note(
            f"{fault.stage}: {fault.expression[:80]} fails with {fault.sqlstate} in {count}{first}:"
            f" {left}",
            not no_color,
        )


def _write(target: str, result: Relation, session: Session, replace: bool, color: bool) -> str:
    """Write the result where it is asked to go, as that may be shown."""
    names = relations.distinct_names(result.names)
    for old, new in zip(result.names, names, strict=True):
        if old != new:
            screen.note(f"a further column {old} is written as {new}", color)
    named = structs.replace(result, names=names)
    if sql.is_database(target):
        return result_file.write_table(target, named, replace)
    if Path(target).resolve() in session.tables.paths:
        raise CallProblem(
            f"the query reads {target}, so it is not written over", hint="name another file"
        )
    for note in result_file.write(Path(target), named, replace, session.tables.kept):
        screen.note(note, color)
    return target


def _text(statement: str | None, file: Path | None) -> str:
    if (statement is None) == (file is None):
        raise CallProblem(
            "give a query, or --file FILE.sql",
            hint="gravel query \"SELECT COUNT(*) FROM 'boats.csv'\"",
        )
    if statement == "-":
        return hidden.without(sys.stdin.read()).rstrip().removesuffix(";")
    if statement is not None:
        if len(statement) < _LONGEST_PATH and Path(statement).is_file():
            written = statement.endswith(".sql")
            select = commands.shell_word(f"SELECT * FROM {writing.text_literal(statement)}")
            raise CallProblem(
                f"{statement} is a file, not a query",
                hint=f"gravel query {'--file ' + statement if written else select}",
            )
        return statement.rstrip().removesuffix(";")
    assert file is not None
    try:
        return hidden.without(file.read_text("utf-8")).rstrip().removesuffix(";")
    except (OSError, UnicodeDecodeError) as error:
        raise TableProblem(
            f"{file} cannot be read: {(getattr(error, 'strerror', None) or str(error)).lower()}"
        ) from None


def _tables(
    supplied: list[str] | None, folder: Path | None
) -> tuple[dict[str, str], dict[str, ReadOptions]]:
    """What names of tables stand for, and how those are read."""
    results: dict[str, str] = {}
    readings: dict[str, ReadOptions] = {}
    if folder is not None and folder.is_file():
        results |= {
            reference.rpartition("#")[2]: reference
            for reference in opening.expanded(str(folder))
            if "#" in reference
        }
    if folder is not None and not results:
        if not folder.is_dir():
            raise TableProblem(f"{folder} is not a folder")
        files = [
            path for path in sorted(folder.iterdir()) if path.suffix.lower() in opening.ENDINGS
        ]
        twice = {path.stem for path in files if sum(other.stem == path.stem for other in files) > 1}
        for name in sorted(twice):
            screen.note(
                f"two files of {folder} are called {name}, so neither is known by that name;"
                f" --table {name}=FILE names one"
            )
        results |= {path.stem: str(path) for path in files if path.stem not in twice}
    for item in supplied or ():
        name, equals, reference = item.partition("=")
        if not equals or not name or not reference:
            raise CallProblem(
                f"--table takes NAME=REF, not {item!r}", hint="--table boats=boats.csv"
            )
        reference, *options = reference.split(";")
        results[name] = reference
        if options:
            readings[name.casefold()] = _reading(options)
    return results, readings


def _reading(options: Sequence[str]) -> ReadOptions:
    """Options of reading as name=value. Raises CallProblem."""
    given: dict[str, Any] = {}
    several = {option.name for option in read_options.OPTIONS if option.several}
    for option in options:
        name, _, value = option.partition("=")
        if name in several:
            given.setdefault(name, []).append(value)
        else:
            given[name] = value
    return read_options.reading_of(given)
