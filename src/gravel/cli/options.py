"""Options that several commands share, and what they open."""

from __future__ import annotations

import inspect
import os
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import date
from enum import Enum
from functools import partial
from typing import TYPE_CHECKING, Annotated, Any

import typer
from msgspec.structs import replace

from gravel.lazily import lazily
from gravel.problems import CallProblem
from gravel.sources import read_options

with lazily():
    from rich import progress as rich_progress

    from gravel import spark
    from gravel.engine import memory as engine_memory
    from gravel.inspecting import chosen_rows as inspecting_rows
    from gravel.language import parameters, scope
    from gravel.querying import members
    from gravel.render import screen

if TYPE_CHECKING:
    from gravel.inspecting.cautions import Caution
    from gravel.language.scope import Given
    from gravel.sources.source import Source


class Format(str, Enum):  # noqa: UP042
    """How output is written."""

    table = "table"
    json = "json"
    csv = "csv"
    markdown = "markdown"


TABLE_HELP = (
    "A table: FILE.csv, .tsv, .parquet, .jsonl, .arrow, .xlsx, FOLDER/, FILE.db#table, a server's"
    " URL; - is standard input."
)
TableArgument = Annotated[str, typer.Argument(metavar="TABLE", help=TABLE_HELP, show_default=False)]
FormatOption = Annotated[
    Format, typer.Option("--format", help="For people: table; for programs: json, csv, markdown.")
]
NoColor = Annotated[bool, typer.Option("--no-color", help="No colours (NO_COLOR is kept too).")]
Replace = Annotated[
    bool, typer.Option("--replace", help="Write over a file that is there already.")
]
Params = Annotated[
    list[str] | None,
    typer.Option(
        "--param", metavar="NAME=VALUE", help="A value for :NAME in expressions (repeatable)."
    ),
]
Today = Annotated[
    str | None,
    typer.Option("--today", metavar="DATE", help="The day that CURRENT_DATE is, as 2024-05-31."),
]


Where = Annotated[
    str | None,
    typer.Option("--where", metavar="COND", help="Only the rows for which this is true."),
]
EngineOption = Annotated[
    str | None,
    typer.Option(
        "--engine",
        metavar="URL",
        help=(
            "Have Spark read the table: sc://host:15002, spark://host:7077, or local[2] on this"
            " machine (GRAVEL_ENGINE says it for all)."
        ),
    ),
]
FindingOption = Annotated[
    int | None,
    typer.Option(
        "--finding", metavar="N", min=1, help="By the number of a finding in the table's profile."
    ),
]
Memory = Annotated[
    str | None,
    typer.Option(
        "--memory",
        metavar="SIZE",
        help=(
            "What to hold in memory, as 256MB or 2GB (a quarter of the machine's if not given);"
            " what is larger goes to a temporary file."
        ),
    ),
]


def memory_of(text: str | None, engine: str | None = None) -> int:
    """A size in bytes; a quarter of the machine's where none is given, little where another engine
    does the work. Raises CallProblem."""
    if text is None:
        return engine_memory.default_memory(engine_of(engine) is not None)
    try:
        size = engine_memory.size_of(text)
    except ValueError as error:
        raise CallProblem(f"--memory takes {error}") from None
    if size < 1 << 20:
        raise CallProblem(f"--memory {text} is too little to work with", hint="give 1MB at least")
    return size


def row_limit(text: str, option: str = "--rows") -> int | None:
    """The number of rows, or of something else, asked for; None for all."""
    if text == "all":
        return None
    if not text.isascii() or not text.isdigit():
        raise CallProblem(f"{option} takes a number or all, not {text!r}")
    return int(text)


def open_source(reference: str, reading: read_options.ReadOptions, address: str | None) -> Source:
    """The table that a reference names, read by the engine at an address, that of the environment
    where none is given. Raises CallProblem, TableProblem."""
    return spark.open_by(engine_of(address), reference, reading)


def chosen_rows(
    table: Source, where: str | None, supplied: Given, param: list[str] | None
) -> tuple[Source, tuple[Caution, ...]]:
    """The rows of a table for which a condition is true, and what is to be told of that; all where
    there is none. Raises Diagnostic, TableProblem."""
    if where is None:
        return table, ()
    result, cautions = inspecting_rows.choose_rows(table, where, supplied)
    result.parameters = param or ()
    return result, cautions


def engine_of(address: str | None) -> str | None:
    """The address of an engine: that of the environment where none is given."""
    return address or os.environ.get("GRAVEL_ENGINE") or None


def given_by(params: list[str] | None, today: str | None, engine: str | None = None) -> scope.Given:
    """What the call gives its expressions; the tables of their queries are read by the engine at an
    address, as that of the call is. Raises CallProblem."""
    try:
        day = date.today() if today is None else date.fromisoformat(today)
    except ValueError:
        raise CallProblem(f"--today takes a date such as 2024-05-31, not {today!r}") from None
    supplied = scope.Given(parameters.from_command_line(params or ()), day)
    return replace(supplied, members=partial(_members, supplied, engine_of(engine)))


def _members(context: Given, engine: str | None, query: Any, text: str) -> Any:
    return members.members_of(context, None, screen.malformed_notes, engine)(query, text)


def with_reading(command: Callable[..., None]) -> Callable[..., None]:
    """A command with the options of reading in place of its parameter `reading`, which it is given
    as ReadOptions."""
    own = inspect.signature(command, eval_str=True)
    after = [
        inspect.Parameter(
            f"read_{option.name}",
            inspect.Parameter.KEYWORD_ONLY,
            default=None,
            annotation=Annotated[
                list[str] | None if option.several else str | None,
                typer.Option(f"--{option.name}", metavar=option.metavar, help=option.help),
            ],
        )
        for option in read_options.OPTIONS
    ]
    before = [item for item in own.parameters.values() if item.name != "reading"]

    def wrapped(*arguments: Any, **named: Any) -> None:
        asked = {
            option.name: named.pop(f"read_{option.name}", None) for option in read_options.OPTIONS
        }
        command(*arguments, reading=read_options.reading_of(asked), **named)

    parameters_ = [item.replace(kind=inspect.Parameter.KEYWORD_ONLY) for item in before] + after
    wrapped.__signature__ = inspect.Signature(parameters_)  # type: ignore[attr-defined]
    wrapped.__annotations__ = {item.name: item.annotation for item in parameters_}
    wrapped.__doc__, wrapped.__name__ = command.__doc__, command.__name__
    return wrapped


def refuse_reading(reading: read_options.ReadOptions, plan: str) -> None:
    """Refuse options of reading where a plan has them. Raises CallProblem."""
    for name, value in reading.settled().items():
        shown = str(value[0] if isinstance(value, list) else value)
        raise CallProblem(
            f"--{name} {shown} does nothing here: {plan} says how its table is read",
            hint=f"under [read] of the plan: {name} = …",
        )


@contextmanager
def progress(table: Source, passes: int = 1) -> Iterator[None]:
    """A bar on standard error while the table is read, if that takes over a second, and only on a
    terminal."""
    if not sys.stderr.isatty():
        yield
        return
    begun = time.monotonic()
    bar = rich_progress.Progress(
        rich_progress.TextColumn("reading"),
        rich_progress.BarColumn(),
        rich_progress.TimeRemainingColumn(),
        transient=True,
        console=_error_console(),
    )
    size = max(1, table.path.stat().st_size) * passes
    task = bar.add_task("reading", total=size)
    started = False

    def advance(count: int) -> None:
        nonlocal started
        if not started and time.monotonic() - begun > 1:
            bar.start()
            started = True
        bar.advance(task, count)

    table.progress = advance
    try:
        yield
    finally:
        if started:
            bar.stop()


def _error_console() -> Any:
    return screen.console(error=True)
