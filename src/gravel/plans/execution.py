"""The first phase of a run: the rows go through the steps, and what comes out is laid down beside
its target."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from msgspec import Struct

from gravel.engine.hashing import combined
from gravel.ledger.checksum import ChecksumStream
from gravel.ledger.fingerprint import Content
from gravel.plans.destination import IN_PLACE
from gravel.plans.flow import Flow
from gravel.plans.left import LEFT_COLUMNS, packed
from gravel.plans.proofs import Digest
from gravel.plans.result_rows import TextLayout, TypedLayout, lay_down
from gravel.plans.rows import TrackedRows
from gravel.plans.steps import BoundPlan
from gravel.plans.wish import Wish
from gravel.sinks.atomic_file import Output
from gravel.sinks.csv import header


class RejectsFile:
    """The file of rejected rows, made when the first one comes: those of one stage after another,
    whichever are ready first. `aside`: a folder for those of later stages until then."""

    def __init__(self, plan: BoundPlan, scratch: Path | None, aside: Path) -> None:
        self.plan, self.scratch, self.aside = plan, scratch, aside
        self.file: Output | None = None
        self._later: dict[int, Output] = {}
        self._names = plan.left_names
        self.pack = partial(packed, names=self._names, dialect=plan.dialect)

    def add(self, stage: int, data: bytes) -> None:
        file = self.begin()
        if stage:
            if stage not in self._later:
                path = self.aside / f"rejects-{stage}.csv"
                self._later[stage] = Output(path, self.plan.rejects.name)
            file = self._later[stage]
        file.write(data)

    def begin(self) -> Output:
        if self.file is None:
            dialect = self.plan.dialect
            self.file = Output(
                self.plan.rejects, self.plan.rejects.name, self.scratch, self.plan.target
            )
            self.file.write(
                header((*LEFT_COLUMNS, *self._names), dialect.delimiter, dialect.line_end)
            )
        return self.file

    def needed(self) -> None:
        """The file, though no row came."""
        if self.file is None:
            self.begin().close()

    def close(self) -> None:
        if self.file is None:
            return
        for _, later in sorted(self._later.items()):
            later.close()
            with open(later.path, "rb") as rows:
                while data := rows.read(1 << 22):
                    self.file.write(data)
        self.file.close()

    def discard(self) -> None:
        for later in self._later.values():
            later.discard()
        if self.file is not None:
            self.file.discard()


class FinishedRows(Struct, frozen=True):
    """A batch at its end: as it is laid down, its rows' seals, a hash of what steps made of each
    row, and their numbers where the table is changed in place."""

    laid_down: Any
    seals: np.ndarray | None
    set_hashes: np.ndarray | None
    numbers: np.ndarray | None


class Finish(Struct, frozen=True):
    """What is made of a batch at its end, by the layout of what the rows are for; without one they
    are not laid down. `set_columns`: those that steps made."""

    layout: TextLayout | TypedLayout | None
    set_columns: tuple[int, ...]
    numbered: bool

    def __call__(self, rows: TrackedRows) -> FinishedRows:
        """The batch, finished."""
        numbers = rows.numbers if self.numbered else None
        if self.layout is None:
            return FinishedRows(None, rows.seals, None, numbers)
        laid_down, columns = self.layout(rows, self.set_columns)
        return FinishedRows(laid_down, rows.seals, combined(columns) if columns else None, numbers)


class Execution:
    """A plan's rows on their way: the flow through its steps, what it lays down and the rows that
    it rejects. Nothing stands in its place before it is published."""

    def __init__(self, plan: BoundPlan, wish: Wish, scratch: Path) -> None:
        self.plan, self.wish, self.scratch = plan, wish, scratch
        to = plan.destination
        # What is not written in text is laid down and proved first, then stored, read back and
        # compared.
        if to.kind == "text":
            self.output = Output(plan.target, to.shown, None if wish.writes else scratch)
        else:
            name = "rows.arrow" if plan.keeps_arrow else "rows.csv"
            self.output = Output(scratch / name, to.shown)
        apart = scratch if not wish.writes or to.left_table else None
        self.rejects = RejectsFile(plan, apart, scratch)
        self.seals, self.set_digest = Digest(), Digest()
        self.numbers: list[np.ndarray] = []  # of the source rows, where the table is changed
        self.rows = lay_down(plan, self.output)
        self.flow = Flow(
            plan,
            Finish(self.rows.layout if wish.whole else None, plan.set_columns, to.kind == IN_PLACE),
            self.rejects.pack,
            self.rejects.add,
            wish.memory,
            wish.until,
            wish.sample,
        )
        self.flow.signing = ChecksumStream() if wish.sample is None else None
        self.flow.content = Content() if plan.table.snapshot else None

    def execute(self) -> None:
        """Read every row, take it through the steps, and lay it down."""
        for finished in self.flow.run():
            if finished.laid_down is not None:
                self.rows.write(finished.laid_down)
            if finished.seals is not None:
                self.seals.add(finished.seals)
            if finished.set_hashes is not None:
                self.set_digest.add(finished.set_hashes)
            if finished.numbers is not None:
                self.numbers.append(finished.numbers)
        self.rows.close()
        self.rejects.close()

    def discard(self) -> None:
        """Take away what was not published."""
        self.output.discard()
        self.rejects.discard()
