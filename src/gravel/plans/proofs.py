"""The proofs of a run: each a claim that is checked by other means than those that made the result."""

from __future__ import annotations

from itertools import pairwise
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.hashing import combined
from gravel.plans.ledger import Proof, StepLine
from gravel.plans.steps import BoundPlan
from gravel.plans.work import ColumnBytes, Digest, KeyPart, column_bytes, key_part, key_values
from gravel.tables.csv import CsvTable
from gravel.tables.csv.dialect import Dialect, line_breaks
from gravel.tables.csv.writer import header
from gravel.tables.table import Batch, scan

if TYPE_CHECKING:
    from gravel.plans.run import _Totals


def of_run(plan: BoundPlan, total: _Totals, lines: tuple[StepLine, ...]) -> list[Proof]:
    """What the pass over the source shows: its lines, each step's balance, stated row counts, the key before."""
    found = [_lines(plan, total), _balance(lines)]
    stated = [line for line in lines if line.stated is not None]
    if stated:
        missed = [line for line in stated if not line.stated_holds]
        told = "; ".join(
            f"step {line.step}: {line.count.rows_in:,} in, {line.count.rows_out:,} out"
            f" ({line.count.rows_out - line.count.rows_in:+,}), stated {line.stated}"
            for line in missed or stated
        )
        found.append(Proof("every step meets its stated rows", not missed, told))
    if plan.key:
        found.append(_key(plan, total.keys, "before", plan.table, plan.source_types))
    return found


def _lines(plan: BoundPlan, total: _Totals) -> Proof:
    """Line ends counted in the file's bytes, against records, header and line breaks inside values."""
    in_file = plan.table.count_lines()
    inside = total.value_breaks + sum(line_breaks(one.text.encode()) for one in total.malformed)
    header_lines = plan.table.dialect.lines
    told = header_lines + total.rows + len(total.malformed) + inside
    detail = f"{in_file:,} lines = {header_lines} header + {total.rows:,} rows"
    detail += f" + {len(total.malformed):,} malformed" if total.malformed else ""
    detail += f" + {inside:,} line break{'' if inside == 1 else 's'} inside values" if inside else ""
    if told != in_file:
        detail += f" ({told - in_file:+,})"
    return Proof("every line of the file is accounted for", told == in_file, detail)


def _balance(lines: tuple[StepLine, ...]) -> Proof:
    bad = [line for line in lines if not line.count.balances]
    joined = all(a.count.rows_out == b.count.rows_in for a, b in pairwise(lines))
    first, last = lines[0].count, lines[-1].count
    gone = sum(line.count.dropped for line in lines), sum(line.count.set_aside for line in lines)
    stopped = sum(line.count.stopped for line in lines)
    detail = f"{first.rows_in:,} in - {gone[0]:,} dropped - {gone[1]:,} set aside"
    detail += f" - {stopped:,} failed" if stopped else ""
    detail += f" = {last.rows_out:,} out"
    if bad:
        detail = "; ".join(f"step {line.step} does not: {line.count.rows_in:,} in, {line.count.rows_out:,} out" for line in bad)
    holds = not bad and joined and first.rows_in - sum(gone) - stopped == last.rows_out
    return Proof("every step balances", holds, detail)


def of_output(plan: BoundPlan, total: _Totals, path: Path) -> list[Proof]:
    """What the written file shows when it is opened again: its rows, untouched columns, the key after."""
    before = plan.table.dialect
    top = header(plan.names, before.delimiter, before.line_end)
    dialect = Dialect(before.delimiter, "utf-8", plan.names, len(top), line_breaks(top), 0, before.line_end)
    written = CsvTable(path, plan.file.model.write, dialect=dialect)
    untouched = [index for index in range(len(plan.table.columns)) if index not in plan.touched]
    wanted = sorted({*untouched, *plan.key})

    def work(batch: Batch) -> tuple[int, int, dict[int, ColumnBytes], KeyPart | None]:
        parts = {index: column_bytes(batch.columns[index]) for index in untouched}
        key = key_part([key_values(batch.columns[i], plan.types[i]) for i in plan.key]) if plan.key else None
        return batch.count, len(batch.malformed), parts, key

    rows = bad = 0
    digests: dict[int, Digest] = {}
    keys: list[KeyPart] = []
    for count, malformed, part, key in scan(written, work, wanted):
        for index, one in part.items():
            digests.setdefault(index, Digest()).add(one)
        rows += count
        bad += malformed
        if key is not None:
            keys.append(key)
    same_head = _begins_with(path, top)
    detail = f"{rows:,} rows counted in the written file, {total.rows_out:,} in the ledger" + (f", {bad:,} malformed" if bad else "")
    found = [Proof("the output has the rows the ledger says", rows == total.rows_out and bad == 0 and same_head, detail)]
    if plan.key:
        found.append(_key(plan, keys, "after", written, plan.types))
    different = [plan.table.columns[index] for index in untouched if _value(digests.get(index)) != _value(total.digests.get(index))]
    if untouched:
        names = ", ".join(plan.table.columns[index] for index in untouched[:8]) + (" …" if len(untouched) > 8 else "")
        told = f"{len(untouched)} columns ({names})" if len(untouched) > 1 else f"1 column ({names})"
        detail = f"{', '.join(different)} differ" if different else f"{told}, {rows:,} rows"
        found.append(Proof("columns that no step touched hold the same values", not different, detail))
    return found


def _value(digest: Digest | None) -> str:
    return (digest or Digest()).value


def _begins_with(path: Path, top: bytes) -> bool:
    with open(path, "rb") as file:
        return file.read(len(top)) == top


def _key(plan: BoundPlan, parts: list[KeyPart], when: str, table: CsvTable, types: tuple[Any, ...]) -> Proof:
    """Different hashes prove different keys; equal ones are looked up and compared by value."""
    name = f"the key ({', '.join(plan.names[i] for i in plan.key)}) is unique and not null {when}"
    nulls = sum(part.nulls for part in parts)
    every = np.concatenate([part.hashes for part in parts]) if parts else np.zeros(0, np.uint64)
    every.sort()
    twice = np.unique(every[1:][every[1:] == every[:-1]])
    repeated = _repeated(plan, table, types, twice) if len(twice) else {}
    problems = [f"{nulls:,} rows with NULL in the key"] if nulls else []
    if repeated:
        key, rows = next(iter(repeated.items()))
        shown = ", ".join("NULL" if value is None else str(value) for value in key)
        where = "rows" if when == "before" else "rows of the output"
        some = ", ".join(f"{row:,}" for row in rows[:5]) + (" …" if len(rows) > 5 else "")
        count = len(repeated)
        problems.append(
            f"{count:,} {'key' if count == 1 else 'keys'} in {sum(map(len, repeated.values())):,} rows, such as {shown} in {where} {some}"
        )
    detail = "; ".join(problems) or f"{len(every):,} rows, {len(every):,} different keys"
    return Proof(name, not problems, detail)


def _repeated(plan: BoundPlan, table: CsvTable, types: tuple[Any, ...], twice: np.ndarray) -> dict[tuple[Any, ...], list[int]]:
    """The keys that more than one row has, by value, with their rows."""
    found: dict[tuple[Any, ...], list[int]] = {}

    def work(batch: Batch) -> list[tuple[tuple[Any, ...], int]]:
        columns = [key_values(batch.columns[i], types[i]) for i in plan.key]
        known = np.ones(batch.count, bool)
        for column in columns:
            known &= pc.is_valid(column).to_numpy(zero_copy_only=False)
        hit = np.flatnonzero(np.isin(combined(columns), twice) & known)
        values = [column.take(pa.array(hit)).to_pylist() for column in columns]
        return list(zip(zip(*values, strict=True), batch.rows[hit].tolist(), strict=True))

    for part in scan(table, work, sorted(plan.key)):
        for key, row in part:
            found.setdefault(key, []).append(row)
    return {key: rows for key, rows in found.items() if len(rows) > 1}
