"""What `gravel query` shows."""

from __future__ import annotations

import dataclasses
from collections.abc import Collection, Iterator, Sequence
from typing import TYPE_CHECKING, Any

from rich import text as rich_text

from gravel.querying import result_file
from gravel.render import screen
from gravel.words import number_of

if TYPE_CHECKING:
    from gravel.querying.account import Stage
    from gravel.querying.relation import Relation
    from gravel.querying.session import Session


_MIB = 1 << 20
_LONGEST = (48, 24)  # characters of a text that are shown; less where not all columns fit then


def show(relation: Relation, limit: int | None, color: bool, asked: Collection[str] = ()) -> None:
    """Print the rows of a result; where not all columns fit, those `asked` about (folded names)
    before the others."""
    out = screen.console(color=color)
    kinds = ("INTEGER", "DECIMAL", "DOUBLE PRECISION")
    names, texts = relation.names, result_file.texts(relation, limit)
    order = sorted(range(len(names)), key=lambda place: names[place].casefold() not in asked)
    fit: dict[int, list[Any]] = {}
    for most in _LONGEST:
        fit = _columns_that_fit(names, texts, order, most, out.width)
        if len(fit) == len(texts):
            break
    places = sorted(fit)
    right = [at for at, place in enumerate(places) if relation.types[place].kind.value in kinds]
    rows = [list(row) for row in zip(*(fit[place] for place in places), strict=True)]
    screen.print_table(out, [names[place] for place in places], rows, right=right)
    left = [name for place, name in enumerate(names) if place not in fit]
    screen.note_of_left(left, "--format csv has all", color)
    if limit is not None and relation.count > limit:
        screen.note(f"{limit:,} of {number_of(relation.count)} shown (--rows all)", color)


def _columns_that_fit(
    names: Sequence[str],
    texts: Sequence[Sequence[str | None]],
    order: Sequence[int],
    most: int,
    room: int,
) -> dict[int, list[Any]]:
    """By place the columns that fit side by side, the first ones in an order, one at least; texts
    are cut to so many characters."""
    columns: dict[int, list[Any]] = {}
    used = 0
    for place in order:
        cells = [screen.visible(cell, most) for cell in texts[place]]
        used += max([len(names[place]), *(cell.cell_len for cell in cells)], default=0) + screen.GAP
        if used - screen.GAP > room and columns:
            break
        columns[place] = cells
    return columns


def explain(session: Session, color: bool) -> None:
    """Print the stages of a query with their row counts."""
    out = screen.console(color=color)
    out.print()
    out.print(
        rich_text.Text("row counts by stage, from the result down to the tables", style=screen.HEAD)
    )
    spilled = any(stage.spilled >= _MIB for stage in session.account.stages)
    lines = []
    for branch, stage in _branches(session.account.stages):
        disk = [f"{stage.spilled / _MIB:,.0f} MiB" if stage.spilled else ""] if spilled else []
        cells = [
            rich_text.Text().append(branch, style=screen.DIM).append(stage.stage),
            f"{stage.rows_in:,}",
            f"{stage.rows_out:,}",
            *disk,
        ]
        lines.append([*cells, rich_text.Text(stage.detail, style=screen.DIM)])
    screen.print_table(
        out,
        ["operator", "rows in", "out", *(["to disk"] if spilled else []), ""],
        lines,
        right=(1, 2, 3) if spilled else (1, 2),
    )
    if session.tables.came:
        out.print()
        out.print(rich_text.Text("what came from Spark to this machine", style=screen.HEAD))
        screen.print_table(out, ["table", "came"], list(map(list, session.tables.came)))


def _branches(account: Sequence[Stage]) -> Iterator[tuple[str, Stage]]:
    """The operators as a tree, each below the one that takes its rows, with the lines that lead to
    it; what stands below one that two take is drawn at the first."""
    taken = {place for stage in account for place in stage.inputs}
    drawn: set[int] = set()

    def draw(place: int, lead: str, below: str) -> Iterator[tuple[str, Stage]]:
        stage = account[place]
        if place in drawn:
            yield lead, dataclasses.replace(stage, detail="as above")
            return
        drawn.add(place)
        yield lead, stage
        for number, other in enumerate(stage.inputs):
            last = number == len(stage.inputs) - 1
            yield from draw(
                other, below + ("└ " if last else "├ "), below + ("  " if last else "│ ")
            )

    for root in reversed([place for place in range(len(account)) if place not in taken]):
        yield from draw(root, "", "")
