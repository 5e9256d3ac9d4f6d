"""A plan bound to its table before the first row is processed; every mistake is found at once."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import Any

from msgspec.structs import asdict, replace

from gravel.inspecting.aggregates import aggregates_in, bind_aggregate
from gravel.inspecting.cautions import Watch
from gravel.language import parse, tree
from gravel.language.diagnostics import Diagnostic
from gravel.language.parameters import from_plan
from gravel.language.scope import Given, Scope, find_column
from gravel.language.type_names import named_type
from gravel.language.types import TEXT, Type
from gravel.plans.binder import Binder, SqlFragment
from gravel.plans.destination import IN_PLACE, Destination, destination_of
from gravel.plans.mistakes import by_line
from gravel.plans.model import Expected, PlanFile
from gravel.plans.steps import BoundPlan, BoundStep, BoundTotal, PlanColumn, record_path
from gravel.plans.verbs import step_kind
from gravel.problems import CallProblem, Problem, Problems, TableProblem
from gravel.querying.members import members_of
from gravel.sinks import files
from gravel.sinks.atomic_file import is_stream
from gravel.sources.read_options import reading_of
from gravel.sources.source import Malformed, Source
from gravel.spark import open_by
from gravel.stores.sql import is_database, parted


def bind_plan(
    plan: PlanFile, context: Given | None = None, *, guess: bool = False, engine: str | None = None
) -> BoundPlan:
    """Open the plan's table and bind its steps; with `guess` to types that the first rows suggest,
    which reading may refute by InferredTypeRefuted. `engine`: the address of what its tables are
    read by, instead of this machine. Raises Problems with all mistakes, TableProblem."""
    table, declared = _open(plan, engine)
    context = Given() if context is None else context
    context = replace(context, parameters={**from_plan(plan.model.params), **context.parameters})
    context = replace(
        context,
        members=members_of(context, plan.path.parent, partial(_tell_malformed, table), engine),
    )
    if engine is None and guess and not _typed(plan, table):
        try:
            return _bind(plan, table, declared, context, table.guess)
        except Problems:
            pass  # a mistake is told with the types of all rows
    return _bind(plan, table, declared, context, table.types)


def _typed(plan: PlanFile, table: Source) -> bool:
    """Whether the output has types of its own, which are those of all values."""
    try:
        return destination_of(plan, table).typed
    except CallProblem:
        return False  # told when the plan is bound


def _tell_malformed(table: Source, name: str, malformed: Sequence[Malformed]) -> None:
    """Records that a subquery's table has and that are not rows."""
    message = f"the subquery's {name} has {len(malformed):,} malformed records, which are not rows"
    if message not in table.notes:
        table.notes.append(message)


def _open(plan: PlanFile, engine: str | None) -> tuple[Source, dict[str, Type]]:
    model, folder = plan.model, plan.path.parent
    mistakes: list[Problem] = []
    declared = {}
    for column, text in model.types.items():
        try:
            named = named_type(text)
            if named.length is not None or named.bits != 64:
                raise CallProblem(
                    f"a column is declared by its kind, not as {named}",
                    hint="declare TEXT or INTEGER and let a step check it",
                )
            declared[column] = named.type
        except CallProblem as problem:
            problem.place = f"{plan.name}:{plan.line('types', column)}"
            mistakes.append(problem)
    if mistakes:
        raise Problems(by_line(mistakes))
    try:
        stated = {key: value for key, value in asdict(model.read).items() if value is not None}
        reading = reading_of(stated, declared=declared)
        with options_as_keys():
            table = open_by(engine, model.table, reading, folder)
    except CallProblem as problem:
        column = next((name for name in model.types if f"column {name}" in problem.message), "")
        problem.place = f"{plan.name}:{plan.line('types', column) if column else plan.line('read')}"
        raise
    return table.whole(), declared


@contextmanager
def options_as_keys() -> Iterator[None]:
    """Let hints that name options of the command line name keys of `[read]`."""
    try:
        yield
    except TableProblem as problem:
        if problem.hint.startswith("--"):
            problem.hint = "in [read]: " + re.sub(
                r"--(\w+) (\d+|'[^']*'|[^\s,]+|,)", _as_toml, problem.hint
            )
        raise


def _as_toml(option: re.Match[str]) -> str:
    """An option of the command line as a key of `[read]`."""
    value = option[2].strip("'")
    return f"{option[1]} = {value}" if value.isdigit() else f'{option[1]} = "{value}"'


def _bind(
    plan: PlanFile,
    table: Source,
    declared: dict[str, Type],
    context: Given,
    types: Callable[[list[int]], dict[int, Type]],
) -> BoundPlan:
    model = plan.model
    binder = Binder(plan, table, context, declared=frozenset(declared))
    for index, step in enumerate(model.step):
        only = [SqlFragment(("only",), "expression", step.only)] if step.only is not None else []
        binder.parse(index, [*step_kind(step.verb).sql_fragments(step), *only])
    totals = [_parsed_total(binder, position, text) for position, text in enumerate(model.totals)]
    to = binder.told(("write",), partial(destination_of, plan, table))
    reads = (
        set(range(len(table.columns)))
        if to is not None and to.typed
        else _reads(plan, binder, totals, table.columns)
    )
    known = types(sorted(reads))
    source = tuple(
        PlanColumn(name, known.get(position, TEXT), position, False)
        for position, name in enumerate(table.columns)
    )
    binder.columns = source
    scopes = [binder.scope()]
    steps = []
    for index in range(len(model.step)):
        steps.append(_bind_step(binder, index))
        scopes.append(binder.scope())
    bound_totals = [
        _bind_total(binder, position, node, scopes)
        for position, node in enumerate(totals)
        if node is not None
    ]
    names = model.key or (list(table.store_key) if to is not None and to.database else [])
    key = _key(binder, names, source, "key")
    enforced = (
        to is not None
        and to.kind == IN_PLACE
        and set(names) == set(table.store_key)
        and not set(names) & set(table.computed)
    )
    after, no_key = _key_after(binder, key, enforced)
    others = _others(binder)
    target, rejects = (plan.path, plan.path) if to is None else _targets(binder, others, to)
    if to is not None and to.kind == IN_PLACE:
        _may_stay(binder, key)
    if binder.mistakes:
        raise Problems(by_line(binder.mistakes))
    untouched = tuple(
        (column.source, position)
        for position, column in enumerate(binder.columns)
        if column.source is not None and not column.touched
    )
    assert to is not None
    return BoundPlan(
        plan,
        table,
        tuple(steps),
        source,
        binder.columns,
        key,
        after,
        no_key,
        untouched,
        tuple(bound_totals),
        target,
        rejects,
        context,
        to,
        others,
    )


def _bind_step(binder: Binder, index: int) -> BoundStep:
    binder.at = index
    step, before = binder.step, binder.columns
    only = None if step.only is None else binder.condition(step.only, "only")
    action, after, watch = step_kind(step.verb).bind(binder)
    if only is not None and step.only is not None:
        watch = Watch([(only, step.only)])  # what the step's own expressions meet are other rows
    binder.columns = after
    # A mistake of type is told with the rows that do not fit as long as the columns are those of
    # the table.
    binder.pristine = binder.pristine and after == before
    expected = None if step.rows is None else Expected.of(step.rows)
    on_error = step.on_error or binder.plan.model.on_error
    return BoundStep(
        index + 1,
        step.verb,
        step.note,
        on_error,
        expected,
        before,
        after,
        action,
        only,
        step.only or "",
        watch,
    )


def _reads(plan: PlanFile, binder: Binder, totals: list[Any], columns: tuple[str, ...]) -> set[int]:
    """Positions of the table's columns that some step names: those whose types matter."""
    result = {name for name in plan.model.key if name in columns}
    for node in [*binder.parsed.values(), *(total for total in totals if total is not None)]:
        for part in node if isinstance(node, (list, tuple)) else (node,):
            result |= {item.text for item in parse.walk(part) if isinstance(item, tree.Name)}
    for step in plan.model.step:
        more = step_kind(step.verb).columns_read(step)
        result |= set(columns) if "*" in more else set(more)
    folded = {name.casefold(): position for position, name in reversed(list(enumerate(columns)))}
    places = {
        columns.index(name) if name in columns else folded.get(name.casefold()) for name in result
    }
    return {place for place in places if place is not None}


def _parsed_total(binder: Binder, index: int, text: str) -> tree.Aggregate | None:
    """A control total as an aggregate: an expression that is none is summed."""
    node = binder.told(("totals", index), partial(parse.expression, text))
    if node is None:
        return None
    if isinstance(node, tree.Aggregate):
        return node
    if aggregates_in(node):
        inner = Diagnostic(
            "a total is an aggregate by itself, or an expression to sum", text, node.start, node.end
        )
        binder.mistakes.append(
            inner.locate(binder.plan.name, binder.plan.text_line("totals", index))
        )
        return None
    return tree.Aggregate(
        node.start, node.end, "SUM", (node,), False, False, None, (), None, node.start
    )


def _bind_total(
    binder: Binder, index: int, node: tree.Aggregate, scopes: list[Scope]
) -> BoundTotal:
    text = binder.plan.model.totals[index]
    places: list[Any] = [
        binder.told(("totals", index), partial(bind_aggregate, node, scopes[0], text))
    ]
    for scope in scopes[1:]:
        try:
            places.append(bind_aggregate(node, scope, text))
        except Diagnostic:
            places.append(None)  # a step has taken away what it reads
    return BoundTotal(text, node.name.upper() == "SUM" and not node.distinct, tuple(places))


def _key(
    binder: Binder, names: list[str], columns: tuple[PlanColumn, ...], what: str
) -> tuple[int, ...]:
    results = []
    known = tuple(column.name for column in columns)
    for index, name in enumerate(names):
        place = binder.told(
            (what, index), partial(find_column, tree.Name(0, len(name), name), known, name)
        )
        if place is not None:
            results.append(place)
    return tuple(results)


def _key_after(
    binder: Binder, key: tuple[int, ...], enforced: bool
) -> tuple[tuple[int, ...] | None, str]:
    """Where the key stands in the output, or why there is none to prove; `enforced`: by a table
    that is changed in place, which takes no row whose key another one has."""
    model = binder.plan.model
    if model.key_after is not None:
        return _key(binder, model.key_after, binder.columns, "key_after"), ""
    if not key:
        return None, ""
    if binder.multiplies and not enforced:
        return None, "a step makes several rows of one, and the plan states no key_after"
    places = {
        column.source: index
        for index, column in enumerate(binder.columns)
        if column.source is not None
    }
    gone = [binder.table.columns[index] for index in key if index not in places]
    if gone:
        return (
            None,
            (
                f"{', '.join(gone)} {'is' if len(gone) == 1 else 'are'} not among the output's"
                " columns, and the plan states no key_after"
            ),
        )
    return tuple(places[index] for index in key), ""


def _others(binder: Binder) -> tuple[Path, ...]:
    """The files of the other tables that the steps' texts name."""
    results = []
    for node in binder.parsed.values():
        for part in node if isinstance(node, (list, tuple)) else (node,):
            for item in parse.walk(part):
                if isinstance(item, tree.TableReference) and not item.is_name:
                    # A table of a database is read from the file before its name; a pattern from
                    # all it meets.
                    named = Path(binder.plan.path.parent, item.reference)
                    if not named.exists():
                        named = Path(str(named).partition("#")[0])
                    every = (
                        [named]
                        if named.is_file()
                        else sorted(named.parent.glob(named.name))
                        if "*" in named.name
                        else []
                    )
                    results += [path for path in every if path.is_file() and path not in results]
    return tuple(sorted(results))


def _may_stay(binder: Binder, key: tuple[int, ...]) -> None:
    """Whether the steps leave a table that can be changed in place."""
    plan, table = binder.plan, binder.table
    place = f"{plan.name}:{plan.line('write')}"
    if not key:
        message = "a table is changed in place by its key, and the plan states none"
        hint = (
            ""
            if table.store_key
            else f"{table.name} has no primary key: say which columns find a row"
        )
        binder.mistakes.append(CallProblem(message, place=place, hint=hint))
    names = [column.name for column in binder.columns]
    more = [name for name in names if name not in table.columns]
    lost = [name for name in table.columns if name not in names]
    if more or lost:
        message = f"the steps make a column {more[0]}" if more else f"the steps take {lost[0]} away"
        binder.mistakes.append(
            CallProblem(
                f"{message}, and a table that is changed in place keeps its columns",
                place=place,
                hint='write = "FILE.db#new_table"',
            )
        )
    unknown = [name for name in plan.model.store_sets if name not in table.columns]
    if unknown:
        binder.mistakes.append(
            CallProblem(f"store_sets: {table.name} has no column {unknown[0]}", place=place)
        )


def _targets(binder: Binder, others: tuple[Path, ...], to: Destination) -> tuple[Path, Path]:
    """The file to write (for a database one beside the plan, after which others are named), and
    that of the rejected rows."""
    plan, table = binder.plan, binder.table
    model, target = plan.model, to.home
    place = f"{plan.name}:{plan.line('write')}"
    ending = ".csv" if to.kind != "text" else target.suffix or ".csv"
    stem = (
        target.name[: len(target.name) - len(files.ending(target))]
        if to.kind == "file"
        else target.stem
    )
    rejects = target.with_name(f"{stem}-rejects{ending}")
    if to.kind == "text" and is_stream(target):
        # Beside a device or a pipe is no place for a file: the rows left behind go beside the plan.
        rejects = plan.path.resolve().with_name(f"{plan.path.stem}-rejects.csv")
    if model.rejects is not None and not to.left_table:
        rejects = (plan.path.parent / model.rejects).resolve()
        if rejects.suffix.lower() not in (".csv", ".tsv"):
            what = f"{plan.name}:{plan.line('rejects')}"
            binder.mistakes.append(
                CallProblem(
                    "the rejected rows go to a .csv file, or to a table of the database", place=what
                )
            )
        if rejects in (target, record_path(target), plan.path.resolve()):
            binder.mistakes.append(
                CallProblem(
                    "the rejected rows would go to the file of the others",
                    place=place,
                    hint="name another file",
                )
            )
    written = {rejects, record_path(target)} | (set() if to.database else {target})
    own = any(table.reads(item) for item in written) or bool(
        {other.resolve() for other in others} & written
    )
    if to.kind == "table":
        own |= _reads_table(binder, to, to.table) or bool(
            to.left_table and _reads_table(binder, to, to.left_table)
        )
    elif to.left_table:
        own |= _reads_table(binder, to, to.left_table)
    if own:
        hint = (
            'name another table, or change it where it is: write = "in place"'
            if to.database
            else "name another file"
        )
        binder.mistakes.append(
            CallProblem("the plan would write over its own input", place=place, hint=hint)
        )
    return target, rejects


def _reads_table(binder: Binder, to: Destination, name: str) -> bool:
    """Whether a table of the destination's database is one that the plan reads."""
    folder = binder.plan.path.parent
    references = [binder.plan.model.table]
    for node in binder.parsed.values():
        for part in node if isinstance(node, (list, tuple)) else (node,):
            references += [
                item.reference
                for item in parse.walk(part, queries=True)
                if isinstance(item, tree.TableReference) and not item.is_name
            ]
    for reference in references:
        if not is_database(reference):
            continue
        address, table = parted(reference)
        same = to.is_base(address, folder)
        read = table or binder.table.part  # a database's only table need not be named
        if same and name.rpartition(".")[2].casefold() == read.rpartition(".")[2].casefold():
            return True
    return False
