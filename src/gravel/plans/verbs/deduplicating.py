"""`deduplicate`: one row of each group that is equal in all of some expressions; what it lacks may
be filled from the others."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.evaluate import run
from gravel.engine.external import OUT, sorted_batches
from gravel.engine.frame import Frame, view
from gravel.engine.hashing import combined
from gravel.engine.row_codes import codes_of
from gravel.inspecting.cautions import Watch
from gravel.inspecting.look import sort_order
from gravel.language import nodes, tree
from gravel.plans.binder import Binder, SqlFragment, touched
from gravel.plans.errors import settle
from gravel.plans.ledger import ExitKind, StepCount, differing
from gravel.plans.model import Step
from gravel.plans.rows import TrackedRows, samples
from gravel.plans.steps import BoundStep, Context, Left, PlanColumn, TableAction, left
from gravel.plans.verbs.sorting import Keys, as_list, evaluated, sortable, with_columns
from gravel.plans.verbs.step_kind import StepKind

_ASCENDING = tree.SortKey(0, 0, tree.Name(0, 0, ""), False, None)


class DeduplicateStep(StepKind):
    """`deduplicate`: one row of each group."""

    whole_table = True

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


@dataclass(frozen=True)
class UniqueAction(TableAction):
    """by: what rows of one group are equal in; keys: which row of a group stays; fill: columns that
    it takes known values for; compared: columns in which a group may disagree."""

    by: tuple[tuple[str, nodes.Expression], ...]
    keys: Keys
    fill: tuple[int, ...]
    compared: tuple[int, ...]
    conflicts: str

    def apply(
        self, step: BoundStep, batches: Iterable[TrackedRows], context: Context
    ) -> Iterator[TrackedRows]:
        """See TableAction. In memory at once where it fits; else sorted by a hash of what is
        grouped by, decided group by group, and sorted back."""
        keyed = self._keyed(step, batches, context)
        held: list[Any] = []
        size = 0
        for batch in keyed:
            held.append(batch)
            size += batch.nbytes
            if size > context.memory // 3:
                break
        else:
            if held:
                table = pa.Table.from_batches(held).combine_chunks()
                if step.only is not None:
                    table = table.take(pa.array(_by_place(table)))
                yield from self._settled(step, self._decided(step, table, context.count), context)
            return

        def again() -> Iterator[Any]:
            yield from held
            held.clear()
            yield from keyed

        def by_hash(table: pa.Table) -> np.ndarray:
            return sort_order([table["hash"], table["marks"]], [_ASCENDING, _ASCENDING])

        groups = _whole_groups(
            sorted_batches(again(), by_hash, context.memory // 3), context.memory // 12
        )
        decided = (
            batch
            for group in groups
            for batch in self._decided(step, group, context.count).to_batches()
        )
        for batch in sorted_batches(decided, _by_place, context.memory // 3):
            yield from self._settled(step, pa.Table.from_batches([batch]), context)

    def _keyed(
        self, step: BoundStep, batches: Iterable[TrackedRows], context: Context
    ) -> Iterator[Any]:
        """The rows with what they are grouped and preferred by, as record batches."""
        seen = 0
        for rows in batches:
            gone: list[Left] = []
            concerned = np.ones(rows.count, bool)
            if step.only is not None:
                decided = run(step.only, rows.frame())
                stays = settle(
                    step, rows, [("only", step.only_text, step.only, decided)], context.count, gone
                )
                concerned = decided.true(rows.count)[stays]
                rows.keep(stays)
                context.count.not_concerned += int((~concerned).sum())
            outside = rows.take(np.flatnonzero(~concerned)) if not concerned.all() else None
            places = np.arange(seen, seen + rows.count)
            rows.marks = places
            if outside is not None:
                outside.marks = places[~concerned]
                rows.keep(concerned)
            by, prefer = self._values(step, rows, context, gone)
            for entry in gone:
                context.left(entry)
            parts = [(rows, by, prefer, False)]
            if outside is not None:
                nothing = [pa.nulls(outside.count, item.type) for item in (*by, *prefer)]
                parts.append((outside, nothing[: len(by)], nothing[len(by) :], True))
            seen = int(places[-1]) + 1 if len(places) else seen
            for subset, values, keys, apart in parts:
                null = np.ones(subset.count, bool) if apart else _any_null(values, subset.count)
                hashed = combined(values) if subset.count else np.zeros(0, np.uint64)
                extra = {
                    "hash": pa.array(
                        np.where(
                            null, subset.marks if subset.marks is not None else 0, hashed
                        ).astype(np.uint64)
                    ),
                    "single": pa.array(null),
                }
                extra |= {f"b{index}": value for index, value in enumerate(values)} | {
                    f"p{index}": value for index, value in enumerate(keys)
                }
                if not apart:
                    context.count.notes["rows with NULL in what they are grouped by stay"] += int(
                        null.sum()
                    )
                yield with_columns(subset.batch(), extra)

    def _values(
        self, step: BoundStep, rows: TrackedRows, context: Context, gone: list[Left]
    ) -> tuple[list[Any], list[Any]]:
        frame = rows.frame()
        results = [(text, item, run(item, frame).spread(rows.count)) for text, item in self.by]
        stays = settle(
            step,
            rows,
            [("", text, item, vector) for text, item, vector in results],
            context.count,
            gone,
        )
        by = [
            sortable(vector.values if stays.all() else vector.values.filter(pa.array(stays)))
            for *_, vector in results
        ]
        rows.keep(stays)
        places = rows.marks
        prefer = [sortable(item) for item in evaluated(step, rows, self.keys, context.count, gone)]
        if places is not None and rows.marks is not None and len(places) != rows.count:
            kept = pa.array(np.isin(places, rows.marks))
            by = [item.filter(kept) for item in by]
        return by, prefer

    def _decided(self, step: BoundStep, table: pa.Table, count: StepCount) -> pa.Table:
        """Rows of whole groups with their survivors filled, `into` (the path of the row that each
        was merged into), `why` and `apart` (set aside for a conflict)."""
        (batch,) = table.combine_chunks().to_batches() or [None]
        if batch is None:
            return table
        rows = TrackedRows.of_batch(batch, step.types)
        named = dict(zip(batch.schema.names, batch.columns, strict=True))
        total = rows.count
        into, apart = np.full(total, -1), np.zeros(total, bool)
        hashed, single = named["hash"].to_numpy(), named["single"].to_numpy(zero_copy_only=False)
        subset = _repeated(hashed, ~single)
        message = pa.nulls(total, pa.string())
        if len(subset):
            by = [named[f"b{index}"].take(pa.array(subset)) for index in range(len(self.by))]
            codes, _ = codes_of(by, len(subset))
            keys = [named[f"p{index}"].take(pa.array(subset)) for index in range(len(self.keys))]
            assert rows.marks is not None
            order = sort_order(
                [pa.array(codes), *keys, pa.array(rows.marks[subset])],
                [_ASCENDING, *(key for key, *_ in self.keys), _ASCENDING],
            )
            places, groups = (
                subset[order],
                codes[order],
            )  # all rows of the groups: each group's first one survives
            starts = np.flatnonzero(np.r_[True, groups[1:] != groups[:-1]])
            sizes = np.diff(np.r_[starts, len(groups)])
            count.notes["groups of several rows"] += int((sizes > 1).sum())
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
            self._fill(step, rows, places, starts, sizes, bad, count)
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
                chosen = words.take(pa.array(np.maximum(back, 0), mask=back < 0)).fill_null("")
                message = pc.binary_join_element_wise(message, chosen, "")
        paths = rows.paths()
        survivor = paths.take(pa.array(np.maximum(into, 0), mask=into < 0)) if total else paths
        return pa.Table.from_batches(
            [
                with_columns(
                    rows.batch(), {"into": survivor, "why": message, "apart": pa.array(apart)}
                )
            ]
        )

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
            stored = rows.stored[index].take(pa.array(places))
            output = view(stored, rows.types[index])
            values = (
                rows.text(index).take(pa.array(places))
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
        count.notes["groups whose known values disagree"] += int(result.sum())
        return result, columns

    def _fill(
        self,
        step: BoundStep,
        rows: TrackedRows,
        places: np.ndarray,
        starts: np.ndarray,
        sizes: np.ndarray,
        bad: np.ndarray,
        count: StepCount,
    ) -> None:
        """Give each survivor the first known value of its group where it has NULL."""
        groups = np.repeat(np.arange(len(starts)), sizes)
        filled_rows = np.zeros(rows.count, bool)
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
            rows.stored[index] = column.take(pa.array(source))
            rows._texts.pop(index, None)
            filled_rows[survivors[differs]] = True
            count.filled[index] += int(differs.sum())
            mask = np.zeros(rows.count, bool)
            mask[survivors[differs]] = True
            name = step.before[index].name
            count.changes[name] = differing(
                [
                    *count.changes.get(name, ()),
                    *samples(rows, mask, pa.nulls(rows.count, pa.string()), rows.text(index)),
                ]
            )
        count.changed += int(filled_rows.sum())

    def _reasons(
        self, by: list[pa.Array], order: np.ndarray, places: np.ndarray, total: int
    ) -> pa.Array:
        """What the rows of a group are equal in, with the values, as a text for each."""
        message = []
        frame = Frame(
            len(order),
            [item.take(pa.array(order)) for item in by],
            [item.type for _, item in self.by],
        )
        for index, (text, _) in enumerate(self.by):
            message.append(
                pc.binary_join_element_wise(f"{' '.join(text.split())} = ", frame.text(index), "")
            )
        reasons = message[0] if len(message) == 1 else pc.binary_join_element_wise(*message, ", ")
        back = np.full(total, -1)
        back[places] = np.arange(len(places))
        return reasons.take(pa.array(np.maximum(back, 0), mask=back < 0))

    def _settled(self, step: BoundStep, table: pa.Table, context: Context) -> Iterator[TrackedRows]:
        """The survivors; the others leave."""
        for start in range(0, table.num_rows, OUT):
            (batch,) = table.slice(start, OUT).combine_chunks().to_batches()
            rows = TrackedRows.of_batch(batch, step.types)
            rows.marks = None
            into, why, apart = (batch.column(name) for name in ("into", "why", "apart"))
            merged, aside = (
                pc.is_valid(into).to_numpy(zero_copy_only=False),
                apart.to_numpy(zero_copy_only=False),
            )
            context.count.merged += int(merged.sum())
            if aside.any():
                if self.conflicts == "error":
                    context.count.stopped += int(aside.sum())
                    context.count.why = 'known values of a group disagree, and conflicts is "error"'
                else:
                    context.count.set_aside += int(aside.sum())
                    where = np.flatnonzero(aside)
                    message = pc.binary_join_element_wise(
                        "rows with ", why.take(pa.array(where)), ""
                    )
                    context.left(left(step, rows, where, ExitKind.SET_ASIDE, message))
            if merged.any():
                where = np.flatnonzero(merged)
                chosen = pa.array(where)
                context.left(
                    left(
                        step, rows, where, ExitKind.MERGED, why.take(chosen), into=into.take(chosen)
                    )
                )
            rows.keep(~merged & ~aside)
            if rows.count:
                yield rows


def _tied(
    keys: list[pa.Array], order: np.ndarray, starts: np.ndarray, sizes: np.ndarray
) -> np.ndarray:
    """The groups whose first two rows are preferred alike, so that only their order in the table
    decides."""
    codes, _ = codes_of([key.take(pa.array(order)) for key in keys], len(order))
    second = np.minimum(starts + 1, len(order) - 1)
    tied: np.ndarray = (sizes > 1) & (codes[starts] == codes[second])
    return tied


def _by_place(table: pa.Table) -> np.ndarray:
    places: np.ndarray = table["marks"].to_numpy().argsort(kind="stable")
    return places


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


def _whole_groups(batches: Iterable[Any], size: int) -> Iterator[Any]:
    """Batches sorted by hash, put together so that no group is cut."""
    held: list[Any] = []
    held_size = 0
    for batch in batches:
        held.append(batch)
        held_size += batch.nbytes
        if held_size < size:
            continue
        table = pa.Table.from_batches(held)
        hashed = table["hash"].to_numpy()
        cut = int(np.searchsorted(hashed, hashed[-1]))
        if cut:
            yield table.slice(0, cut)
            held = table.slice(cut).combine_chunks().to_batches()
            held_size = sum(item.nbytes for item in held)
    if held:
        yield pa.Table.from_batches(held)
