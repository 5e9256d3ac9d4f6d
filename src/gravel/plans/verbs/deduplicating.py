"""`deduplicate`: one row of each group that is equal in all of some expressions; what it lacks may
be filled from the others."""

from __future__ import annotations

from functools import partial
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.arrangement import HASH, PLACE, GroupedRows, with_columns
from gravel.engine.evaluate import run
from gravel.engine.frame import Frame, view
from gravel.engine.hashing import combined
from gravel.engine.row_codes import codes_of
from gravel.engine.sets import member
from gravel.inspecting.cautions import Watch
from gravel.inspecting.look import sort_order
from gravel.kernels.arrays import to_arrow
from gravel.language import nodes
from gravel.plans.binder import Binder, SqlFragment, touched
from gravel.plans.errors import settle
from gravel.plans.ledger import ExitKind, StepCount
from gravel.plans.model import Step
from gravel.plans.rows import TrackedRows, samples
from gravel.plans.steps import (
    BoundStep,
    Context,
    Left,
    Outcome,
    PlanColumn,
    Prepared,
    TableAction,
    left,
)
from gravel.plans.verbs.kind import StepKind
from gravel.plans.verbs.sorting import ASCENDING, Keys, as_list, evaluated, sortable


class DeduplicateStep(StepKind):
    """`deduplicate`: one row of each group."""

    def sql_fragments(self, step: Step) -> list[SqlFragment]:
        """What rows are grouped by, and preferred by."""
        assert step.deduplicate is not None
        results = [
            SqlFragment(("deduplicate", "by", index), "expression", text)
            for index, text in enumerate(step.deduplicate.by)
        ]
        prefer = step.deduplicate.prefer
        paths = [
            ("deduplicate", "prefer")
            if isinstance(prefer, str)
            else ("deduplicate", "prefer", index)
            for index in range(len(as_list(prefer)))
        ]
        return results + [
            SqlFragment(path, "sort", text)
            for path, text in zip(paths, as_list(prefer), strict=True)
        ]

    def columns_read(self, step: Step) -> list[str]:
        """All columns, whose values are compared."""
        assert step.deduplicate is not None
        return ["*"]  # rows that are merged may disagree in any

    def bind(self, binder: Binder) -> tuple[UniqueAction, tuple[PlanColumn, ...], Watch]:
        """Expressions and keys bound, columns found."""
        how = binder.step.deduplicate
        assert how is not None
        by = []
        for place, text in enumerate(how.by):
            bound = binder.expression(text, "deduplicate", "by", place)
            if bound is not None:
                by.append((text, bound))
        keys: list[Any] = []
        for place, text in enumerate(as_list(how.prefer)):
            path = (
                ("deduplicate", "prefer")
                if isinstance(how.prefer, str)
                else ("deduplicate", "prefer", place)
            )
            keys += [(key, bound, text) for key, bound in binder.sort(text, *path)]
        every = range(len(binder.columns))
        fill = [] if how.fill is False else list(every)
        if isinstance(how.fill, list):
            results = [
                binder.column(name, "deduplicate", "fill", position)
                for position, name in enumerate(how.fill)
            ]
            fill = [position for position in results if position is not None]
        read = {column.index for _, item in by for column in nodes.columns_read(item)}
        read |= {column.index for _, item, _ in keys for column in nodes.columns_read(item)}
        key = {
            position for position in every if binder.columns[position].name in binder.plan.model.key
        }
        compared = [position for position in every if position not in read | key]
        columns = tuple(
            touched(column) if position in fill else column
            for position, column in enumerate(binder.columns)
        )
        return (
            UniqueAction(tuple(by), tuple(keys), tuple(fill), tuple(compared), how.conflicts),
            columns,
            Watch([]),
        )


class UniqueAction(TableAction, frozen=True):
    """by: what rows of one group are equal in; keys: which row of a group stays; fill: columns that
    it takes known values for; compared: columns in which a group may disagree."""

    by: tuple[tuple[str, nodes.Expression], ...]
    keys: Keys
    fill: tuple[int, ...]
    compared: tuple[int, ...]
    conflicts: str

    def prepare(self, step: BoundStep, rows: TrackedRows) -> Prepared:
        """The rows with what they are grouped and preferred by, and a hash of the first. Those that
        are in no group have any hash."""
        count, gone = StepCount(), list[Left]()
        concerned = None
        if step.only is not None:
            decided = run(step.only, rows.frame())
            stays = settle(step, rows, [("only", step.only_text, step.only, decided)], count, gone)
            concerned = decided.true(rows.count)[stays]
            rows.keep(stays)
            count.not_concerned += int((~concerned).sum())
        rows.marks = np.arange(rows.count)
        if concerned is None or concerned.all():
            grouped, by, prefer = rows, *self._values(step, rows, count, gone)
        else:
            grouped = rows.take(np.flatnonzero(concerned))
            by, prefer = self._values(step, grouped, count, gone)
            assert grouped.marks is not None
            back = np.full(rows.count, -1)
            back[grouped.marks] = np.arange(grouped.count)
            stays = ~concerned | (back >= 0)
            rows.keep(stays)
            chosen = to_arrow(back[stays], mask=back[stays] < 0)
            by, prefer = ([item.take(chosen) for item in values] for values in (by, prefer))
        rows.marks = None
        single = _any_null(by, rows.count)
        alone = int(single.sum()) - (rows.count - grouped.count)
        count.noted["rows with NULL in what they are grouped by stay"] += alone
        hashed = combined(by) if rows.count else np.zeros(0, np.uint64)
        spread = combined([to_arrow(rows.numbers)]) if single.any() else hashed
        extra = {HASH: to_arrow(np.where(single, spread, hashed)), "single": to_arrow(single)}
        extra |= {f"b{index}": value for index, value in enumerate(by)}
        extra |= {f"p{index}": value for index, value in enumerate(prefer)}
        return Prepared(with_columns(rows.batch(), extra), count, gone)

    def _values(
        self, step: BoundStep, rows: TrackedRows, count: StepCount, gone: list[Left]
    ) -> tuple[list[pa.Array], list[pa.Array]]:
        frame = rows.frame()
        results = [("", text, item, run(item, frame).spread(rows.count)) for text, item in self.by]
        stays = settle(step, rows, results, count, gone)
        by = [
            sortable(vector.values if stays.all() else vector.values.filter(to_arrow(stays)))
            for *_, vector in results
        ]
        rows.keep(stays)
        marks = rows.marks
        assert marks is not None
        prefer = [sortable(item) for item in evaluated(step, rows, self.keys, count, gone)]
        assert rows.marks is not None
        if rows.count != len(marks):
            kept = to_arrow(member(marks, np.sort(rows.marks)))
            by = [item.filter(kept) for item in by]
        return by, prefer

    def arrangement(self, step: BoundStep, context: Context) -> GroupedRows:
        """Group by group."""
        return GroupedRows(partial(self._decided, step))

    def _decided(
        self, step: BoundStep, batch: pa.RecordBatch
    ) -> tuple[pa.RecordBatch, tuple[int, StepCount]]:
        """Rows of whole groups with their survivors filled, `into` (the path of the row that each
        was merged into), `why`, `apart` (set aside for a conflict), and which columns were
        filled."""
        rows, count = TrackedRows.of_batch(batch, step.types), StepCount()
        named = dict(zip(batch.schema.names, batch.columns, strict=True))
        total = rows.count
        into, apart = np.full(total, -1), np.zeros(total, bool)
        filled = {index: np.zeros(total, bool) for index in self.fill}
        hashed, single = named[HASH].to_numpy(), named["single"].to_numpy(zero_copy_only=False)
        subset = _repeated(hashed, ~single)
        message = pa.nulls(total, pa.string())
        if len(subset):
            by = [named[f"b{index}"].take(to_arrow(subset)) for index in range(len(self.by))]
            codes, _ = codes_of(by, len(subset))
            keys = [named[f"p{index}"].take(to_arrow(subset)) for index in range(len(self.keys))]
            order = sort_order(
                [to_arrow(codes), *keys, named[PLACE].take(to_arrow(subset))],
                [ASCENDING, *(key for key, *_ in self.keys), ASCENDING],
            )
            # All rows of the groups: each group's first one survives.
            places, groups = subset[order], codes[order]
            starts = np.flatnonzero(np.r_[True, groups[1:] != groups[:-1]])
            sizes = np.diff(np.r_[starts, len(groups)])
            count.noted["groups of several rows"] += int((sizes > 1).sum())
            disagree, columns = self._conflicts(rows, places, starts, sizes, count)
            if self.keys:
                count.tied += int((_tied(keys, order, starts, sizes) & disagree).sum())
            merged = np.ones(len(places), bool)
            merged[starts] = False
            bad = np.repeat(disagree, sizes)
            if self.conflicts == "count":
                bad[:] = False
            into[places[merged & ~bad]] = np.repeat(places[starts], sizes)[merged & ~bad]
            apart[places[bad]] = True
            self._fill(rows, places, starts, sizes, bad, filled)
            message = self._reasons(by, order, places, total)
            if self.conflicts == "set aside" and disagree.any():
                every = [step.before[column].name for column in columns]
                which = [
                    ", ".join(name for name, apart_ in zip(every, bits, strict=True) if apart_)
                    for bits in zip(*columns.values(), strict=True)
                ]
                words = pa.array(
                    [f" disagree in {names}" if names else "" for names in which], pa.string()
                )
                back = np.full(total, -1)
                back[places] = np.repeat(np.arange(len(starts)), sizes)
                chosen = words.take(to_arrow(np.maximum(back, 0), mask=back < 0)).fill_null("")
                message = pc.binary_join_element_wise(message, chosen, "")
        paths = rows.paths()
        survivor = paths.take(to_arrow(np.maximum(into, 0), mask=into < 0)) if total else paths
        verdict = {"into": survivor, "why": message, "apart": to_arrow(apart), PLACE: named[PLACE]}
        verdict |= {f"f{index}": to_arrow(mask) for index, mask in filled.items()}
        return with_columns(rows.batch(), verdict), (step.number, count)

    def _conflicts(
        self,
        rows: TrackedRows,
        places: np.ndarray,
        starts: np.ndarray,
        sizes: np.ndarray,
        count: StepCount,
    ) -> tuple[np.ndarray, dict[int, np.ndarray]]:
        """Which groups have more than one known value in some compared column, and in each such
        column."""
        result, columns = np.zeros(len(starts), bool), {}
        groups = np.repeat(np.arange(len(starts)), sizes)
        for index in self.compared:
            stored = rows.stored[index].take(to_arrow(places))
            output = view(stored, rows.types[index])
            values = (
                rows.text(index).take(to_arrow(places))
                if output.errors is not None
                else output.values
            )
            known = pc.is_valid(values).to_numpy(zero_copy_only=False)
            if not known.any():
                continue
            codes, _ = codes_of([values], len(values))
            least, most = np.full(len(starts), np.iinfo(np.int64).max), np.full(len(starts), -1)
            np.minimum.at(least, groups[known], codes[known])
            np.maximum.at(most, groups[known], codes[known])
            apart = most > least
            result |= apart
            count.conflicts[index] += int(apart.sum())
            columns[index] = apart
        count.noted["groups whose known values disagree"] += int(result.sum())
        return result, columns

    def _fill(
        self,
        rows: TrackedRows,
        places: np.ndarray,
        starts: np.ndarray,
        sizes: np.ndarray,
        bad: np.ndarray,
        filled: dict[int, np.ndarray],
    ) -> None:
        """Give each survivor the first known value of its group where it has NULL."""
        groups = np.repeat(np.arange(len(starts)), sizes)
        for index in self.fill:
            column = rows.stored[index]
            known = pc.is_valid(column).to_numpy(zero_copy_only=False)[places] & ~bad
            which, first = np.unique(groups[known], return_index=True)
            donors, survivors = places[known][first], places[starts[which]]
            differs = donors != survivors
            if not differs.any():
                continue
            source = np.arange(rows.count)
            source[survivors[differs]] = donors[differs]
            rows.stored[index] = column.take(to_arrow(source))
            rows._texts.pop(index, None)
            filled[index][survivors[differs]] = True

    def _reasons(
        self, by: list[pa.Array], order: np.ndarray, places: np.ndarray, total: int
    ) -> pa.Array:
        """What the rows of a group are equal in, with the values, as a text for each."""
        message = []
        frame = Frame(
            len(order),
            [item.take(to_arrow(order)) for item in by],
            [item.type for _, item in self.by],
        )
        for index, (text, _) in enumerate(self.by):
            message.append(
                pc.binary_join_element_wise(f"{' '.join(text.split())} = ", frame.text(index), "")
            )
        reasons = message[0] if len(message) == 1 else pc.binary_join_element_wise(*message, ", ")
        back = np.full(total, -1)
        back[places] = np.arange(len(places))
        return reasons.take(to_arrow(np.maximum(back, 0), mask=back < 0))

    def conclude(self, step: BoundStep, rows: pa.RecordBatch, first: int) -> Outcome:
        """The survivors; the others leave."""
        result, count, gone = TrackedRows.of_batch(rows, step.types), StepCount(), list[Left]()
        into, why = rows.column("into"), rows.column("why")
        merged = pc.is_valid(into).to_numpy(zero_copy_only=False)
        aside = rows.column("apart").to_numpy(zero_copy_only=False)
        self._count_filled(step, result, rows, count)
        count.merged += int(merged.sum())
        if aside.any():
            if self.conflicts == "error":
                count.failed += int(aside.sum())
                count.why = 'known values of a group disagree, and conflicts is "error"'
            else:
                count.set_aside += int(aside.sum())
                where = np.flatnonzero(aside)
                message = pc.binary_join_element_wise("rows with ", why.take(to_arrow(where)), "")
                gone.append(left(step, result, where, ExitKind.SET_ASIDE, message))
        if merged.any():
            where = np.flatnonzero(merged)
            reasons, survivors = (column.take(to_arrow(where)) for column in (why, into))
            gone.append(left(step, result, where, ExitKind.MERGED, reasons, into=survivors))
        result.keep(~merged & ~aside)
        return Outcome(result, count, gone)

    def _count_filled(
        self, step: BoundStep, rows: TrackedRows, told: pa.RecordBatch, count: StepCount
    ) -> None:
        changed = np.zeros(rows.count, bool)
        for index in self.fill:
            mask = told.column(f"f{index}").to_numpy(zero_copy_only=False)
            if mask.any():
                changed |= mask
                count.filled[index] += int(mask.sum())
                nothing = pa.nulls(rows.count, pa.string())
                examples = samples(rows, mask, nothing, rows.text(index))
                count.changes[step.before[index].name] = examples
        count.changed += int(changed.sum())


def _tied(
    keys: list[pa.Array], order: np.ndarray, starts: np.ndarray, sizes: np.ndarray
) -> np.ndarray:
    """The groups whose first two rows are preferred alike, so that only their order in the table
    decides."""
    codes, _ = codes_of([key.take(to_arrow(order)) for key in keys], len(order))
    second = np.minimum(starts + 1, len(order) - 1)
    tied: np.ndarray = (sizes > 1) & (codes[starts] == codes[second])
    return tied


def _any_null(values: list[pa.Array], count: int) -> np.ndarray:
    null = np.zeros(count, bool)
    for value in values:
        if value.null_count:
            null |= pc.is_null(value).to_numpy(zero_copy_only=False)
    return null


def _repeated(hashed: np.ndarray, grouped: np.ndarray) -> np.ndarray:
    """The places, among those that are grouped, whose hash another one has too."""
    places = np.flatnonzero(grouped)
    order = places[np.argsort(hashed[places], kind="stable")]
    ordered = hashed[order]
    alike = ordered[1:] == ordered[:-1]
    subset: np.ndarray = (
        np.sort(order[np.r_[alike, False] | np.r_[False, alike]]) if len(order) else order
    )
    return subset
