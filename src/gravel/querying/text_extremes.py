"""MIN and MAX of texts, and the numbers among these: of '9' and '10' the MAX is '9'."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.aggregates import ExtremeState, GroupedValues, GroupState
from gravel.engine.vector import Vector
from gravel.kernels.arrays import to_arrow
from gravel.language.types import Type


class TextExtremeState(GroupState, frozen=True):
    """MIN or MAX of texts, and that of the numbers among them, as doubles."""

    texts: ExtremeState
    numbers: ExtremeState

    @classmethod
    def of(cls, grouped_values: GroupedValues, name: str) -> TextExtremeState:
        groups, texts = grouped_values.counted()
        written = _are_numbers(texts)
        numbers = _doubles(texts.filter(to_arrow(written)))
        every = np.ones(len(numbers), bool)
        among = GroupedValues(groups[written], grouped_values.many, numbers, every)
        return cls(ExtremeState.of(grouped_values, name), ExtremeState.of(among, name))

    @classmethod
    def end_to_end(cls, states: Sequence[TextExtremeState]) -> TextExtremeState:
        return cls(
            ExtremeState.end_to_end([state.texts for state in states]),
            ExtremeState.end_to_end([state.numbers for state in states]),
        )

    def __len__(self) -> int:
        return len(self.texts)

    def renumbered(self, numbers: np.ndarray, many: int) -> TextExtremeState:
        return TextExtremeState(
            self.texts.renumbered(numbers, many), self.numbers.renumbered(numbers, many)
        )

    def of_some(self, groups: np.ndarray) -> TextExtremeState:
        return TextExtremeState(self.texts.of_some(groups), self.numbers.of_some(groups))

    def finish(self, name: str, kind: Type) -> Vector:
        return self.texts.finish(name, kind)

    def groups_beyond(self) -> int:
        """How many groups have a number beyond the one that is the MIN or MAX of their texts."""
        groups = np.flatnonzero(_are_numbers(self.texts.values))
        extremes = _doubles(self.texts.values.take(to_arrow(groups))).to_numpy()
        numbers = self.numbers.values.take(to_arrow(groups)).to_numpy()
        return int((numbers < extremes if self.texts.least else numbers > extremes).sum())


def groups_with_numbers_beyond(grouped_values: GroupedValues, name: str, extremes: pa.Array) -> int:
    """As `groups_beyond`, where the MIN or MAX of all texts is known."""
    in_numbers = _are_numbers(extremes)
    if not in_numbers.any():
        return 0
    mask = grouped_values.mask & in_numbers[grouped_values.groups]
    among = GroupedValues(grouped_values.groups, grouped_values.many, grouped_values.values, mask)
    return TextExtremeState.of(among, name).groups_beyond()


def _are_numbers(texts: pa.Array) -> np.ndarray:
    matching = pc.match_substring_regex(texts, r"^ *-?[0-9]{1,30}(\.[0-9]{1,30})? *$")
    return np.asarray(pc.fill_null(matching, False))


def _doubles(texts: pa.Array) -> pa.Array:
    return pc.utf8_trim_whitespace(texts).cast(pa.float64())
