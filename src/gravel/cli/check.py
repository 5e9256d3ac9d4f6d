"""`gravel check`."""

from __future__ import annotations

import tomllib
from enum import Enum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from gravel.cli.lazily import lazily
from gravel.cli.options import (
    Format,
    FormatOption,
    NoColor,
    Params,
    Replace,
    TableArgument,
    Today,
    given_by,
    progress,
    with_reading,
)
from gravel.problems import CallProblem, TableProblem
from gravel.sources.read_options import ReadOptions

with lazily():
    from rich import text as rich_text

    from gravel import results
    from gravel.cli import render
    from gravel.inspecting import check as inspecting_check
    from gravel.language import errors, parse, tree
    from gravel.reports import check as reports_check
    from gravel.reports import page
    from gravel.sinks import atomic_file, csv, files
    from gravel.sources import opening

if TYPE_CHECKING:
    import numpy as np
    import pyarrow as pa

    from gravel.inspecting.check import Check, Checked


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
            "--from",
            metavar="FILE.toml",
            help='A file with a table \\[check] of name = "condition".',
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
    param: Params = None,
    today: Today = None,
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
    supplied = given_by(param, today)
    pairs = [inspecting_check.named_condition(item) for item in conditions or ()]
    stated: dict[str, Any] = {}
    if from_file is not None:
        stated = read_checks(from_file)
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
    allowed = allowed_of(allow if allow is not None else stated.get("allow"))
    fails = (unknown.value if unknown is not None else stated.get("unknown", "passes")) == "fails"
    source = opening.open_table(table, reading)
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
        _Aside(set_aside, source.columns, {*source.files, *asked}, replace)
        if set_aside is not None
        else None
    )
    try:
        with progress(source):
            result = inspecting_check.check(
                source, pairs, unknown_fails=fails, allowed=allowed, given=supplied, aside=aside
            )
        if aside is not None:
            aside.finish()
    finally:
        if aside is not None:
            aside.discard()
    if report is not None:
        reports_check.write_page(report, result, fails)
    if format is Format.json:
        render.print_json("check", results.check_dict(result, set_aside))
    elif format is Format.table:
        _show(result, fails, not no_color)
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
        render.print_rows(format.value, headings, columns)
    render.cautions(result.cautions, not no_color)
    render.remarks(result.remarks, not no_color)
    render.malformed_notes(result.table, result.malformed, not no_color)
    if set_aside is not None:
        render.note(
            f"{result.bad_rows:,} {'row' if result.bad_rows == 1 else 'rows'} written to"
            f" {set_aside}",
            not no_color,
        )
    for line in result.notes:
        render.note(f"{result.table}: {line}", not no_color)
    if not all(item.passed for item in result.checks):
        raise typer.Exit(1)


def read_checks(path: Path) -> dict[str, Any]:
    """The conditions of a TOML file, its allow and unknown. Raises CallProblem, TableProblem."""
    try:
        with open(path, "rb") as file:
            result = tomllib.load(file)
    except OSError as error:
        raise TableProblem(
            f"{path} cannot be read: {(error.strerror or str(error)).lower()}"
        ) from None
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise CallProblem(f"{path} is not valid TOML: {error}") from None
    checks = result.get("check")
    if (
        not isinstance(checks, dict)
        or not checks
        or not all(isinstance(text, str) for text in checks.values())
    ):
        raise CallProblem(
            f'{path} has no table [check] of name = "condition"',
            hint='[check]\n"berth known" = "berth IS NOT NULL"',
        )
    for name in result.keys() - {"check", "allow", "unknown"}:
        raise CallProblem(
            f"{path}: {name} is not known here",
            hint="a file of checks has check, allow and unknown",
        )
    if result.get("unknown", "passes") not in ("fails", "passes"):
        raise CallProblem(f"{path}: unknown is fails or passes, not {result['unknown']!r}")
    return result


def allowed_of(text: str | None) -> Any:
    """What --allow says. Raises CallProblem."""
    try:
        return inspecting_check.Allowed() if text is None else inspecting_check.allowance(text)
    except ValueError:
        raise CallProblem(
            f"--allow takes a number of rows or a share such as 0.1%, not {text!r}"
        ) from None


class _Aside:
    """Rows that do not hold, written beside their place until all are there."""

    def __init__(
        self, target: Path, columns: tuple[str, ...], read: set[Path], replace: bool
    ) -> None:
        files.only_text(target)
        if target.resolve() in read:
            raise CallProblem(
                f"the rows would be written over {target}, which is read", hint="name another file"
            )
        files.may_write(target, replace)
        self._output: Any = atomic_file.Output(target, str(target))
        self._output.write(csv.header(["gravel_row", "gravel_checks", *columns]))

    def __call__(self, rows: np.ndarray, columns: list[pa.Array], told: list[str]) -> None:
        import pyarrow as pa

        self._output.write(
            csv.encode(
                [
                    pa.array([str(row) for row in rows], pa.string()),
                    pa.array(told, pa.string()),
                    *columns,
                ]
            )
        )

    def finish(self) -> None:
        """Put the file in its place."""
        self._output.close()
        self._output.commit()
        self._output = None

    def discard(self) -> None:
        """Leave nothing of an unfinished file."""
        if self._output is not None:
            self._output.discard()


def _show(checked: Checked, unknown_fails: bool, color: bool) -> None:
    out = render.console(color=color)
    good = sum(check.passed for check in checked.checks)
    out.print(
        rich_text.Text(
            f"{checked.table}: {checked.rows:,} rows, {good} of {len(checked.checks)} checks pass",
            style=render.HEAD,
        )
    )

    def count(value: int, style: str) -> rich_text.Text:
        return rich_text.Text(f"{value:,}" if value else "–", style=style if value else render.DIM)

    rows: list[list[Any]] = []
    for item in checked.checks:
        style = render.GOOD if item.passed else f"bold {render.BAD}"
        rows.append(
            [
                rich_text.Text("passes" if item.passed else "FAILS", style=style),
                rich_text.Text(render.safe(item.name)),
                rich_text.Text(f"{item.holds:,}"),
                count(item.fails, render.BAD),
                count(item.unknown, render.BAD if unknown_fails else render.WARN),
                count(item.errors, render.BAD),
                rich_text.Text(
                    (
                        "the table as a whole"
                        if item.whole
                        else f"{item.most:,} allowed"
                        if item.most
                        else ""
                    ),
                    style=render.DIM,
                ),
            ]
        )
    render.print_table(
        out, ["", "check", "holds", "fails", "unknown", "errors", ""], rows, right=(2, 3, 4, 5)
    )
    for item in checked.checks:
        _examples(out, item)


def _examples(out: Any, check: Check) -> None:
    shown = [example for example in check.examples if example.outcome != "holds" or check.whole]
    if not shown or (check.whole and check.passed and check.holds):
        return
    out.print()
    line = rich_text.Text(render.safe(check.name), style=render.HEAD)
    if check.name != check.condition.strip():
        line.append(f"  {render.safe(check.condition)}", style=render.DIM)
    out.print(line)
    table = []
    for example in shown:
        values = rich_text.Text()
        for index, (name, value) in enumerate(example.values):
            values.append("  " if index else "").append(f"{name} ", style=render.DIM).append_text(
                render.visible(value, 40)
            )
        why = (
            f"{example.outcome} {example.sqlstate}: {errors.meaning(example.sqlstate)}"
            if example.sqlstate
            else example.outcome
        )
        table.append(
            [
                rich_text.Text(f"row {example.row:,}" if example.row else "", style=render.DIM),
                rich_text.Text(
                    why, style=render.WARN if example.outcome == "unknown" else render.BAD
                ),
                values,
            ]
        )
    render.print_table(out, ["", "", ""], table)
    more = [
        f"{count - sum(example.outcome == kind for example in shown):,} more {word}"
        for kind, count, word in (
            ("fails", check.fails, "fail"),
            ("unknown", check.unknown, "are unknown"),
            ("error", check.errors, "have an error"),
        )
        if not check.whole and count > sum(example.outcome == kind for example in shown)
    ]
    if more:
        out.print(rich_text.Text("and " + ", ".join(more), style=render.DIM))
