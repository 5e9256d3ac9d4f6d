"""What a query tells of some of its rows, to be told of all: parts of a table are worked on apart,
wherever that is, and each notes the same events in the same order."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct, field
from msgspec.structs import replace

from gravel.engine.row_codes import codes_of
from gravel.inspecting.cautions import Sightings, Watch
from gravel.kernels.arrays import to_arrow
from gravel.language.errors import ErrorPolicy
from gravel.querying.account import MOST_ALIKE, Account, RowFault, faults_of
from gravel.querying.joined_rows import (
    AlmostEqualKeys,
    Finding,
    HeldAlmostEqualKeys,
    JoinedRows,
    NullKeys,
)
from gravel.querying.relation import Relation


class Warned(Struct, frozen=True):
    """Rows that deserve a caution, or none."""

    caution: str
    rows: int
    detail: str
    hint: str
    examples: tuple[str, ...]
    unless: int

    def __add__(self, other: Warned) -> Warned:
        return Warned(
            self.caution,
            self.rows + other.rows,
            self.detail,
            self.hint,
            self.examples or other.examples,
            self.unless + other.unless,
        )


class AlikeKeys(Struct, frozen=True):
    """Different keys, of which some may differ in case and spaces only; None: too many to tell."""

    caution: str
    keys: tuple[pa.Array, ...] | None
    what: str
    hint: str

    def __add__(self, other: AlikeKeys) -> AlikeKeys:
        both = None
        if self.keys is not None and other.keys is not None:
            pairs = zip(self.keys, other.keys, strict=True)
            both = _once_each([pa.concat_arrays(pair) for pair in pairs])
        return AlikeKeys(self.caution, both, self.what, self.hint)


class Failed(Struct, frozen=True):
    """Rows that failed in one place, by their codes."""

    faults: dict[int, RowFault]

    def __add__(self, other: Failed) -> Failed:
        faults = dict(self.faults)
        for code, fault in other.faults.items():
            faults[code] = faults[code] + fault if code in faults else fault
        return Failed({code: faults[code] for code in sorted(faults)})


class Entered(Struct, frozen=True):
    """An operator with its rows; what `detail` says of them can be added."""

    stage: str
    rows_in: int
    rows_out: int
    detail: Any

    def __add__(self, other: Entered) -> Entered:
        return Entered(
            self.stage,
            self.rows_in + other.rows_in,
            self.rows_out + other.rows_out,
            self.detail + other.detail,
        )


Event = Sightings | Warned | AlikeKeys | Failed | Entered | Finding | JoinedRows


class RecordingAccount(Account):
    """The account of some rows, which tells nothing yet and is never stopped by an error."""

    on_error: ErrorPolicy = ErrorPolicy.NULL
    events: list[Event] = field(default_factory=list)
    watches: list[Watch] = field(default_factory=list)

    def enter(
        self,
        stage: str,
        inputs: Sequence[Relation],
        rows_out: int,
        detail: object = "",
        rows_in: int | None = None,
    ) -> int | None:
        """See Account."""
        self.events.append(Entered(stage, inputs[0].count, rows_out, detail))
        return None

    def enter_join(self, joined_rows: JoinedRows, inputs: Sequence[Relation]) -> int | None:
        """See Account."""
        self.events.append(joined_rows)
        return None

    def find(self, finding: Finding | JoinedRows) -> None:
        """See Account."""
        self.events.append(finding)

    def report_errors(
        self, stage: str, expression: str, errors: np.ndarray | None, rows: np.ndarray | None
    ) -> None:
        """See Account."""
        self.events.append(Failed(faults_of(stage, expression, errors, rows)))

    def tell_of(self, watch: Watch) -> None:
        """See Account."""
        self.events.append(watch.seen)
        self.watches.append(watch)

    def warn(
        self,
        caution: str,
        rows: int,
        detail: str,
        hint: str,
        examples: tuple[str, ...] = (),
        unless: int = 0,
    ) -> None:
        """See Account."""
        self.events.append(Warned(caution, rows, detail, hint, examples, unless))

    def warn_of_alike(self, caution: str, keys: Sequence[pa.Array], what: str, hint: str) -> None:
        """See Account."""
        self.events.append(AlikeKeys(caution, _once_each(keys), what, hint))

    def tell(
        self,
        account: Account,
        read: Relation,
        joined: Iterable[Relation] = (),
        before: Relation | None = None,
    ) -> int | None:
        """Tell another account what happened to the rows that were read, joined with those `before`
        them and with others; the place there of the last operator that they went through. Raises
        DataProblem where errors stop the query."""
        watches, joined = iter(self.watches), iter(joined)
        for event in self.events:
            match event:
                case Sightings():
                    watch = next(watches)
                    watch.seen = event
                    account.tell_of(watch)
                case Warned(caution, rows, detail, hint, examples, unless):
                    account.warn(caution, rows, detail, hint, examples, unless)
                case AlikeKeys(caution, keys, what, hint):
                    account.warn_of_alike(caution, keys or (), what, hint)
                case Failed(faults):
                    account.tell_faults(faults.values())
                case Entered(stage, rows_in, rows_out, detail):
                    place = account.enter(stage, (read,), rows_out, detail, rows_in)
                    read = replace(read, stage=place)
                case JoinedRows():
                    inputs = (read, next(joined)) if before is None else (before, read)
                    read, before = replace(read, stage=account.enter_join(event, inputs)), None
                case NullKeys() | AlmostEqualKeys() | HeldAlmostEqualKeys():
                    account.find(event)
        return read.stage


def _once_each(keys: Sequence[pa.Array]) -> tuple[pa.Array, ...] | None:
    _, first = codes_of(list(keys), len(keys[0]))
    return None if len(first) > MOST_ALIKE else tuple(key.take(to_arrow(first)) for key in keys)
