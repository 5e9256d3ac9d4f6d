"""What became of the rows of both sides of a join. Where one side is the same for every batch of
the other, what is told of each batch is added."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from gravel.inspecting.cautions import Caution
from gravel.kernels.arrays import to_arrow
from gravel.language.functions.casing import tidy_spaces, upper
from gravel.words import number_of


class SideRows(Struct, frozen=True):
    """How many rows a side has, how many of them met a partner, and how many several."""

    rows: int
    met: int
    several: int

    @classmethod
    def of(cls, times: np.ndarray) -> SideRows:
        """Of rows that met so many partners each."""
        return cls(len(times), int((times > 0).sum()), int((times > 1).sum()))

    def __add__(self, other: SideRows) -> SideRows:
        """With further rows."""
        return SideRows(self.rows + other.rows, self.met + other.met, self.several + other.several)


class HeldRows(Struct, frozen=True):
    """How many partners each row of a side has met so far."""

    times: np.ndarray

    def __add__(self, other: HeldRows) -> HeldRows:
        """With further partners."""
        return HeldRows(self.times + other.times)


class JoinedRows(Struct, frozen=True):
    """What a join of some kind made of the rows of both sides: how many pairs of them. `where`: the
    condition, of tables that WHERE joins."""

    kind: str
    left: SideRows | HeldRows
    right: SideRows | HeldRows
    pairs: int
    where: str = ""

    def __add__(self, other: JoinedRows) -> JoinedRows:
        return JoinedRows(
            self.kind,
            self.left + other.left,  # type: ignore[operator]
            self.right + other.right,  # type: ignore[operator]
            self.pairs + other.pairs,
            self.where,
        )

    @property
    def sides(self) -> tuple[SideRows, SideRows]:
        """The rows of the left and of the right."""
        left, right = self.left, self.right
        return (
            left if isinstance(left, SideRows) else SideRows.of(left.times),
            right if isinstance(right, SideRows) else SideRows.of(right.times),
        )

    @property
    def out(self) -> int:
        """How many rows come of it."""
        left, right = self.sides
        result = self.pairs
        if self.kind in ("LEFT", "FULL"):
            result += left.rows - left.met
        if self.kind in ("RIGHT", "FULL"):
            result += right.rows - right.met
        return result

    @property
    def name(self) -> str:
        """What the join is called."""
        return "tables joined by WHERE" if self.kind == "WHERE" else f"{self.kind} JOIN"

    def __str__(self) -> str:
        left, right = self.sides
        if self.kind == "WHERE":
            return f"{number_of(left.rows)} with {right.rows:,}, where {self.where}"
        if self.kind == "CROSS":
            return f"each of {number_of(left.rows)} with each of {right.rows:,}"
        several = f"{number_of(left.several)} on the left met several (+{self._more})"
        return (
            f"{number_of(left.met)} on the left matched, {left.rows - left.met:,} without a"
            f" partner; {right.rows - right.met:,} on the right without one"
            + (f"; {several}" if left.several else "")
        )

    def cautions(self) -> list[Caution]:
        """What it is to be warned of."""
        left = self.sides[0]
        multiplied = Caution(
            "a join multiplies rows",
            left.several,
            f"on the left meet several rows on the right: {self._more} more",
            "join on a key of the right table",
        )
        lost = Caution(
            "a join loses rows",
            left.rows - left.met,
            "on the left have no partner, so they are lost",
            "LEFT JOIN keeps them",
        )
        if self.kind in ("WHERE", "CROSS"):
            return []
        return [multiplied, lost] if self.kind in ("INNER", "RIGHT") else [multiplied]

    @property
    def _more(self) -> str:
        return number_of(self.pairs - self.sides[0].met)


class NullKeys(Struct, frozen=True):
    """How many rows of both sides have NULL in a key, of which = pairs none."""

    left_key: str
    right_key: str
    left: int
    right: int

    def __add__(self, other: NullKeys) -> NullKeys:
        left, right = self.left + other.left, self.right + other.right
        return NullKeys(self.left_key, self.right_key, left, right)

    def cautions(self) -> list[Caution]:
        """What is to be warned of, where both sides have such rows."""
        left, right = self.left_key[:60], self.right_key[:60]
        caution = Caution(
            "NULL in join keys",
            self.left if self.right else 0,
            f"on the left have NULL in {left}, as {self.right:,} on the right have, and ="
            " pairs none of them",
            f"{left} IS NOT DISTINCT FROM {right} would; or leave them out: WHERE {left} IS NOT"
            " NULL",
        )
        return [caution]


class AlmostEqualKeys(Struct, frozen=True):
    """Rows on the left without a partner whose key would have one if case and spaces were ignored,
    or else leading zeros."""

    key: str
    case: int
    zeros: int

    def __add__(self, other: AlmostEqualKeys) -> AlmostEqualKeys:
        return AlmostEqualKeys(self.key, self.case + other.case, self.zeros + other.zeros)

    def cautions(self) -> list[Caution]:
        """What is to be warned of."""
        key, would = self.key[:60], "on the left have no partner, and would if"
        case = Caution(
            "JOIN and case",
            self.case,
            f"{would} case and spaces of {key} were ignored",
            f"join on UPPER(TIDY_SPACES({key})) on both sides",
        )
        zeros = Caution(
            "JOIN and leading zeros",
            self.zeros,
            f"{would} leading zeros of {key} were ignored",
            f"join on TRIM(LEADING '0' FROM {key}) on both sides",
        )
        return [case, zeros]


class HeldAlmostEqualKeys(Struct, frozen=True):
    """Which rows of the left have met a partner so far, and which would have if case and spaces, or
    leading zeros too, were ignored."""

    key: str
    met: np.ndarray
    case: np.ndarray
    zeros: np.ndarray

    def __add__(self, other: HeldAlmostEqualKeys) -> HeldAlmostEqualKeys:
        return HeldAlmostEqualKeys(
            self.key, self.met | other.met, self.case | other.case, self.zeros | other.zeros
        )

    def cautions(self) -> list[Caution]:
        """What is to be warned of, of those without a partner."""
        case = self.case & ~self.met
        zeros = self.zeros & ~self.case & ~self.met
        return AlmostEqualKeys(self.key, int(case.sum()), int(zeros.sum())).cautions()


def almost_equal_keys(
    key: str, left: pa.Array, right: pa.Array, met: np.ndarray, held: bool
) -> AlmostEqualKeys | HeldAlmostEqualKeys:
    """Of the texts of a key on both sides, where so many on the left `met` a partner; `held`: the
    left is the same for all batches of the right."""
    rows = np.ones(len(left), bool) if held else ~met
    mine = _without_case(left.filter(to_arrow(rows)))
    theirs = right.drop_null() if len(mine) else right[:0]
    theirs = _without_case(pc.unique(theirs) if held else theirs)
    case = pc.is_in(mine, theirs).to_numpy(zero_copy_only=False)
    mine, theirs = _without_zeros(mine), _without_zeros(theirs)
    zeros = pc.is_in(mine, theirs).to_numpy(zero_copy_only=False)
    if held:
        return HeldAlmostEqualKeys(key, met, case, zeros)
    return AlmostEqualKeys(key, int(case.sum()), int((zeros & ~case).sum()))


def loosened(keys: pa.Array) -> pa.Array:
    """Keys of which those that `almost_equal_keys` takes together are equal."""
    return _without_zeros(_without_case(keys))


def _without_case(keys: pa.Array) -> pa.Array:
    return upper(tidy_spaces(keys))


def _without_zeros(keys: pa.Array) -> pa.Array:
    return pc.replace_substring_regex(keys, "^0+([0-9]+)$", r"\1")


Finding = NullKeys | AlmostEqualKeys | HeldAlmostEqualKeys
