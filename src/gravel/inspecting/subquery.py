"""The values of a subquery, SELECT expression FROM table [WHERE condition], decided before the rows that ask for them."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.evaluate import run
from gravel.inspecting.binding import columns_named, frame_of, reads, scope_of
from gravel.language import tree
from gravel.language.bind import Given, bind
from gravel.language.diagnostics import Diagnostic
from gravel.language.errors import meaning, sqlstate
from gravel.language.types import Kind, Type
from gravel.problems import CallProblem, DataProblem
from gravel.tables.reference import open_table
from gravel.tables.table import Batch, scan


def members(query: tree.Query, text: str, base: Path | None = None) -> tuple[Type, Any, bool]:
    """The subquery's type, its distinct known values as an Arrow array, and whether a NULL is among them. Raises Diagnostic,
    TableProblem, DataProblem for the first row in which its expression fails."""
    selected, where, source = _plain(query, text)
    try:
        table = open_table(source.reference, base=base)
    except CallProblem as problem:
        raise Diagnostic(problem.message, text, source.start, source.end, hint=problem.hint) from None
    parts = [(selected, text), *([(where, text)] if where is not None else [])]
    scope = scope_of(table, columns_named(parts, table.columns), Given())
    expression = bind(selected, scope, text)
    condition = None if where is None else bind(where, scope, text)
    if condition is not None and condition.type.kind not in (Kind.BOOLEAN, Kind.NULL):
        raise Diagnostic(f"a condition is needed here, this is {condition.type}", text, condition.start, condition.end)

    def work(batch: Batch) -> tuple[Any, bool, tuple[int, int] | None]:
        frame, rows = frame_of(batch, scope), batch.rows
        if condition is not None:
            decided = run(condition, frame)
            failed = np.flatnonzero(decided.failed(batch.count))
            if len(failed) and decided.errors is not None:
                return None, False, (int(rows[failed[0]]), int(decided.errors[failed[0]]))
            kept = np.flatnonzero(decided.true(batch.count))
            frame, rows = frame.part(kept), rows[kept]
        made = run(expression, frame)
        failed = np.flatnonzero(made.failed(len(rows)))
        if len(failed) and made.errors is not None:
            return None, False, (int(rows[failed[0]]), int(made.errors[failed[0]]))
        return pc.unique(made.values.drop_null()), bool(made.values.null_count), None

    values, has_null = [pa.array([], expression.type.arrow)], False
    for found, null, fault in scan(table, work, reads([expression, *([condition] if condition is not None else [])], len(table.columns))):
        if fault is not None:
            code = sqlstate(fault[1])
            raise DataProblem(f"the subquery fails in row {fault[0]:,} of {table.name}: {code}, {meaning(code)}")
        values.append(found)
        has_null = has_null or null
    return expression.type, pc.unique(pa.chunked_array(values)), has_null


def _plain(query: tree.Query, text: str) -> tuple[tree.Node, tree.Node | None, tree.Table]:
    """The expression, condition and table of SELECT expression FROM table [WHERE condition]. Raises Diagnostic for more."""
    body = query.body
    simple = (
        isinstance(body, tree.Select) and len(body.items) == 1 and isinstance(body.items[0], tree.Named) and len(body.sources) == 1
        and isinstance(body.sources[0], tree.Table) and body.groups is None and body.having is None
        and not (query.withs or query.order or query.offset or query.fetch is not None)
    )  # fmt: skip
    if not simple or not isinstance(body, tree.Select):
        raise Diagnostic("a subquery here is SELECT expression FROM 'table' [WHERE condition]", text, query.start, query.end)
    item, source = body.items[0], body.sources[0]
    assert isinstance(item, tree.Named)
    assert isinstance(source, tree.Table)
    return item.expression, body.where, source
