"""Pages of tables: rows that are looked at, counts, expressions tried, the result of a query."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from gravel.inspecting.cells import RowError
from gravel.language.errors import meaning
from gravel.language.types import Kind
from gravel.querying.result_file import texts
from gravel.render.count import asked_for
from gravel.render.html.page import render_page
from gravel.version import __version__
from gravel.words import number_of

if TYPE_CHECKING:
    from gravel.inspecting.attempt import Attempt, Trial
    from gravel.inspecting.cells import Cell
    from gravel.inspecting.counts import TableCount
    from gravel.inspecting.look import View
    from gravel.querying.account import Stage
    from gravel.querying.relation import Relation

_ROWS = 20  # of a query's result
_NUMBERS = (Kind.INTEGER, Kind.DECIMAL, Kind.DOUBLE)


class _Part(Struct, frozen=True):
    """A table of a page. `right`: the columns that are numbers; `words`: those that are no values,
    but what is said of them."""

    heading: str
    columns: Sequence[str]
    rows: Sequence[Sequence[Cell]]
    right: Sequence[int] = ()
    note: str = ""
    words: Sequence[int] = ()


def write_view(path: Path, view: View) -> None:
    """Write the rows of `look` as one self-contained HTML file. Raises TableProblem."""
    right = [place for place, item in enumerate(view.columns, 1) if item.type.kind in _NUMBERS]
    numbers: list[Cell] = [f"{row:,}" for row in view.row_numbers]
    facts = [(view.rows, "rows")]
    if view.where is not None:
        facts.append((view.matching, "match"))
        facts += [(view.unknown, "unknown")] if view.unknown else []
        facts += [(view.errors, "with an error")] if view.errors else []
    facts += [(len(view.malformed), "malformed records skipped")] if view.malformed else []
    part = _Part(
        "",
        ["row", *(item.name for item in view.columns)],
        list(zip(numbers, *view.cells, strict=True)),
        [0, *right],
        f"{number_of(len(numbers))} shown",
    )
    _write(
        path,
        view.table,
        view.where or "",
        facts,
        [part],
        view.cautions,
        (*view.remarks, *view.notes),
    )


def write_count(path: Path, count: TableCount) -> None:
    """Write counts as one self-contained HTML file. Raises TableProblem."""
    facts = [
        (count.rows, "rows"),
        (count.columns, "columns"),
        (len(count.malformed), "malformed records"),
    ]
    asked = asked_for(count)
    parts = [_Part("", ["asked for", "", ""], asked, [1], words=[0, 1, 2])] if asked else []
    _write(path, count.table, "", facts, parts, (), count.notes)


def write_trial(path: Path, trial: Trial) -> None:
    """Write what expressions would change as one self-contained HTML file. Raises TableProblem."""
    parts: list[_Part] = []
    for item in trial.assignments:
        parts.append(_changes(item))
        if item.error_kinds:
            parts.append(_failures(item))
    facts = [(trial.rows, "rows")]
    facts += [(len(trial.malformed), "malformed records skipped")] if trial.malformed else []
    said = (*trial.remarks, *trial.notes)
    _write(path, trial.table, "nothing is written", facts, parts, trial.cautions, said)


def _failures(item: Attempt) -> _Part:
    rows: list[list[Cell]] = [
        [
            RowError(kind.sqlstate),
            meaning(kind.sqlstate),
            kind.example,
            f"{kind.row:,}",
            f"{kind.rows:,}",
        ]
        for kind in item.error_kinds
    ]
    return _Part("", ["", "", "for example", "row", "rows"], rows, [3, 4], "rows that fail", [1])


def _changes(item: Attempt) -> _Part:
    note = f"{item.changed:,} changed, {item.unchanged:,} unchanged, {item.errors:,} errors"
    if item.kinds > len(item.changes):
        note += f"; {len(item.changes):,} of {item.kinds:,} different changes shown"
    rows: list[list[Cell]] = [
        [change.before, change.after, f"{change.rows:,}"] for change in item.changes
    ]
    heading = f"{item.column} = {' '.join(item.text.split())}"
    return _Part(heading, ["before", "after", "rows"], rows, [2], note)


def write_result(
    path: Path,
    relation: Relation,
    account: Sequence[Stage],
    cautions: Sequence[Any],
    remarks: Sequence[str],
) -> None:
    """Write the first rows of a query's result, and its account, as one self-contained HTML file.
    Raises TableProblem."""
    shown = min(_ROWS, relation.count)
    columns = texts(relation, _ROWS)
    right = [place for place, kind in enumerate(relation.types) if kind.kind in _NUMBERS]
    rows = list(zip(*columns, strict=True)) if columns else [()] * shown
    stages: list[list[Cell]] = [
        [stage.stage, f"{stage.rows_in:,}", f"{stage.rows_out:,}", stage.detail]
        for stage in account
    ]
    parts = [
        _Part("", relation.names, rows, right, f"{number_of(shown)} shown"),
        _Part(
            "Row counts by stage", ["operator", "rows in", "out", ""], stages, [1, 2], words=[0, 3]
        ),
    ]
    _write(path, "Query", "", [(relation.count, "rows")], parts, cautions, remarks)


def _write(
    path: Path,
    title: str,
    lead: str,
    facts: Sequence[tuple[int, str]],
    parts: Sequence[_Part],
    cautions: Sequence[Any],
    remarks: Sequence[str],
) -> None:
    render_page(
        path,
        "tables.html",
        title=title,
        lead=lead,
        facts=facts,
        parts=parts,
        cautions=cautions,
        remarks=remarks,
        version=__version__,
    )
