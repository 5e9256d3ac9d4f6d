"""`gravel check`."""

from __future__ import annotations

import dataclasses
from contextlib import contextmanager
from enum import Enum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from gravel.cli.options import (
    EngineOption,
    Format,
    FormatOption,
    NoColor,
    Params,
    Replace,
    TableArgument,
    Today,
    Where,
    chosen_rows,
    given_by,
    open_source,
    progress,
    with_reading,
)
from gravel.lazily import lazily
from gravel.problems import CallProblem
from gravel.sources.read_options import ReadOptions

with lazily():
    from gravel.inspecting import check as inspecting_check
    from gravel.inspecting import checks_file
    from gravel.language import diagnostics, parse, tree
    from gravel.plans import places
    from gravel.render import check as render_check
    from gravel.render import screen
    from gravel.render.html import check as html_check
    from gravel.render.html import page

if TYPE_CHECKING:
    from collections.abc import Iterator


class Unknown(str, Enum):  # noqa: UP042
    """What an unknown condition counts as."""

    fails = "fails"
    passes = "passes"


@with_reading
def check(
    table: TableArgument,
    conditions: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[NAME: ]CONDITION…", help="Each with a name if you like.", show_default=False
        ),
    ] = None,
    from_file: Annotated[
        Path | None,
        typer.Option(
            "--from", metavar="FILE.toml", help='A file with a table [check] of name = "condition".'
        ),
    ] = None,
    unknown: Annotated[
        Unknown | None,
        typer.Option(
            "--unknown",
            help=(
                "Rows for which a condition is unknown; they pass as in SQL's own CHECK if not"
                " said."
            ),
            show_default=False,
        ),
    ] = None,
    allow: Annotated[
        str | None,
        typer.Option(
            "--allow", metavar="N|P%", help="So many rows, or such a share, need not hold."
        ),
    ] = None,
    set_aside: Annotated[
        Path | None,
        typer.Option(
            "--set-aside",
            metavar="FILE",
            help="Write the rows that do not hold, with the names of their checks.",
        ),
    ] = None,
    report: Annotated[
        Path | None, typer.Option("--report", metavar="FILE.html", help="Write a page.")
    ] = None,
    where: Where = None,
    param: Params = None,
    today: Today = None,
    engine: EngineOption = None,
    format: FormatOption = Format.table,
    *,
    reading: ReadOptions,
    replace: Replace = False,
    no_color: NoColor = False,
) -> None:
    """Check conditions in every row, or with aggregates for the table as a whole. Exit status 1 if
    one fails.

    gravel check boats.csv "berth IS NOT NULL" "COUNT(DISTINCT boat_id) = COUNT(*)"
    """
    supplied = given_by(param, today, engine)
    pairs = [inspecting_check.named_condition(item) for item in conditions or ()]
    stated: dict[str, Any] = {}
    if from_file is not None:
        stated = checks_file.read_checks(from_file)
        pairs += list(stated["check"].items())
    if not pairs:
        raise CallProblem(
            "no condition is given",
            hint='gravel check boats.csv "berth IS NOT NULL", or --from FILE.toml',
        )
    names = [name for name, _ in pairs]
    for name in names:
        if names.count(name) > 1:
            raise CallProblem(f"two checks are called {name!r}")
    allowed = _allowed(allow if allow is not None else stated.get("allow"))
    fails = (unknown.value if unknown is not None else stated.get("unknown", "passes")) == "fails"
    source = open_source(table, reading, engine)
    source, cautions = chosen_rows(source, where, supplied, param)
    with _located(from_file, stated.get("check", {})):
        asked = {
            Path(item.reference).resolve()
            for _, text in pairs
            for item in parse.walk(parse.expression(text))
            if isinstance(item, tree.TableReference)
        }
    if report is not None:
        if report.resolve() in {
            *source.files,
            *asked,
            *([] if set_aside is None else [set_aside.resolve()]),
        }:
            raise CallProblem(
                f"the page would be written over {report}, which is read or written",
                hint="name another file",
            )
        page.may_write(report, replace)
    aside = (
        checks_file.FailingRows(set_aside, source.columns, {*source.files, *asked}, replace)
        if set_aside is not None
        else None
    )
    try:
        with progress(source), _located(from_file, stated.get("check", {})):
            result = inspecting_check.check(
                source,
                pairs,
                unknown_fails=fails,
                allowed=allowed,
                given=supplied,
                aside=None if aside is None else aside.write,
            )
        if aside is not None:
            aside.finish()
    finally:
        if aside is not None:
            aside.discard()
    if report is not None:
        html_check.write_page(report, result, fails)
    if format is Format.json:
        screen.print_json(
            "check",
            dataclasses.replace(result, set_aside=None if set_aside is None else str(set_aside)),
        )
    elif format is Format.table:
        render_check.show(result, fails, not no_color)
    else:
        headings = ["name", "condition", "holds", "fails", "unknown", "errors", "passed"]
        columns = [
            [str(value) for value in column]
            for column in zip(
                *(
                    (
                        item.name,
                        item.condition,
                        item.holds,
                        item.fails,
                        item.unknown,
                        item.errors,
                        "true" if item.passed else "false",
                    )
                    for item in result.checks
                ),
                strict=True,
            )
        ]
        screen.print_rows(format.value, headings, columns)
    screen.cautions((*cautions, *result.cautions), not no_color)
    screen.remarks(result.remarks, not no_color)
    screen.malformed_notes(result.table, result.malformed, not no_color)
    if set_aside is not None:
        screen.note(
            f"{result.bad_rows:,} {'row' if result.bad_rows == 1 else 'rows'} written to"
            f" {set_aside}",
            not no_color,
        )
    for line in result.notes:
        screen.note(f"{result.table}: {line}", not no_color)
    if not all(item.passed for item in result.checks):
        raise typer.Exit(1)


@contextmanager
def _located(file: Path | None, checks: dict[str, str]) -> Iterator[None]:
    """Mistakes in a file's checks are told with their lines there."""
    try:
        yield
    except diagnostics.Diagnostic as problem:
        names = [name for name, text in checks.items() if text == problem.text]
        if file is not None and names:
            for path, place in places.places(file.read_text("utf-8-sig")).items():
                key = str(path[-1]).replace('\\"', '"')
                if path[0] == "check" and key == names[0]:
                    problem.locate(str(file), place.text_line)
        raise


def _allowed(text: str | None) -> inspecting_check.Allowed:
    try:
        return inspecting_check.Allowed() if text is None else inspecting_check.allowance(text)
    except ValueError:
        raise CallProblem(
            f"--allow takes a number of rows or a share such as 0.1%, not {text!r}"
        ) from None
