"""How things look: values with what is hidden made visible, tables, notes, problems, JSON."""

from __future__ import annotations

import json
import os
import re
import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

from rich.console import Console
from rich.segment import Segment
from rich.text import Text

from gravel.hidden import without
from gravel.inspecting.drawing import drawn, sign
from gravel.inspecting.drawing import percent as percent
from gravel.lazily import lazily
from gravel.problems import Problem
from gravel.words import number_of, said_of

with lazily():
    from gravel.inspecting import cells
    from gravel.sources.csv import records

if TYPE_CHECKING:
    from gravel.figures import Figures
    from gravel.inspecting.cautions import BranchCount, Caution
    from gravel.inspecting.cells import Cell
    from gravel.sources.source import Chosen, Malformed

_MANY = 500
GAP = 2  # blanks between the columns of a table
# Each has a contrast of at least 4.5:1 on black and on white (WCAG 2.2, 1.4.3), so that no theme
# has to be asked for.
DIM, MARK, BAD, GOOD, WARN, HEAD = "#767676", "#5f5fff", "#e12d2d", "#00875f", "#b06000", "bold"


class _Console(Console):
    """A console that sends no control character of a name or a value to the terminal, and lets a
    reader that has gone be told where the program ends."""

    def render(self, renderable: Any, options: Any = None) -> Any:
        """See Console; its own codes are not segments of text."""
        for segment in super().render(renderable, options):
            yield (
                segment
                if segment.control or segment.text.isprintable()
                else Segment(safe(segment.text, "\n"), segment.style)
            )

    def on_broken_pipe(self) -> None:
        raise BrokenPipeError


def console(error: bool = False, color: bool = True, most: int | None = None) -> Console:
    """A console as wide as the terminal, or 120 columns where there is none; at most `most`."""
    stream = sys.stderr if error else sys.stdout
    width = None if stream.isatty() or os.environ.get("COLUMNS") else 120
    if most is not None:
        width = min(most, width or Console(stderr=error).width)
    return _Console(
        stderr=error,
        width=width,
        no_color=not color or None,
        highlight=False,
        soft_wrap=False,
        emoji=False,
        markup=False,
    )


@contextmanager
def paged(out: Console, lines: int) -> Iterator[None]:
    """Show what is printed meanwhile in the pager that PAGER names, if it is longer than the
    screen. An empty PAGER is none."""
    if not out.is_terminal or lines < out.height or os.environ.get("PAGER") == "":
        yield
        return
    os.environ.setdefault("LESS", "FRX")  # colours, and the rows stay on the screen
    with out.pager(styles=not out.no_color):
        yield


def visible(value: Cell, limit: int = 60) -> Text:
    """A cell as the terminal shows it: NULL, empty texts, spaces at the ends, tabs, no-break spaces
    and control characters all to be seen, none of them raw."""
    if isinstance(value, cells.RowError):
        return Text(f"error {value.sqlstate}", style=BAD)
    text = Text()
    for part, kind in drawn(value, limit):
        text.append(part, style=_STYLES[kind])
    return text


_STYLES = {"plain": "", "hidden": MARK, "said": DIM}


def number(value: Any) -> str:
    """A number with digit grouping."""
    return "" if value is None else f"{value:,}"


def print_json(command: str, result: Figures) -> None:
    """A command's figures as JSON, its name and version first."""
    figures = result.to_dict()
    whole = {"gravel": f"{command}/2", **figures}
    if (
        max((len(value) for value in figures.values() if isinstance(value, list)), default=0)
        < _MANY
    ):
        sys.stdout.write(_escaped(json.dumps(whole, ensure_ascii=False, indent=2)) + "\n")
        return
    # Indenting is done in Python, ten times slower: long lists get a line an item.
    parts = []
    for name, value in whole.items():
        if isinstance(value, list) and value:
            text = (
                "[\n    "
                + ",\n    ".join(json.dumps(item, ensure_ascii=False) for item in value)
                + "\n  ]"
            )
        else:
            text = json.dumps(value, ensure_ascii=False)
        parts.append(f"  {json.dumps(name, ensure_ascii=False)}: {text}")
    sys.stdout.write(_escaped("{\n" + ",\n".join(parts) + "\n}\n"))


def _escaped(text: str) -> str:
    """JSON without the control characters that its own rules leave as they are: they stand in
    strings alone."""
    return re.sub("[\x7f-\x9f]", lambda result: f"\\u{ord(result[0]):04x}", text)


def print_table(
    out: Console,
    headings: Sequence[str],
    rows: Sequence[Sequence[Any]],
    *,
    right: Sequence[int] = (),
    title: str = "",
    gap: int = GAP,
) -> None:
    """A plain table for people."""
    from rich import padding, table

    shown = table.Table(
        box=None,
        pad_edge=False,
        padding=(0, gap, 0, 0),
        header_style=HEAD,
        title=title or None,
        title_justify="left",
        title_style=HEAD,
        show_header=any(headings),
    )
    for index, heading in enumerate(headings):
        shown.add_column(
            heading,
            justify="right" if index in right else "left",
            overflow="fold",
            no_wrap=index in right,
        )
    for row in rows:
        shown.add_row(
            *(
                cell if isinstance(cell, (Text, padding.Padding)) else Text(str(cell))
                for cell in row
            )
        )
    out.print(shown)


def note_of_left(columns: Sequence[str], instead: str, color: bool) -> None:
    """Name the columns that had no room; `instead`: how to have them."""
    if columns:
        many = "1 more column does" if len(columns) == 1 else f"{len(columns):,} more columns do"
        names = ", ".join(columns[:8]) + (" …" if len(columns) > 8 else "")
        note(f"{many} not fit: {names} ({instead})", color)


def print_rows(
    form: str, headings: Sequence[str] | None, columns: Sequence[Sequence[Cell]]
) -> None:
    """Rows as CSV or Markdown, for programs and pages: values as they are, NULL as nothing. Without
    headings the rows go on."""
    texts = [
        [f"error {cell.sqlstate}" if isinstance(cell, cells.RowError) else cell for cell in column]
        for column in columns
    ]
    if form == "csv":
        import pyarrow as pa

        from gravel.sinks.csv import encode, header

        sys.stdout.flush()
        sys.stdout.buffer.write(
            (b"" if headings is None else header(headings))
            + encode([pa.array(column, pa.string()) for column in texts])
        )
        return

    def cell(text: str | None) -> str:
        return "" if text is None else text.replace("|", "\\|").replace("\n", "<br>")

    if headings is not None:
        print("| " + " | ".join(map(cell, headings)) + " |")
        print("|" + " --- |" * len(headings))
    for row in zip(*texts, strict=True):
        print("| " + " | ".join(map(cell, row)) + " |")


def note(text: str, color: bool = True) -> None:
    """A line for people beside the data, on standard error."""
    console(error=True, color=color).print(Text(text, style=DIM))


def chosen_rows(rows: int, where: Chosen | None) -> str:
    """How many rows were looked at; where some were chosen, of how many and by what."""
    if where is None:
        return number_of(rows)
    return f"{rows:,} of {number_of(where.of)}, where {safe(where.condition)}"


def malformed_notes(table: str, bad: Sequence[Malformed], color: bool = True) -> None:
    """Malformed records on standard error: how many, and the first with row, line and fault."""
    if not bad:
        return
    err = console(error=True, color=color)
    subset = (
        "1 malformed record is skipped"
        if len(bad) == 1
        else f"{len(bad):,} malformed records are skipped"
    )
    err.print(Text(f"{table}: {subset}", style=WARN))
    for item in bad[:5]:
        line = Text(f"  row {item.row:,}, line {item.line:,}: {item.fault}: ")
        line.append_text(visible(item.text, 60))
        err.print(line)
    if len(bad) > 5:
        err.print(f"  and {len(bad) - 5:,} more")
    if any(item.fault in (records.UNCLOSED, records.AFTER_QUOTE) for item in bad):
        err.print("  where quotes are characters like others: --quote none")


def cautions(result: Sequence[Caution], color: bool = True, prefix: str = "") -> None:
    """Cautions on standard error, each with its rows, what they are, and a hint; of those that
    differ in their expression alone the first, and how many more there are."""
    err = console(error=True, color=color)
    alike: dict[tuple[str, int, str], list[Caution]] = {}
    for item in result:
        alike.setdefault((item.caution, item.rows, item.hint), []).append(item)
    for item, *others in alike.values():
        good = item.caution == "kept from an error"
        line = Text("good: " if good else "caution: ", style=GOOD if good else WARN)
        line.append(f"{prefix}{said_of(item.rows, safe(item.detail))}", style="default")
        for index, text in enumerate(item.examples):
            line.append("', '" if index else " ('", style="default")
            line.append_text(visible(text, 40))
        line.append("')" if item.examples else "", style="default")
        if others:
            count = f"{len(others):,} more {'expression' if len(others) == 1 else 'expressions'}"
            line.append(f"; likewise for {count}", style="default")
        err.print(line, soft_wrap=True)
        if item.hint:
            err.print(Text(f"  hint: {safe(item.hint)}", style=MARK), soft_wrap=True)


def remarks(lines: Sequence[str], color: bool = True, prefix: str = "") -> None:
    """What is to be known of expressions and is not a caution, on standard error."""
    for line in lines:
        console(error=True, color=color).print(
            Text(f"note: {prefix}{safe(line)}", style=DIM), soft_wrap=True
        )


def print_branches(out: Console, result: Sequence[BranchCount]) -> None:
    """How many rows took each branch of a CASE."""
    for item in result:
        title = item.text if len(item.text) <= 90 else item.text[:89] + "…"
        rows: list[list[Any]] = [
            [Text(f"  WHEN {safe(way.when)}"), f"{way.rows:,}"] for way in item.branches
        ]
        unknown = (
            f" ({item.unknown:,} only because a condition was unknown)" if item.unknown else ""
        )
        rows.append(
            [
                Text(
                    f"  {'ELSE' if item.has_else else 'no ELSE: NULL'}{unknown}",
                    style=WARN if item.unknown else "",
                ),
                f"{item.otherwise:,}",
            ]
        )
        out.print(Text(f"branches of {safe(title)}", style=DIM))
        print_table(out, ["", ""], rows, right=(1,))


def tell(problem: Problem) -> None:
    """A problem on standard error: what is wrong, where, details, a hint."""
    err = _Console(stderr=True, highlight=False, markup=False, emoji=False, soft_wrap=True)
    line = Text("gravel: ", style=f"bold {BAD}")
    line.append(safe(without(problem.message)), style="default")
    err.print(line)
    for place in problem.place.splitlines():
        err.print(Text("  " + safe(without(place), "\t"), style=""))
    if problem.detail:
        err.print(Text(f"detail: {safe(without(problem.detail))}"))
    if problem.hint:
        err.print(Text(f"hint: {safe(without(problem.hint))}", style=MARK))


def safe(text: str, also: str = "") -> str:
    """The text without anything a terminal would obey."""
    return "".join(char if char.isprintable() or char in also else sign(char) for char in text)
