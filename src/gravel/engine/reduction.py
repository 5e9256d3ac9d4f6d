"""Groups by their keys, put together as those of one batch after another come."""

from __future__ import annotations

from typing import Generic

from msgspec import Struct, field

from gravel.engine.engine import Groups


class MergedGroups(Struct, Generic[Groups]):
    """The groups of all rows so far. Those that come wait until they are as many as the others, so
    that none is gone through again for a few."""

    merged: Groups | None = None
    waiting: list[Groups] = field(default_factory=list)

    @property
    def size(self) -> int:
        """How many groups, and values of groups, are held."""
        return self._size_of_merged() + sum(part.size for part in self.waiting)

    def add(self, part: Groups) -> None:
        """Take in the groups of the rows that follow."""
        self.waiting.append(part)
        if self.size >= 2 * self._size_of_merged():
            self.merged = self.finish()

    def finish(self) -> Groups | None:
        """The groups of all rows; None where no part has come."""
        if self.waiting:
            first, *later = self.waiting if self.merged is None else [self.merged, *self.waiting]
            self.merged, self.waiting = first.merge(later) if later else first, []
        return self.merged

    def _size_of_merged(self) -> int:
        return 0 if self.merged is None else self.merged.size
