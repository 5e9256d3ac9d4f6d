"""The rows an expression is evaluated over: typed views on stored columns, and parts of them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct, field

from gravel.engine.arrow_values import of_type, text_of
from gravel.engine.vector import Vector, vector
from gravel.kernels.arrays import to_arrow
from gravel.language.functions import casts
from gravel.language.nodes import Expression, Shape
from gravel.language.types import TEXT, Target, Type


class Frame(Struct):
    """Some rows. `stored` are the columns as the table keeps them (None where none was read),
    `types` what they are read as: a text file keeps texts, and its types are a view on them,
    converted when first asked for.
    """

    count: int
    stored: Sequence[Any]
    types: Sequence[Type]
    _views: dict[int, Vector] = field(default_factory=dict)
    memo: dict[Shape, Vector] | None = None
    vectors: Sequence[Vector] | None = None

    @classmethod
    def of(cls, vectors: Sequence[Vector], types: Sequence[Type], count: int) -> Frame:
        """Rows whose columns are vectors already, errors and all."""
        return cls(count, [None] * len(vectors), types, vectors=vectors)

    def remembering(self, known: Mapping[Shape, Vector] | None = None) -> Frame:
        """The same rows, where what was once computed of them is kept: for expressions that share
        parts. `known`: what has been computed of them already."""
        self.memo = dict(known or {})
        return self

    def column(self, index: int) -> Vector:
        """The typed values of a column."""
        if index not in self._views:
            if self.vectors is not None:
                self._views[index] = self.vectors[index]
            else:
                self._views[index] = view(self.stored[index], self.types[index])
        return self._views[index]

    def text(self, index: int) -> pa.Array:
        """A stored column as its texts."""
        return text_of(self.stored[index], self.types[index])

    def known(self, node: Expression) -> Vector | None:
        """What was computed of an equal expression, where that is kept."""
        return None if self.memo is None else self.memo.get(node.shape)

    def remember(self, node: Expression, result: Vector) -> Vector:
        """The result, kept for equal expressions where results are."""
        if self.memo is not None:
            self.memo[node.shape] = result
        return result

    def part(self, rows: np.ndarray) -> Frame:
        """The frame of these rows only (their indices)."""
        return _FramePart(len(rows), self.stored, self.types, whole=self, rows=rows)


class _FramePart(Frame):
    whole: Frame = None  # type: ignore[assignment]
    rows: np.ndarray = None  # type: ignore[assignment]

    def column(self, index: int) -> Vector:
        if index not in self._views:
            self._views[index] = self._taken(self.whole.column(index))
        return self._views[index]

    def known(self, node: Expression) -> Vector | None:
        full = self.whole.known(node)
        return None if full is None else self._taken(full)

    def _taken(self, full: Vector) -> Vector:
        if full.constant:
            return full
        errors = None if full.errors is None else full.errors[self.rows]
        return Vector(full.values.take(to_arrow(self.rows)), errors)


def view(stored: pa.Array, kind: Type) -> Vector:
    """A stored column as a type; texts that do not fit a declared type are errors."""
    if not pa.types.is_string(stored.type):
        return Vector(of_type(stored, kind))
    if kind == TEXT:
        return Vector(stored)
    result = casts.cast(stored, TEXT, Target(kind))
    return vector(result.values, result.errors)
