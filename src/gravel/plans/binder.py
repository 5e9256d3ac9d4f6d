"""Binding the parts of a step, with every mistake kept at its line of the plan instead of
raised."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import nullcontext
from functools import partial
from typing import Any, TypeVar

from msgspec import Struct, field
from msgspec.structs import replace

from gravel.inspecting.binding import explaining, note_types
from gravel.language import nodes, parse, tree
from gravel.language.bind import bind, bind_condition
from gravel.language.diagnostics import Diagnostic
from gravel.language.scope import Given, Scope, find_column
from gravel.plans.model import PlanFile, Step
from gravel.plans.steps import PlanColumn, names_of
from gravel.problems import CallProblem, Problem
from gravel.sources.source import Source

T = TypeVar("T")
Path = tuple[str | int, ...]
PARSERS: dict[str, Callable[[str], Any]] = {
    "expression": parse.expression,
    "sort": parse.sort_list,
    "named": parse.named,
    "query": parse.query,
}


class SqlFragment(Struct, frozen=True):
    """A text of a step that is SQL: where it stands in the step, what it is (a key of PARSERS), and
    the text."""

    path: Path
    kind: str
    text: str


class Binder(Struct):
    """A plan's steps being bound, one after another: the columns under way, what was parsed, the
    mistakes so far."""

    plan: PlanFile
    table: Source
    given: Given
    columns: tuple[PlanColumn, ...] = ()
    declared: frozenset[str] = frozenset()
    parsed: dict[Path, Any] = field(default_factory=dict)
    mistakes: list[Problem] = field(default_factory=list)
    at: int = 0
    pristine: bool = True
    multiplies: bool = False

    @property
    def step(self) -> Step:
        """The step being bound."""
        return self.plan.model.step[self.at]

    def parse(self, index: int, fragments: Sequence[SqlFragment]) -> None:
        """Parse a step's texts; those that do not parse are told."""
        for item in fragments:
            result = self.told(("step", index, *item.path), partial(PARSERS[item.kind], item.text))
            if result is not None:
                self.parsed["step", index, *item.path] = result

    def node(self, *path: str | int) -> Any:
        """What the text at a path of the step was parsed to, None if it was not."""
        return self.parsed.get(("step", self.at, *path))

    def scope(self) -> Scope:
        """The columns under way."""
        return Scope(
            names_of(self.columns),
            tuple(column.type for column in self.columns),
            self.declared,
            self.given,
        )

    def told(self, path: Path, work: Callable[[], T]) -> T | None:
        """What `work` gives; a Diagnostic is kept with its place in the plan."""
        try:
            return work()
        except Diagnostic as problem:
            self.mistakes.append(problem.locate(self.plan.name, self.plan.text_line(*path)))
        except CallProblem as problem:
            problem.place = f"{self.plan.name}:{self.plan.line(*path)}"
            self.mistakes.append(problem)
        return None

    def wrong(self, message: str, *path: str | int, hint: str = "") -> None:
        """Tell a mistake of the step at a path."""
        self.mistakes.append(
            CallProblem(
                message,
                place=f"{self.plan.name}:{self.plan.line('step', self.at, *path)}",
                hint=hint,
            )
        )

    def expression(
        self, text: str, *path: str | int, scope: Scope | None = None
    ) -> nodes.Expression | None:
        """The expression at a path of the step, bound."""
        node = self.node(*path)
        if node is None:
            return None
        scope = scope or self.scope()
        return self._noted(
            self.told(
                ("step", self.at, *path),
                partial(self._explained, scope, partial(bind, node, scope, text)),
            )
        )

    def condition(self, text: str, *path: str | int) -> nodes.Expression | None:
        """The condition at a path of the step, bound."""
        if self.node(*path) is None:
            return None
        scope = self.scope()
        return self._noted(
            self.told(
                ("step", self.at, *path),
                partial(self._explained, scope, partial(bind_condition, text, scope)),
            )
        )

    def _noted(self, bound: nodes.Expression | None) -> nodes.Expression | None:
        """The expression; which columns it reads as texts, for want of a type, is noted."""
        read = (
            []
            if bound is None
            else [self.columns[item.index] for item in nodes.columns_read(bound)]
        )
        note_types(
            self.table,
            {
                item.source: item.type
                for item in read
                if item.source is not None and not item.touched
            },
        )
        return bound

    def sort(self, text: str, *path: str | int) -> list[tuple[tree.SortKey, nodes.Expression]]:
        """The sort keys at a path of the step, bound."""
        results = []
        scope = self.scope()
        for key in self.node(*path) or ():
            bound = self.told(
                ("step", self.at, *path),
                partial(self._explained, scope, partial(bind, key.expression, scope, text)),
            )
            if bound is not None:
                results.append((key, bound))
        return results

    def _explained(self, scope: Scope, work: Callable[[], T]) -> T:
        # Mismatches can be counted where the columns still are as they were read.
        with explaining(self.table, scope) if self.pristine else nullcontext():
            return work()

    def column(self, name: str, *path: str | int) -> int | None:
        """The position of a column named at a path of the step."""
        names = names_of(self.columns)
        return self.told(
            ("step", self.at, *path),
            partial(find_column, tree.Name(0, len(name), name), names, name),
        )

    def fresh(self, names: Sequence[str], *path: str | int) -> None:
        """Tell names that are blank or twice."""
        for index, name in enumerate(names):
            if not name.strip():
                self.wrong("a column needs a name", *path)
            if name in names[:index]:
                self.wrong(f"there would be two columns {name}", *path)


def touched(column: PlanColumn, **changes: Any) -> PlanColumn:
    """The column as one that a step may have changed."""
    return replace(column, touched=True, split=None, **changes)
