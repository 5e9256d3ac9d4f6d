"""The distinct values of columns by their types, where one value may be written in two ways and
texts would not tell: in a pass over these columns alone."""

from __future__ import annotations

from collections.abc import Hashable, Mapping
from functools import partial
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from gravel.engine.distinct import Counted, Distinct, Room, Top, counted, range_top, whole_top
from gravel.engine.engine import OfBatch, Question
from gravel.engine.frame import view
from gravel.kernels.arrays import to_arrow
from gravel.language.functions.casts import to_text
from gravel.language.types import Type
from gravel.profiling.sample import Sample
from gravel.sources.source import Batch, Source


class TypedValues(Struct, frozen=True):
    """Distinct values, (value, rows) of the most frequent, least and greatest; type mismatches are
    left out."""

    distinct: int
    top: tuple[tuple[str, int], ...]
    low: str | None
    high: str | None


class TypedPart(Struct, frozen=True):
    """The values of a column in a batch: the distinct ones, and between what they are."""

    values: Counted
    low: Any
    high: Any


class TypedState:
    """The values of some columns by their types so far."""

    def __init__(self, kinds: Mapping[int, Type], room: int) -> None:
        self.kinds, shared = dict(kinds), Room(room)
        self.bounds: dict[int, tuple[Any, Any]] = {}
        self.distinct: dict[Hashable, Any] = {index: Distinct(shared) for index in kinds}

    def map(self, batch: Batch) -> dict[int, TypedPart]:
        """See State."""
        parts = {}
        for index, kind in self.kinds.items():
            values = view(batch.columns[index], kind).values
            good = pc.is_valid(values)
            known = values.filter(good)
            if len(known):
                low, high = (bound.as_py() for bound in pc.min_max(known).values())
                rows = batch.rows[good.to_numpy(zero_copy_only=False)]
                parts[index] = TypedPart(counted([to_text(known, kind)], rows), low, high)
        return parts

    def add(self, parts: dict[int, TypedPart]) -> None:
        """See State."""
        for index, part in parts.items():
            self.distinct[index].add(part.values)
            self._widen(index, part.low, part.high)

    def merge(self, later: TypedState) -> None:
        """See State."""
        for index, (low, high) in later.bounds.items():
            self._widen(index, low, high)

    def _widen(self, index: int, low: Any, high: Any) -> None:
        least, most = self.bounds.get(index, (low, high))
        self.bounds[index] = min(least, low), max(most, high)


def typed_values(
    read_from: Source | Sample, kinds: Mapping[int, Type], most: int, room: int
) -> dict[int, TypedValues]:
    """Columns' values by their types, with the `most` most frequent of each; `room`: how many
    values may be held. Raises TableProblem."""
    if not kinds:
        return {}
    state, engine, columns = TypedState(kinds, room), read_from.engine, list(kinds)
    engine.run(state, read_from, columns)
    questions: list[Question[Any, Top]] = [
        Question(state.distinct[index], partial(range_top, most), partial(whole_top, most))
        for index in columns
    ]
    tops = dict(zip(columns, engine.ask(questions), strict=True))
    rows = {index: [row for row, _ in top.best] for index, top in tops.items()}
    every = sorted({row for numbers in rows.values() for row in numbers})
    texts: dict[int, dict[int, str]] = {index: {} for index in columns}
    work = OfBatch(partial(_texts_in, state.kinds, rows), columns)
    for by_column in engine.map_splits(read_from, work, columns, read_from.holding(every)):
        for index, by_row in by_column.items():
            texts[index].update(by_row)
    results = {}
    for index, kind in kinds.items():
        low, high = (
            None if bound is None else to_text(pa.array([bound], kind.arrow), kind)[0].as_py()
            for bound in state.bounds.get(index, (None, None))
        )
        best = tuple((texts[index][row], count) for row, count in tops[index].best)
        results[index] = TypedValues(tops[index].distinct, best, low, high)
    return results


def _texts_in(
    kinds: Mapping[int, Type], rows: Mapping[int, list[int]], batch: Batch
) -> dict[int, dict[int, str]]:
    """The texts that columns' values have by their types, in some source rows of each."""
    results = {}
    for index, kind in kinds.items():
        here = np.isin(batch.rows, rows[index])
        values = view(batch.columns[index].filter(to_arrow(here)), kind).values
        texts = to_text(values, kind).to_pylist()
        results[index] = dict(zip(batch.rows[here].tolist(), texts, strict=True))
    return results
