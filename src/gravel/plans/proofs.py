"""The proofs of a run: each a claim that is checked by other means than those that made the
result."""

from __future__ import annotations

import hashlib
import math
from collections.abc import Sequence
from decimal import Decimal, localcontext
from fractions import Fraction
from functools import partial
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow.compute as pc

from gravel.engine.frame import Frame
from gravel.engine.hashing import combined
from gravel.engine.parallel import ordered_map
from gravel.engine.sets import member
from gravel.inspecting.aggregates import AggregatePartial, AggregateState, part_of
from gravel.kernels.arrays import to_arrow
from gravel.language.functions.casts import double_text
from gravel.language.types import Type
from gravel.ledger.checksum import BytePass
from gravel.plans.flow import Flow
from gravel.plans.keys import KeyPart, KeyState, key_part, key_values
from gravel.plans.ledger import Proof, StepLine
from gravel.plans.left import LEFT_COLUMNS
from gravel.plans.result_rows import text_table
from gravel.plans.steps import BoundPlan
from gravel.sinks.atomic_file import Output
from gravel.sinks.csv import header
from gravel.sources.source import Batch, Source, scan
from gravel.words import number_of


class Digest:
    """BLAKE2b over the hashes of rows in their order, however they are cut into batches."""

    def __init__(self) -> None:
        self._digest = hashlib.blake2b()

    def add(self, hashes: np.ndarray) -> None:
        """Take in the next rows' hashes."""
        self._digest.update(np.ascontiguousarray(hashes).data)

    @property
    def value(self) -> str:
        """The digest as hexadecimal text."""
        return self._digest.hexdigest()


def of_run(plan: BoundPlan, flow: Flow, lines: tuple[StepLine, ...]) -> list[Proof]:
    """What the pass over the source shows: its lines, each step's balance, expected row count, the
    key before."""
    again = BytePass()
    account = Proof(*plan.table.account(flow.rows_read, flow.malformed, flow.breaks, again.take))
    results = [account, *_same_input(flow, again), _balance(lines)]
    stated = [line for line in lines if line.rows is not None]
    if stated:
        missed = [line for line in stated if not line.stated_holds]
        message = "; ".join(
            f"step {line.step}: {line.count.rows_in:,} in, {line.count.rows_out:,} out"
            f" ({line.count.rows_out - line.count.rows_in:+,}), expected {line.rows}"
            for line in missed or stated
        )
        results.append(Proof("every step meets its expected rows", not missed, message))
    if plan.key:
        results.append(
            _key(
                plan.key,
                flow.keys,
                "before",
                plan.table,
                tuple(column.type for column in plan.source),
            )
        )
    return results


def _same_input(flow: Flow, now: BytePass) -> list[Proof]:
    """The input's bytes when it was read against those when all was done."""
    if flow.signing is None or flow.plan.table.snapshot:
        return []
    then = flow.signing.signature()
    same = now.saw_same(flow.signing.seen)
    detail = (
        f"{then.bytes:,} bytes, SHA-256 {then.sha256[:12]}…"
        if same
        else f"{then.bytes:,} bytes when it was read, {now.size:,} now"
    )
    return [
        Proof(
            "the input did not change while it was read",
            same,
            detail + ("" if same or then.bytes != now.size else ", and others"),
        )
    ]


def _balance(lines: tuple[StepLine, ...]) -> Proof:
    bad = [line for line in lines if not line.count.balances]
    joined = all(a.count.rows_out == b.count.rows_in for a, b in pairwise(lines))
    first, last = lines[0].count, lines[-1].count
    parts = [("added", 1), ("dropped", -1), ("merged", -1), ("set_aside", -1), ("failed", -1)]
    detail, result = f"{first.rows_in:,} in", first.rows_in
    for name, sign in parts:
        rows = sum(getattr(line.count, name) for line in lines)
        result += sign * rows
        if rows or name in ("dropped", "set_aside"):
            detail += f" {'+' if sign > 0 else '-'} {rows:,} {name.replace('_', ' ')}"
    detail += f" = {last.rows_out:,} out"
    if bad:
        detail = "; ".join(
            f"step {line.step} does not: {line.count.rows_in:,} in, {line.count.rows_out:,} out"
            for line in bad
        )
    return Proof("every step balances", not bad and joined and result == last.rows_out, detail)


def of_output(
    plan: BoundPlan,
    flow: Flow,
    output: Output,
    table: Source,
    seals: Digest,
    set_digest: Digest,
    left: tuple[Path, int] | None,
) -> list[Proof]:
    """What the written files show when they are opened again (the result as `table`): their rows,
    untouched columns and those that steps set, the key after, control totals. `seals` are those of
    the rows that came out, `set_digest` is of what steps made; `left`: the file of rejects, and how
    many it should have.
    """
    path, again = output.path, BytePass()
    types = tuple(column.type for column in plan.columns)
    totals = [total.places[-1] for total in plan.totals]
    places = [index for _, index in plan.untouched]

    def work(
        batch: Batch,
    ) -> tuple[int, int, list[np.ndarray | None], KeyPart | None, list[AggregatePartial | None]]:
        hashes = [
            combined([batch.columns[place] for place in subset]) if subset else None
            for subset in (places, plan.set_columns)
        ]
        key = (
            key_part([key_values(batch.columns[i], types[i]) for i in plan.key_after])
            if plan.key_after
            else None
        )
        frame = Frame(batch.count, batch.columns, types)
        parts = [None if bound is None else part_of(bound, frame, batch.rows) for bound in totals]
        return batch.count, len(batch.malformed), hashes, key, parts

    rows = bad = 0
    digests = Digest(), Digest()
    keys = KeyState()
    states = [None if bound is None else AggregateState(bound) for bound in totals]
    for count, malformed, hashes, key, parts in ordered_map(
        lambda piece: work(table.read(piece)), table.pieces(again.take)
    ):
        rows += count
        bad += malformed
        for digest, hashed in zip(digests, hashes, strict=True):
            if hashed is not None:
                digest.add(hashed)
        if key is not None:
            keys.add(key)
        for state, part in zip(states, parts, strict=True):
            if state is not None and part is not None:
                state.add(part)
    dialect = plan.dialect
    top = header(plan.names, dialect.delimiter, dialect.line_end)
    same_bytes = again.saw_same(output.signing.seen)
    same_file = (plan.keeps_arrow or _begins_with(path, top)) and same_bytes
    where = (
        "the result before it is stored" if plan.destination.kind != "text" else "the written file"
    )
    if (
        output.path.parent != output.target.parent
        and not output.special
        and plan.destination.kind == "text"
    ):
        where = "the file that would be written"
    detail = f"{number_of(rows)} counted in {where}, {flow.rows_out:,} in the ledger" + (
        f", {bad:,} malformed" if bad else ""
    )
    results = [
        Proof(
            "the output has the rows the ledger says",
            rows == flow.rows_out and bad == 0 and same_file,
            detail,
        )
    ]
    if left is not None:
        results.append(_left_rows(plan, *left))
    if plan.key_after:
        results.append(_key(plan.key_after, keys, "after", table, types))
    elif plan.no_key:
        results.append(Proof("there is no key to prove after", True, plan.no_key))
    claims = (
        "columns that no step touched hold the same values",
        "columns that steps made hold what they made",
    )
    for claim, subset, before, after in zip(
        claims, (places, plan.set_columns), (seals, set_digest), digests, strict=True
    ):
        if subset:
            results.append(_same_values(plan, claim, subset, before.value == after.value, rows))
    return results + [
        _total(total.text, total.sum, index, flow, states[index])
        for index, total in enumerate(plan.totals)
    ]


def _same_values(
    plan: BoundPlan, claim: str, places: Sequence[int], holds: bool, rows: int
) -> Proof:
    names = ", ".join(plan.names[place] for place in places[:8]) + (" …" if len(places) > 8 else "")
    counted = f"{number_of(len(places), 'column')} ({names}), {number_of(rows)}"
    return Proof(claim, holds, counted if holds else f"some value of {names} differs")


def _total(text: str, is_sum: bool, index: int, flow: Flow, state: AggregateState | None) -> Proof:
    """A sum at the start is that of the output and of the rejects; any other figure is
    only told."""
    first = flow.totals[0][index]
    begun = None if first is None else first.result()
    ended = None if state is None else state.result()
    if not is_sum:
        return Proof(
            f"the total {text}, told only",
            True,
            f"{_figure(begun)} at the start, {_figure(ended)} in the output",
        )
    behind = flow.left_totals[index].result()
    aside = "none" if behind is None else _figure(behind)
    detail = (
        f"{_figure(begun)} at the start, {_figure(ended)} in the output, {aside} in the rejects"
    )
    if state is None:
        return Proof(
            f"the control total of {text} reconciles",
            False,
            detail + ": a step has taken away what it reads",
        )
    claim = f"the control total of {text} reconciles"
    before = Fraction(0) if first is None else first.exact_sum()
    after, left = state.exact_sum(), flow.left_totals[index].exact_sum()
    if before is None or after is None or left is None:
        return Proof(claim, False, detail + ": a value is not finite, so a sum shows nothing")
    surplus = after + left - before
    if surplus:
        detail += f" ({_surplus(surplus, begun, ended, behind)} too many)"
    return Proof(claim, not surplus, detail)


def _surplus(surplus: Fraction, *totals: Any) -> str:
    """What there is too much of, in the type of the totals that it stands between."""
    if any(isinstance(total, float) for total in totals):
        return _figure(float(surplus)).replace("-", "−")
    with localcontext(prec=100):
        exact = Decimal(surplus.numerator) / Decimal(surplus.denominator)
    return _figure(exact).replace("-", "−")


def _figure(value: Any) -> str:
    if value is None:
        return "NULL"
    if isinstance(value, float) and not math.isfinite(value):
        return double_text(value)
    return f"{value:,f}" if isinstance(value, Decimal) else f"{value:,}"


def _left_rows(plan: BoundPlan, path: Path, count: int) -> Proof:
    table = text_table(plan, path, (*LEFT_COLUMNS, *plan.left_names), path.name)
    rows = sum(scan(table, lambda batch: batch.count, []))
    detail = f"{number_of(rows)} counted in the file of rejects, {count:,} in the ledger"
    return Proof("the rejects are all there", rows == count, detail)


def _begins_with(path: Path, top: bytes) -> bool:
    with open(path, "rb") as file:
        return file.read(len(top)) == top


def _key(
    columns: tuple[int, ...], state: KeyState, when: str, table: Source, types: tuple[Type, ...]
) -> Proof:
    """Different hashes prove different keys; equal ones are looked up and compared by value."""
    name = f"the key ({', '.join(table.columns[i] for i in columns)}) is unique and not null {when}"
    nulls, twice = state.nulls, state.repeated()
    repeated = _repeated(columns, table, types, twice) if len(twice) else {}
    problems = [f"{number_of(nulls)} with NULL in the key"] if nulls else []
    if repeated:
        key, rows = next(iter(repeated.items()))
        shown = ", ".join("NULL" if value is None else str(value) for value in key)
        where = "rows" if when == "before" else "rows of the output"
        subset = ", ".join(f"{row:,}" for row in rows[:5]) + (" …" if len(rows) > 5 else "")
        count = len(repeated)
        problems.append(
            f"{count:,} {'key' if count == 1 else 'keys'} in {sum(map(len, repeated.values())):,}"
            f" rows, such as {shown} in {where} {subset}"
        )
    detail = (
        "; ".join(problems) or f"{number_of(state.rows)}, {number_of(state.rows, 'different key')}"
    )
    return Proof(name, not problems, detail)


def _repeated(
    columns: tuple[int, ...], table: Source, types: tuple[Type, ...], twice: np.ndarray
) -> dict[tuple[Any, ...], list[int]]:
    """The keys that more than one row has, by value, with their rows."""
    results: dict[tuple[Any, ...], list[int]] = {}
    work = partial(_keys_among, columns, types, np.sort(twice))
    for part in scan(table, work, sorted(columns)):
        for key, row in part:
            results.setdefault(key, []).append(row)
    return {key: rows for key, rows in results.items() if len(rows) > 1}


def _keys_among(
    columns: tuple[int, ...], types: tuple[Type, ...], twice: np.ndarray, batch: Batch
) -> list[tuple[tuple[Any, ...], int]]:
    """The keys of a batch that have one of some hashes, with their rows."""
    values = [key_values(batch.columns[i], types[i]) for i in columns]
    known = np.ones(batch.count, bool)
    for column in values:
        known &= pc.is_valid(column).to_numpy(zero_copy_only=False)
    hit = np.flatnonzero(member(combined(values), twice) & known)
    cells = [column.take(to_arrow(hit)).to_pylist() for column in values]
    return list(zip(zip(*cells, strict=True), batch.rows[hit].tolist(), strict=True))
