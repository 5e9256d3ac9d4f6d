"""The profile of a table: a state for each batch and column, an associative merge, then one more
pass over what only the whole could decide (texts of the winners, lists, forms, pairs of
columns)."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from datetime import date
from functools import partial
from typing import Any

from gravel.engine.distinct import range_size, range_top, whole_top
from gravel.engine.engine import Engine, Question
from gravel.engine.memory import DEFAULT_MEMORY, give_back_freed_blocks
from gravel.engine.parallel import ordered_map
from gravel.inspecting.commands import see_command
from gravel.language.types import TEXT, Type
from gravel.profiling.assembling import Assembly
from gravel.profiling.findings import findings
from gravel.profiling.result import Profile, SampleInfo
from gravel.profiling.sample import draw
from gravel.profiling.second_pass import FirstAnswers, SecondPass
from gravel.profiling.state import ROW, SHAPE, SHAPES, VALUE, TableState, gather, range_figures
from gravel.sources.source import Source

_BYTES_A_VALUE = 120  # as they are held, and while two parts are put together
_SHORT = 50_000


def profile(
    table: Source,
    *,
    today: date | None = None,
    memory: int = DEFAULT_MEMORY,
    sample: int | None = None,
) -> Profile:
    """Profile every column. `memory` bounds what distinct values are held in; `sample` looks at so
    many rows only, chosen evenly by a hash of their numbers. Raises TableProblem."""
    drawn = None if sample is None else draw(table, sample)
    read_from = drawn or table
    room = max(4, memory // _BYTES_A_VALUE)
    fixed = (i for i, name in enumerate(table.columns) if name in {*table.texts, *table.declared})
    width = range(len(table.columns))
    first = TableState(len(width), frozenset(fixed), room)
    read_from.engine.run(first, read_from)
    table.settle({i: state.fitting for i, state in enumerate(first.columns)})
    types = table.types(width)
    # Columns of few rows are work for the interpreter, of which there is one.
    threads = 1 if first.rows < _SHORT or not first.in_memory else None
    said = _ask_values(read_from.engine, first, types, threads)
    first.forget_values()
    if threads == 1:
        give_back_freed_blocks()
    second = SecondPass(table, read_from, first, said)
    second.run()
    day = today or date.today()
    assembly = Assembly(second)
    columns = tuple(ordered_map(lambda i: assembly.column(i, day), width, threads))
    facts = assembly.facts(columns)
    result = tuple(
        replace(item, see=see_command(table, item.where, item.finding) or None)
        for item in findings(columns, facts, first.rows)
    )
    message = None if drawn is None else SampleInfo(first.rows, drawn.of)
    return Profile(
        table.name,
        first.rows,
        facts,
        result,
        columns,
        tuple(first.malformed),
        tuple(table.notes),
        table.read_as,
        message,
        table.chosen,
    )


def _ask_values(
    engine: Engine, first: TableState, types: Mapping[int, Type], threads: int | None
) -> FirstAnswers:
    width = range(len(types))
    values: list[Question[Any, Any]] = [
        Question(
            first.distinct[VALUE, i],
            partial(range_figures, types[i] == TEXT),
            partial(gather, types[i] == TEXT, first.room.values),
        )
        for i in width
    ]
    shapes: list[Question[Any, Any]] = [
        Question(first.distinct[SHAPE, i], partial(range_top, SHAPES), partial(whole_top, SHAPES))
        for i in width
    ]
    rows: Question[Any, Any] = Question(first.distinct[ROW], range_size, sum)
    *answers, distinct_rows = engine.ask([*values, *shapes, rows], threads)
    return FirstAnswers(answers[: len(width)], answers[len(width) :], first.rows - distinct_rows)
