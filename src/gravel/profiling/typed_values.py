"""The distinct values of a column by its type, where one value may be written in two ways and texts
would not tell: in a pass over this column alone."""

from __future__ import annotations

from collections.abc import Hashable
from functools import partial
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from gravel.engine.distinct import Counted, Distinct, Top, counted, range_top, whole_top
from gravel.engine.engine import OfBatch, Question
from gravel.engine.frame import view
from gravel.kernels.arrays import to_arrow
from gravel.language.functions.casts import to_text
from gravel.language.types import Type
from gravel.profiling.sample import Sample
from gravel.sources.source import Batch, Source

_VALUE = "value"


class TypedValues(Struct, frozen=True):
    """Distinct values, (value, rows) of the most frequent, least and greatest; type mismatches are
    left out."""

    distinct: int
    top: tuple[tuple[str, int], ...]
    low: str | None
    high: str | None


class TypedState:
    """A column's values by its type so far."""

    def __init__(self, index: int, kind: Type) -> None:
        self.index, self.kind = index, kind
        self.low: Any = None
        self.high: Any = None
        self.distinct: dict[Hashable, Any] = {_VALUE: Distinct()}

    def map(self, batch: Batch) -> tuple[Counted, Any, Any] | None:
        """See State."""
        values = view(batch.columns[self.index], self.kind).values
        good = pc.is_valid(values)
        known = values.filter(good)
        if not len(known):
            return None
        low, high = (bound.as_py() for bound in pc.min_max(known).values())
        rows = batch.rows[good.to_numpy(zero_copy_only=False)]
        return counted([to_text(known, self.kind)], rows), low, high

    def add(self, part: tuple[Counted, Any, Any] | None) -> None:
        """See State."""
        if part is not None:
            values, low, high = part
            self.distinct[_VALUE].add(values)
            self._widen(low, high)

    def merge(self, later: TypedState) -> None:
        """See State."""
        if later.low is not None:
            self._widen(later.low, later.high)

    def _widen(self, low: Any, high: Any) -> None:
        self.low = low if self.low is None or low < self.low else self.low
        self.high = high if self.high is None or high > self.high else self.high


def typed_values(read_from: Source | Sample, index: int, kind: Type, most: int) -> TypedValues:
    """A column's values by its type, with the `most` most frequent. Raises TableProblem."""
    state, engine = TypedState(index, kind), read_from.engine
    engine.run(state, read_from, [index])
    values = state.distinct[_VALUE]
    question: Question[Any, Top] = Question(
        values, partial(range_top, most), partial(whole_top, most)
    )
    [top] = engine.ask([question])
    rows = [row for row, _ in top.best]
    texts: dict[int, str] = {}
    work = OfBatch(partial(_texts_in, index, kind, rows), [index])
    for by_row in engine.map_splits(read_from, work, [index], read_from.holding(rows)):
        texts.update(by_row)
    low, high = (
        None if bound is None else to_text(pa.array([bound], kind.arrow), kind)[0].as_py()
        for bound in (state.low, state.high)
    )
    best = tuple((texts[row], count) for row, count in top.best)
    return TypedValues(top.distinct, best, low, high)


def _texts_in(index: int, kind: Type, rows: list[int], batch: Batch) -> dict[int, str]:
    """The texts that a column's values have by their type, in some source rows."""
    here = np.isin(batch.rows, rows)
    values = view(batch.columns[index].filter(to_arrow(here)), kind).values
    texts = to_text(values, kind).to_pylist()
    return dict(zip(batch.rows[here].tolist(), texts, strict=True))
