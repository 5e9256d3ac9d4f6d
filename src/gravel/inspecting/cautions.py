"""Cautions and branches counted over a table, batch by batch, beside what is computed anyway."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Annotated

import numpy as np
from msgspec import Struct

from gravel.engine.evaluate import run
from gravel.engine.frame import Frame
from gravel.figures import Figures, Unlisted
from gravel.kernels.arrays import to_arrow
from gravel.language import nodes
from gravel.language.cautions.finder import ListItems
from gravel.language.cautions.probe import Branches, Probe
from gravel.language.cautions.search import bounds, branches, moments, probes
from gravel.language.functions.casts import to_text

EXAMPLES = 3


@dataclass(frozen=True)
class Caution(Figures):
    """Rows that deserve a caution, what they are, an expression or a step that avoids it, and some
    of the values."""

    caution: str
    rows: int
    detail: str
    hint: str
    examples: tuple[str, ...] = ()


@dataclass(frozen=True)
class BranchRows(Figures):
    """The rows that took one WHEN of a CASE."""

    when: str
    rows: int


@dataclass(frozen=True)
class BranchCount(Figures):
    """The rows that took each way of a CASE; `unknown` ones of `otherwise` had no condition that
    was false throughout."""

    text: Annotated[str, "case"]
    branches: tuple[BranchRows, ...]
    otherwise: Annotated[int, "else"]
    unknown: Annotated[int, "else_unknown"]
    has_else: Unlisted[bool]


class Sightings(Struct, frozen=True):
    """What a watch saw in some rows: for how many each condition was true, and the first texts of
    those probes that show some."""

    counts: np.ndarray
    examples: dict[int, tuple[str, ...]]

    def __add__(self, other: Sightings) -> Sightings:
        """Of both, those of `self` first."""
        examples = {
            index: tuple(
                dict.fromkeys((*self.examples.get(index, ()), *other.examples.get(index, ())))
            )[:EXAMPLES]
            for index in self.examples.keys() | other.examples.keys()
        }
        return Sightings(self.counts + other.counts, examples)


class Watch:
    """The probes of some expressions, and how many rows each has met. `count` may run on any
    thread, `add` on one."""

    def __init__(
        self,
        expressions: Iterable[tuple[nodes.Expression, str]],
        counted: bool = False,
        beside: ListItems | None = None,
        targets: Sequence[nodes.Column | None] = (),
    ) -> None:
        pairs = list(expressions)
        self.probes: list[Probe] = probes(pairs, counted, beside, targets)
        self.strict: list[Probe] = bounds(pairs)
        self.cases: list[Branches] = [case for item, text in pairs for case in branches(item, text)]
        self.moments = moments([item for item, _ in pairs])
        self._usual = {
            index: probe.usual for index, probe in enumerate(self.probes) if probe.usual is not None
        }
        self._conditions = [probe.condition for probe in (*self.probes, *self.strict)] + list(
            self._usual.values()
        )
        for case in self.cases:
            self._conditions += [*case.conditions, case.otherwise, case.unknown, *case.holding]
        self.seen = Sightings(np.zeros(len(self._conditions), np.int64), {})

    def count(self, frame: Frame) -> Sightings:
        """What the rows of a batch show."""
        counts = np.zeros(len(self._conditions), np.int64)
        examples = {}
        for index, condition in enumerate(self._conditions):
            true = run(condition, frame).true(frame.count)
            counts[index] = true.sum()
            if (
                index < len(self.probes)
                and counts[index]
                and (shown := self.probes[index].example) is not None
            ):
                examples[index] = _texts(shown, frame, true)
        return Sightings(counts, examples)

    def add(self, seen: Sightings) -> None:
        """Take in what a batch showed."""
        self.seen = self.seen + seen

    def cautions(self) -> tuple[Caution, ...]:
        """The cautions that some row deserves; one that several places share is told once, at the
        first."""
        results: dict[tuple[str, str], Caution] = {}
        usual = dict(
            zip(
                self._usual,
                self.seen.counts[len(self.probes) + len(self.strict) :].tolist(),
                strict=False,
            )
        )
        for index, (probe, rows) in enumerate(
            zip(self.probes, self.seen.counts.tolist(), strict=False)
        ):
            if rows and usual.get(index, rows) >= rows:
                caution = Caution(
                    probe.caution, rows, probe.detail, probe.hint, self.seen.examples.get(index, ())
                )
                results.setdefault((probe.caution, probe.detail), caution)
        for case, counts in zip(self.cases, self._by_case(), strict=True):
            ways = len(case.conditions)
            for when, taken, held in zip(case.whens, counts, counts[ways + 2 :], strict=False):
                if held and not taken:
                    detail = (
                        f"{when[:60]} is true in them, but an earlier branch has taken them all"
                    )
                    results.setdefault(
                        ("branch never reached", detail),
                        Caution("branch never reached", held, detail, "put it before that one"),
                    )
        return tuple(results.values())

    def bounds(self) -> tuple[str, ...]:
        """Notes on the rows that equal the bound of a strict comparison."""
        counts = self.seen.counts[len(self.probes) :].tolist()
        message = {
            probe.detail: rows for probe, rows in zip(self.strict, counts, strict=False) if rows
        }
        return tuple(
            f"{rows:,} {'row' if rows == 1 else 'rows'}: {detail}"
            for detail, rows in message.items()
        )

    def days(self) -> tuple[str, ...]:
        """Notes on what CURRENT_DATE and its like were."""
        return tuple(f"{name} is {value}" for name, value in self.moments.items())

    def _by_case(self) -> list[list[int]]:
        """The counts of each CASE: its branches, ELSE, ELSE because unknown, and the rows that each
        branch's condition holds for."""
        result, index = [], len(self.probes) + len(self.strict) + len(self._usual)
        for case in self.cases:
            size = 2 * len(case.conditions) + 2
            result.append(self.seen.counts[index : index + size].tolist())
            index += size
        return result

    def branches(self) -> tuple[BranchCount, ...]:
        """The rows of every CASE."""
        results = []
        for case, counts in zip(self.cases, self._by_case(), strict=True):
            ways = len(case.conditions)
            taken = tuple(map(BranchRows, case.whens, counts))
            results.append(
                BranchCount(case.text, taken, counts[ways], counts[ways + 1], case.has_else)
            )
        return tuple(results)


def _texts(expression: nodes.Expression, frame: Frame, rows: np.ndarray) -> tuple[str, ...]:
    """The first different texts that an expression has in some rows."""
    values = run(expression, frame).spread(frame.count).values.filter(to_arrow(rows))[:1000]
    texts = to_text(values, expression.type).to_pylist()
    return tuple(dict.fromkeys(text for text in texts if text is not None))[:EXAMPLES]
