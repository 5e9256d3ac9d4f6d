"""`split`: the pieces of a field as rows of their own, or as named columns."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.arrow_values import text_of
from gravel.engine.sets import distinct_values
from gravel.engine.vector import Vector, vector
from gravel.inspecting.cautions import Watch
from gravel.kernels.arrays import to_arrow
from gravel.kernels.characters import BLANK
from gravel.language.errors import CODES
from gravel.language.functions.buffers import matches, maybe_padded
from gravel.language.functions.casts import cast
from gravel.language.functions.nulls import blank
from gravel.language.functions.patterns import compiled
from gravel.language.functions.row_by_row import RowFailure
from gravel.language.types import INTEGER, TEXT, Kind, Target, Type
from gravel.plans.binder import Binder, SqlFragment
from gravel.plans.errors import settle
from gravel.plans.ledger import ExitKind, StepCount
from gravel.plans.model import Split, Step
from gravel.plans.rows import TrackedRows, samples
from gravel.plans.steps import (
    BoundPlan,
    BoundStep,
    Left,
    Outcome,
    PlanColumn,
    RowAction,
    SplitFrom,
    left,
)
from gravel.plans.verbs.kind import StepKind
from gravel.sources.source import Batch, scan


class SplitStep(StepKind):
    """`split`: the pieces of a field as rows, or as columns."""

    def sql_fragments(self, step: Step) -> list[SqlFragment]:
        """None: a split has no SQL."""
        return []

    def columns_read(self, step: Step) -> list[str]:
        """None: a field is split as text."""
        return []

    def bind(self, binder: Binder) -> tuple[RowAction, tuple[PlanColumn, ...], Watch]:
        """The column found, the pattern looked at."""
        how = binder.step.split
        assert how is not None
        index = binder.column(how.column, "split", "column")
        if how.on_regex is not None:
            _look_at(how.on_regex, binder)
        if index is None:
            return RowSplit(how, 0), binder.columns, Watch([])  # never run: the mistake is told
        kept = [binder.columns[index]] if how.keep_column else []
        name = binder.columns[index].name
        if isinstance(how.into, list):
            fresh = [PlanColumn(item, TEXT) for item in how.into]
            action: RowAction = ColumnSplit(how, index)
        else:
            if how.keep_column and how.as_ is None:
                binder.wrong(
                    "the pieces need a name beside the column that is kept",
                    "split",
                    hint='as = "…"',
                )
            field = binder.columns[index]
            split = (
                SplitFrom(name, None if field.touched else field.source, binder.at + 1)
                if how.empty == "keep"
                else None
            )
            fresh = [PlanColumn(how.as_ or name, TEXT, split=split)]
            fresh += (
                [PlanColumn(how.number, INTEGER, split=split)] if how.number is not None else []
            )
            action = RowSplit(how, index)
            binder.multiplies = True
        after = (*binder.columns[:index], *kept, *fresh, *binder.columns[index + 1 :])
        binder.fresh([column.name for column in after], "split")
        binder.declared -= {name} if not how.keep_column else set()
        return action, after, Watch([])


def _look_at(pattern: str, binder: Binder) -> None:
    try:
        if compiled(pattern, "").match(""):
            binder.wrong(
                "the pattern matches the empty text",
                "split",
                "on_regex",
                hint="a separator has one character at least",
            )
    except RowFailure:
        binder.wrong(f"{pattern!r} is not a valid pattern", "split", "on_regex")


_ARRAY = Target(Type(Kind.ARRAY, item=TEXT))


def _lists(how: Split, texts: pa.Array) -> Vector:
    """A list of each text's pieces, as Arrow has it; one that is to be an array and is none is an
    error."""
    if not how.array:
        return Vector(_pieces(how, texts))
    result = cast(texts, TEXT, _ARRAY)
    if result.errors is None:
        return Vector(result.values)
    return vector(result.values, np.where(blank(texts), 0, result.errors).astype(np.uint8))


def _pieces(how: Split, texts: pa.Array, most: int | None = None) -> pa.Array:
    """An Arrow list of each text's pieces, at most so many."""
    options: dict[str, Any] = {} if most is None else {"max_splits": most - 1}
    if how.on is not None:
        return pc.split_pattern(
            texts, how.on, reverse=how.from_ == "end" and most is not None, **options
        )
    result = pc.split_pattern_regex(texts, how.on_regex, **options)
    if how.from_ == "end" and most is not None:
        many = np.flatnonzero(
            pc.fill_null(
                pc.list_value_length(pc.split_pattern_regex(texts, how.on_regex)), 0
            ).to_numpy()
            > most
        )
        if len(many):
            lists = result.to_pylist()
            for row in many:
                lists[row] = _from_end(how.on_regex or "", texts[int(row)].as_py(), most)
            result = pa.array(lists, pa.list_(pa.string()))
    return result


def _pieces_by_row(how: Split, lists: pa.Array) -> tuple[np.ndarray, Any]:
    """The row of each piece that a split into rows makes, and the piece."""
    sizes = (
        pc.fill_null(pc.list_value_length(lists), 0).to_numpy(zero_copy_only=False).astype(np.int64)
    )
    row, items = np.repeat(np.arange(len(lists)), sizes), lists.flatten()
    items = trimmed(items) if how.trim else items
    if how.blanks == "keep":
        return row, items
    keep = ~blank(items)
    return row[keep], items.filter(to_arrow(keep))


def null_keys(plan: BoundPlan) -> Iterator[str]:
    """What is to be known before a run: a split leaves NULL in the key of rows that have no piece,
    and how to write it. Where the field goes into the split as it is read, its rows are counted,
    and nothing is told where there is none.
    """
    for index in plan.key_after or ():
        column = plan.columns[index]
        if column.split is None:
            continue
        field, source, number = column.split.field, column.split.source, column.split.step
        message = (
            f"step {number}: a row without a piece in {field} has NULL in {column.name}, which is"
            " in the key"
        )
        if source is not None:
            how = plan.file.model.step[number - 1].split
            assert how is not None
            rows = sum(scan(plan.table, partial(_without_piece, how, source), [source]))
            if not rows:
                continue
            message += f": {rows:,} {'row' if rows == 1 else 'rows'} of {plan.table_name}"
        filler = "0" if column.type == INTEGER else "''"
        yield (
            f'{message}; write a step after it, set = {{ {column.name} = "COALESCE({column.name},'
            f' {filler})" }}, or empty = "drop"'
        )


def _without_piece(how: Split, source: int, batch: Batch) -> int:
    row, _ = _pieces_by_row(how, _lists(how, text_of(batch.columns[source])).values)
    return batch.count - len(distinct_values(row))


def _from_end(pattern: str, text: str, most: int) -> list[str]:
    """At most so many pieces, cut at the last separators."""
    cuts = [match.span() for match in compiled(pattern, "").finditer(text)][-(most - 1) :]
    starts, ends = [0, *(end for _, end in cuts)], [*(start for start, _ in cuts), len(text)]
    return [text[start:end] for start, end in zip(starts, ends, strict=True)]


def trimmed(texts: pa.Array) -> pa.Array:
    """Texts without white space or zero width characters at their ends."""
    doubtful = maybe_padded(texts)
    if not doubtful.any():
        return texts
    subset = texts.filter(to_arrow(doubtful))
    if matches(subset, f"^{BLANK}|{BLANK}$").any():
        return pc.replace_with_mask(
            texts,
            to_arrow(doubtful),
            pc.replace_substring_regex(subset, f"^{BLANK}+|{BLANK}+$", ""),
        )
    return texts


class RowSplit(RowAction, frozen=True):
    """A row for each piece of the column at a place."""

    how: Split
    at: int

    def unconcerned(self, step: BoundStep) -> list[int | None]:
        """See RowAction: the whole field stands where a piece would."""
        places = super().unconcerned(step)
        places[self.at + self.how.keep_column] = None if self.how.keep_column else self.at
        return places

    def apply(self, step: BoundStep, rows: TrackedRows) -> Outcome:
        """See RowAction."""
        how = self.how
        count = StepCount(rows_in=rows.count)
        gone: list[Left] = []
        split_texts = _lists(how, rows.text(self.at))
        lists = split_texts.values
        if split_texts.errors is not None:
            name = step.before[self.at].name
            failing = [
                (name, f"split of {name}", None, Vector(rows.text(self.at), split_texts.errors))
            ]
            stays = settle(step, rows, failing, count, gone)
            rows.keep(stays)
            lists = lists.filter(to_arrow(stays))
        row, items = _pieces_by_row(how, lists)
        if how.blanks != "keep":
            sizes = pc.fill_null(pc.list_value_length(lists), 0).to_numpy(zero_copy_only=False)
            single = (sizes == 1) & blank(rows.text(self.at))
            count.noted["blank pieces dropped"] = int(sizes.sum()) - len(row) - int(single.sum())
        many = np.bincount(row, minlength=rows.count)
        place = np.arange(len(row)) - np.repeat(np.cumsum(many) - many, many) + 1
        without = np.flatnonzero(many == 0)
        if (many > 1).any():
            joined = pc.binary_join(pc.cast(lists, pa.list_(pa.string())), " | ")
            count.samples["rows split into several"] = samples(
                rows, many > 1, rows.text(self.at), joined
            )
        count.noted["rows with one piece"] = int((many == 1).sum())
        count.noted["rows split into several"] = int((many > 1).sum())
        if how.empty == "drop":
            count.dropped_other = len(without)
            if len(without):
                gone.append(
                    left(
                        step,
                        rows,
                        without,
                        ExitKind.DROPPED,
                        f"no piece in {step.before[self.at].name}",
                    )
                )
        else:
            count.noted["rows without a piece stay, with NULL"] = len(without)
            order = np.argsort(np.concatenate([row, without]), kind="stable")
            items = pa.concat_arrays([items, pa.nulls(len(without), pa.string())]).take(
                to_arrow(order)
            )
            row, place = (
                np.concatenate([row, without])[order],
                np.concatenate([place, np.zeros(len(without), np.int64)])[order],
            )
        result = rows.step_into(row, place)
        numbered = [to_arrow(place, mask=place == 0)] if how.number is not None else []
        kept = [result.stored[self.at]] if how.keep_column else []
        _arrange(
            result, self.at, [*kept, items, *numbered], tuple(column.type for column in step.after)
        )
        count.added = len(row) - rows.count + count.dropped_other
        count.rows_out = result.count
        return Outcome(result, count, gone)


def _arrange(
    rows: TrackedRows, index: int, columns: list[pa.Array], types: tuple[Type, ...]
) -> None:
    rows.arrange([*rows.stored[:index], *columns, *rows.stored[index + 1 :]], types)


class ColumnSplit(RowAction, frozen=True):
    """Named columns for the pieces of the column at a place."""

    how: Split
    at: int

    def apply(self, step: BoundStep, rows: TrackedRows) -> Outcome:
        """See RowAction."""
        how, many = self.how, len(self.how.into)
        count = StepCount(rows_in=rows.count)
        gone: list[Left] = []
        texts = rows.text(self.at)
        lists = _pieces(how, texts)
        sizes = (
            pc.fill_null(pc.list_value_length(lists), 0)
            .to_numpy(zero_copy_only=False)
            .astype(np.int64)
        )
        nothing = blank(texts)
        surplus, short = sizes > many, (sizes < many) & ~nothing
        name = step.before[self.at].name
        codes = np.zeros(rows.count, np.uint8)
        if how.surplus == "error":
            codes[surplus] = CODES["2202F"]
        if how.short == "error":
            codes[short] = CODES["2202E"]
        failing = (
            [(name, f"split of {name} into {', '.join(how.into)}", None, Vector(texts, codes))]
            if codes.any()
            else []
        )
        stays = settle(step, rows, failing, count, gone)
        rest = {"drop": ", the rest dropped", "error": ""}.get(
            how.surplus or "", ", the rest kept together"
        )
        count.noted[f"rows with more than {many} pieces{rest}"] = int(surplus.sum())
        count.noted[f"rows with fewer than {many} pieces"] = int(short.sum())
        count.samples[f"rows with more than {many} pieces{rest}"] = samples(rows, surplus, texts)
        count.samples[f"rows with fewer than {many} pieces"] = samples(rows, short, texts)
        count.noted["rows without a piece"] = int(nothing.sum())
        if how.surplus in (None, "join"):
            lists, sizes = _pieces(how, texts, many), np.minimum(sizes, many)
        offsets = lists.offsets.to_numpy().astype(np.int64)
        shift = (
            np.maximum(sizes - many, 0) if how.from_ == "end" else np.zeros(rows.count, np.int64)
        )
        gap = np.maximum(many - sizes, 0) if how.from_ == "end" else np.zeros(rows.count, np.int64)
        results = []
        for place in range(many):
            inside = (place - gap >= 0) & (place - gap < sizes) & (codes == 0)
            result = lists.values.take(
                to_arrow(np.where(inside, offsets[:-1] + shift + place - gap, 0), mask=~inside)
            )
            result = trimmed(result) if how.trim else result
            results.append(
                pc.if_else(to_arrow(blank(result)), pa.scalar(None, pa.string()), result)
            )
        kept = [rows.stored[self.at]] if how.keep_column else []
        _arrange(rows, self.at, [*kept, *results], tuple(column.type for column in step.after))
        rows.keep(stays)
        count.rows_out = rows.count
        return Outcome(rows, count, gone)
