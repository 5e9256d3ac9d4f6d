"""Cautions and branches counted over a table, batch by batch, beside what is computed anyway."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from gravel.engine.evaluate import run
from gravel.engine.frame import Frame
from gravel.language import nodes
from gravel.language.cautions import Branches, Probe, branches, probes


@dataclass(frozen=True)
class Caution:
    """Rows that deserve a caution, what they are, and an expression or a step that avoids it."""

    caution: str
    rows: int
    detail: str
    hint: str


@dataclass(frozen=True)
class BranchCount:
    """The rows that took each way of a CASE; `unknown` ones of `otherwise` had no condition that was false throughout."""

    text: str
    whens: tuple[tuple[str, int], ...]
    otherwise: int
    unknown: int
    has_else: bool


class Watch:
    """The probes of some expressions, and how many rows each has met. `count` may run on any thread, `add` on one."""

    def __init__(self, expressions: Iterable[tuple[nodes.Expression, str]], counted: bool = False) -> None:
        pairs = list(expressions)
        self.probes: list[Probe] = [probe for one, text in pairs for probe in probes(one, text, counted)]
        self.cases: list[Branches] = [case for one, text in pairs for case in branches(one, text)]
        self._conditions = [probe.condition for probe in self.probes]
        for case in self.cases:
            self._conditions += [*case.conditions, case.otherwise, case.unknown, *case.holding]
        self.counts = np.zeros(len(self._conditions), np.int64)

    def count(self, frame: Frame) -> np.ndarray:
        """The rows of a batch for which each condition is true."""
        return np.array([int(run(condition, frame).true(frame.count).sum()) for condition in self._conditions], np.int64)

    def add(self, counts: np.ndarray) -> None:
        """Take in a batch's counts."""
        self.counts += counts

    def cautions(self) -> tuple[Caution, ...]:
        """The cautions that some row deserves; one that several places share is told once, at the first."""
        found: dict[tuple[str, str], Caution] = {}
        for probe, rows in zip(self.probes, self.counts.tolist(), strict=False):
            if rows:
                found.setdefault((probe.caution, probe.detail), Caution(probe.caution, rows, probe.detail, probe.hint))
        for case, counts in zip(self.cases, self._by_case(), strict=True):
            ways = len(case.conditions)
            for when, taken, held in zip(case.whens, counts, counts[ways + 2 :], strict=False):
                if held and not taken:
                    detail = f"{when[:60]} is true in them, but an earlier branch has taken them all"
                    found.setdefault(
                        ("branch never reached", detail), Caution("branch never reached", held, detail, "put it before that one")
                    )
        return tuple(found.values())

    def _by_case(self) -> list[list[int]]:
        """The counts of each CASE: its branches, ELSE, ELSE because unknown, and the rows that each branch's condition holds for."""
        made, at = [], len(self.probes)
        for case in self.cases:
            size = 2 * len(case.conditions) + 2
            made.append(self.counts[at : at + size].tolist())
            at += size
        return made

    def branches(self) -> tuple[BranchCount, ...]:
        """The rows of every CASE."""
        made = []
        for case, counts in zip(self.cases, self._by_case(), strict=True):
            ways = len(case.conditions)
            taken = tuple(zip(case.whens, counts, strict=False))
            made.append(BranchCount(case.text, taken, counts[ways], counts[ways + 1], case.has_else))
        return tuple(made)
