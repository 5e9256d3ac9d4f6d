"""The steps of a plan bound to its table, before the first row is processed; every mistake is found at once."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import nullcontext
from dataclasses import dataclass, field, replace
from functools import partial
from pathlib import Path
from typing import TypeVar

from gravel.inspecting.attempt import target_column
from gravel.inspecting.binding import explaining
from gravel.inspecting.cautions import Watch
from gravel.language import nodes, parse, tree
from gravel.language.bind import Given, Scope, bind, bind_condition, find_column, named_type
from gravel.language.diagnostics import Diagnostic
from gravel.language.parameters import from_plan
from gravel.language.types import TEXT, Type
from gravel.plans.model import Expected, PlanFile, Step, by_line
from gravel.problems import CallProblem, Problem, Problems
from gravel.tables.csv import CsvTable
from gravel.tables.reference import Reading, open_table

T = TypeVar("T")


@dataclass(frozen=True)
class Assignment:
    """One column of a `set`: its position after the step, its name, its expression as text and bound; `new` if the
    table did not have it."""

    index: int
    name: str
    text: str
    expression: nodes.Expression
    new: bool


@dataclass(frozen=True)
class BoundStep:
    """A step whose expressions are bound to the columns it meets. `types` are the columns' types as it finds them."""

    number: int
    verb: str
    note: str
    on_error: str
    expected: Expected | None
    names: tuple[str, ...]
    types: tuple[Type, ...]
    assignments: tuple[Assignment, ...] = ()
    condition: nodes.Expression | None = None
    condition_text: str = ""
    watch: Watch = field(default_factory=lambda: Watch([]))


@dataclass(frozen=True)
class BoundPlan:
    """A plan ready to run. names, types: the columns after the last step; source_types: as they are read; `touched`:
    those that some step sets."""

    file: PlanFile
    table: CsvTable
    steps: tuple[BoundStep, ...]
    key: tuple[int, ...]
    names: tuple[str, ...]
    types: tuple[Type, ...]
    source_types: tuple[Type, ...]
    touched: frozenset[int]
    target: Path
    left_behind: Path


def bind_plan(plan: PlanFile, given: Given | None = None, *, guess: bool = False) -> BoundPlan:
    """Open the plan's table and bind its steps; with `guess` to types that the first rows suggest, which reading may
    refute by GuessFailed. Raises Problems with all mistakes, TableProblem."""
    table, declared = _open(plan)
    given = Given() if given is None else given
    given = replace(given, parameters={**from_plan(plan.model.params), **given.parameters})
    if guess:
        try:
            return _bind(plan, table, declared, given, table.guess)
        except Problems:
            pass  # a mistake is told with the types of all rows
    return _bind(plan, table, declared, given, table.types)


def _open(plan: PlanFile) -> tuple[CsvTable, dict[str, Type]]:
    model, folder = plan.model, plan.path.parent
    mistakes: list[Problem] = []
    declared = {}
    for column, text in model.types.items():
        try:
            named = named_type(text)
            if named.length is not None or named.bits != 64:
                raise CallProblem(
                    f"a column is declared by its kind, not as {named}", hint="declare TEXT or INTEGER and let a step check it"
                )
            declared[column] = named.type
        except CallProblem as problem:
            problem.place = f"{plan.name}:{plan.line('types', column)}"
            mistakes.append(problem)
    if mistakes:
        raise Problems(by_line(mistakes))
    delimiter = "\t" if model.delimiter == "tab" else model.delimiter
    try:
        table = open_table(model.table, Reading(delimiter, model.encoding, model.empty == "null", (), declared), folder)
    except CallProblem as problem:
        column = next((name for name in model.types if f"column {name}" in problem.message), "")
        problem.place = f"{plan.name}:{plan.line('types', column) if column else plan.line('delimiter')}"
        raise
    return table, declared


def _bind(
    plan: PlanFile, table: CsvTable, declared: dict[str, Type], given: Given, types: Callable[[list[int]], dict[int, Type]]
) -> BoundPlan:
    model, folder = plan.model, plan.path.parent
    mistakes: list[Problem] = []
    parsed = [_syntax(plan, index, step, mistakes) for index, step in enumerate(model.step)]
    scope = Scope(table.columns, (TEXT,) * len(table.columns), frozenset(declared), given)
    wanted = _first_reads(parsed, table.columns) | {table.columns.index(name) for name in model.key if name in table.columns}
    known = types(sorted(wanted))
    scope = Scope(table.columns, tuple(known.get(i, TEXT) for i in range(len(table.columns))), frozenset(declared), given)
    source, steps = scope, []
    touched: set[int] = set()
    for index, (step, syntax) in enumerate(zip(model.step, parsed, strict=True)):
        bound, scope = _bind_step(plan, index, step, syntax, scope, mistakes, None if touched else table)
        steps.append(bound)
        touched |= {one.index for one in bound.assignments}
    key = []
    for position, name in enumerate(model.key):
        at = _told(plan, ("key", position), mistakes, partial(find_column, tree.Name(0, len(name), name), table.columns, name))
        if at is not None:
            key.append(at)
    target = (folder / model.write).resolve()
    left_behind = target.with_name(f"{target.stem}-left-behind{target.suffix or '.csv'}")
    if target.exists() and not target.is_file():
        # Beside a device or a pipe is no place for a file: the rows left behind go beside the plan.
        left_behind = plan.path.resolve().with_name(f"{plan.path.stem}-left-behind.csv")
    if target == table.path.resolve() or left_behind == table.path.resolve():
        mistakes.append(
            CallProblem("the plan would write over its own input", place=f"{plan.name}:{plan.line('write')}", hint="name another file")
        )
    elif target.suffix.lower() not in (".csv", ".tsv", "") and not target.exists():
        mistakes.append(
            CallProblem(
                f"{model.write} cannot be written: its ending is not known",
                place=f"{plan.name}:{plan.line('write')}",
                hint="write to a .csv file",
            )
        )
    if mistakes:
        raise Problems(by_line(mistakes))
    return BoundPlan(plan, table, tuple(steps), tuple(key), scope.names, scope.types, source.types, frozenset(touched), target, left_behind)


Syntax = list[tuple[str, tree.Node, str]]


def _syntax(plan: PlanFile, index: int, step: Step, mistakes: list[Problem]) -> Syntax:
    """(column or '', tree, text) of each expression of a step; those that do not parse are told and left out."""
    found: Syntax = []
    texts = list((step.set or {}).items()) or [("", getattr(step, step.verb))]
    for column, text in texts:
        node = _told(plan, _path(index, step, column), mistakes, partial(parse.expression, text))
        if node is not None:
            found.append((column, node, text))
    return found


def _path(index: int, step: Step, column: str) -> tuple[str | int, ...]:
    return ("step", index, step.verb, column) if column else ("step", index, step.verb)


def _told(plan: PlanFile, path: tuple[str | int, ...], mistakes: list[Problem], work: Callable[[], T]) -> T | None:
    """What `work` gives; a Diagnostic is kept with its place in the plan instead of raised."""
    try:
        return work()
    except Diagnostic as problem:
        mistakes.append(problem.locate(plan.name, plan.text_line(*path)))
        return None


def _first_reads(parsed: list[Syntax], columns: tuple[str, ...]) -> set[int]:
    """Positions of the table's columns that some expression names: those whose types matter."""
    folded = {name.casefold(): index for index, name in reversed(list(enumerate(columns)))}
    found = set()
    for syntax in parsed:
        for _, node, _ in syntax:
            for name in parse.column_names(node):
                index = columns.index(name.text) if name.text in columns else folded.get(name.text.casefold())
                if index is not None:
                    found.add(index)
    return found


def _explained(table: CsvTable | None, scope: Scope, work: Callable[[], T]) -> T:
    with explaining(table, scope) if table is not None else nullcontext():
        return work()


def _bind_step(
    plan: PlanFile, index: int, step: Step, syntax: Syntax, scope: Scope, mistakes: list[Problem], table: CsvTable | None
) -> tuple[BoundStep, Scope]:
    """Bind one step; `table` is the source where its columns still are as they were read, so that misfits can be counted."""
    names, types = list(scope.names), list(scope.types)
    assignments: list[Assignment] = []
    condition, condition_text = None, ""
    declared = set(scope.declared)
    for column, node, text in syntax:
        path = _path(index, step, column)
        if not column:
            condition = _told(plan, path, mistakes, partial(_explained, table, scope, partial(bind_condition, text, scope)))
            condition_text = text
            continue
        at, name = target_column(column, scope.names)
        new = at is None
        if new:
            at, name = len(names), column
            if not column.strip():
                mistakes.append(CallProblem("a column needs a name", place=f"{plan.name}:{plan.line(*path)}"))
            names.append(name)
            types.append(TEXT)
        if any(one.index == at for one in assignments):
            mistakes.append(CallProblem(f"{name} is set twice in one step", place=f"{plan.name}:{plan.line(*path)}"))
        bound = _told(plan, path, mistakes, partial(_explained, table, scope, partial(bind, node, scope, text)))
        if bound is not None and at is not None:
            types[at] = bound.type
            if not isinstance(bound, nodes.Column):
                declared.discard(name)
            assignments.append(Assignment(at, name, text, bound, new))
    watched = [(one.expression, one.text) for one in assignments]
    if condition is not None:
        watched.append((condition, condition_text))
    made = BoundStep(
        index + 1, step.verb, step.note, step.on_error, None if step.rows is None else Expected.of(step.rows),
        scope.names, scope.types, tuple(assignments), condition, condition_text, Watch(watched),
    )  # fmt: skip
    return made, Scope(tuple(names), tuple(types), frozenset(declared), scope.given)
