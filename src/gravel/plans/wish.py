"""How a plan is to be run."""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct

from gravel.engine.memory import DEFAULT_MEMORY
from gravel.ledger.signature import SigningKey


class Wish(Struct, frozen=True):
    """How a plan is to be run: `dry` writes nothing; `until` ends after a step; `sample` reads the
    first rows only (both are dry); `memory`: bytes that whole-table steps may hold; `backup`: a
    table for the rows as they were; `engine`: the address of what reads the table and does the
    steps, instead of this machine.
    """

    dry: bool = False
    until: int | None = None
    sample: int | None = None
    memory: int = DEFAULT_MEMORY
    backup: str | None = None
    engine: str | None = None
    sign: SigningKey | None = None  # the record
    progress: Callable[[int], None] | None = None
    tell: Callable[[str], None] | None = None  # what is to be known before the run

    @property
    def writes(self) -> bool:
        """Whether the result is written."""
        return not self.dry and self.until is None and self.sample is None

    @property
    def whole(self) -> bool:
        """Whether every step runs on every row."""
        return self.until is None and self.sample is None
