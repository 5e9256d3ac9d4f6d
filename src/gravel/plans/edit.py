"""Steps added to plan files: comments and layout are kept."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import tomlkit
from msgspec import Struct

from gravel.hidden import unmarked
from gravel.inspecting.attempt import Trial
from gravel.language import parse, tree
from gravel.language.types import Kind, Type
from gravel.lazily import lazily
from gravel.sinks.atomic_file import write_whole
from gravel.sources.source import Source

with lazily():
    from gravel.plans import loading
    from gravel.sinks import files


def step_text(trial: Trial) -> str:
    """The step of a trial as TOML, to paste."""
    return tomlkit.dumps(_step(trial, "")).strip()


def _step(trial: Trial, note: str) -> Any:
    document = tomlkit.document()
    steps = tomlkit.aot()
    step = tomlkit.table()
    if note:
        step.add("note", note)
    one_line = len(trial.assignments) == 1 and "\n" not in trial.assignments[0].text
    assigned: Any = tomlkit.inline_table() if one_line else tomlkit.table()
    for attempt in trial.assignments:
        assigned.add(
            attempt.column,
            _string(
                " ".join(attempt.text.split())
                if "'" not in attempt.text and '"' not in attempt.text
                else attempt.text
            ),
        )
    step.add("set", assigned)
    steps.append(step)
    document.add("step", steps)
    return document


def _string(text: str) -> Any:
    return tomlkit.string(text, multiline="\n" in text)


def add_step(path: Path, table: Source, trial: Trial, note: str) -> int:
    """Append a trial's step to a plan, or begin one; the step's number. The types its expressions
    were bound to go under [types] where they are new. Raises what reading the plan raises,
    TableProblem if it cannot be written.
    """
    return _append(path, table, _step(trial, note), trial)


def _append(path: Path, table: Source, new: Any, trial: Trial | None) -> int:
    """Append the step of a document to a plan; what a trial was bound to is stated."""
    if path.exists():
        loading.read_plan(path)
        with open(path, encoding="utf-8", newline="") as file:
            document = tomlkit.parse(file.read())
    else:
        document = _begun(path, table)
    if trial is not None:
        _types(document, trial)
    steps = document.get("step", [])
    count = len(steps) + 1
    if steps and not isinstance(steps, tomlkit.items.AoT):
        steps.append(_inline(new["step"][0].unwrap()))  # step = [ {…}, {…} ]
        text = tomlkit.dumps(document)
    else:
        text = tomlkit.dumps(document).rstrip("\n") + "\n\n" + tomlkit.dumps(new)
    _write(path, text)
    return count


def add_text(path: Path, table: Source, step: str, note: str) -> int:
    """Append a step given as TOML to a plan, or begin one; the step's number. Raises as add_step
    does."""
    new: Any = tomlkit.parse(step)
    if note:
        body = tomlkit.table()
        body.add("note", note)
        for name, value in new["step"][0].items():
            body.add(name, value)
        steps = tomlkit.aot()
        steps.append(body)
        new = tomlkit.document()
        new.add("step", steps)
    return _append(path, table, new, None)


class SuggestedStep(Struct, frozen=True):
    """A step to be: an assignment as text, or the condition of rows to drop, and the evidence for
    it."""

    text: str
    note: str
    drop: bool = False


def begin_plan(
    path: Path,
    table: Source,
    suggested: Sequence[SuggestedStep],
    key: list[str],
    types: dict[str, Type],
) -> None:
    """Write a new plan of these steps, that states the types of the columns it reads. Raises
    TableProblem if it cannot be written."""
    document = _begun(path, table)
    if key:
        document.add("key", key)
    parsed = [
        parse.expression(item.text) if item.drop else parse.assignment(item.text)
        for item in suggested
    ]
    read = {name.text.casefold() for item in parsed for name in parse.column_names(item)} | {
        item.name.casefold() for item in parsed if isinstance(item, tree.Named)
    }
    stated = tomlkit.table()
    for name, kind in types.items():
        if name.casefold() in read:
            stated.add(name, type_text(kind))
    document.add(tomlkit.nl())
    document.add("types", stated)
    steps = tomlkit.aot()
    for entry, node in zip(suggested, parsed, strict=True):
        step = tomlkit.table()
        step.add("note", entry.note)
        if isinstance(node, tree.Named):
            assigned = tomlkit.inline_table()
            assigned.add(
                node.name, _string(entry.text[node.expression.start : node.expression.end])
            )
            step.add("set", assigned)
            step.add("rows", "same")
        else:
            step.add("drop_rows", _string(entry.text))
        steps.append(step)
    document.add("step", steps)
    _write(path, tomlkit.dumps(document))


def _begun(path: Path, table: Source) -> Any:
    """The head of a new plan: what it reads and writes."""
    document = tomlkit.document()
    if table.server:
        document.add("table", tomlkit.string(table.name))  # its password is not written down
        document.add(
            "write",
            tomlkit.string(
                str(_free(path.parent, Path(f"{re.split('[.#:]', table.name)[-1]}-clean.csv")))
            ),
        )
        return document
    several = table.sources[0] is not table
    relative = os.path.relpath(table.name if several else table.origin, path.parent)
    document.add("table", tomlkit.string(f"{relative}#{table.part}" if table.part else relative))
    source = Path(relative)
    # The result is of the source's format, under a name that the pattern of several files does not
    # meet.
    packed = source.suffix if source.suffix.lower() in files.PACKED else ""
    plain = Path(source.name.removesuffix(packed))
    if several and not plain.suffix:  # a folder
        plain = plain.with_suffix(table.path.suffix)
    ending = plain.suffix + packed if plain.suffix.lower() in files.ENDINGS else ".csv"
    result = f"clean-{plain.stem.strip('*?-_')}" if several else f"{table.part or plain.stem}-clean"
    document.add(
        "write", tomlkit.string(str(_free(path.parent, source.with_name(result + ending))))
    )
    _reading(document, table)
    return document


def _free(folder: Path, target: Path) -> Path:
    """The target, or with a number where a file of that name is there."""
    stem, ending = target.name.split(".", 1)
    names = (
        target,
        *(target.with_name(f"{stem}-{number}.{ending}") for number in range(2, 10_000)),
    )
    return next(item for item in names if not (folder / item).exists())


def _write(path: Path, text: str) -> None:
    """Put a plan in its place, whole or not at all."""
    write_whole(path, unmarked(text))


def _inline(values: dict[str, Any]) -> Any:
    result = tomlkit.inline_table()
    for name, value in values.items():
        result.append(name, _inline(value) if isinstance(value, dict) else value)
    return result


def _reading(document: Any, table: Source) -> None:
    """What the file was read with, where that is not what a plan would find by itself."""
    settled = {name: value for name, value in table.reading.settled().items() if name != "text"}
    if settled:
        document.add("read", _inline(settled))


def _types(document: Any, trial: Trial) -> None:
    known = document.get("types")
    fresh = {name: kind for name, kind in trial.types.items() if known is None or name not in known}
    if not fresh:
        return
    if known is None:
        known = tomlkit.table()
        # Before the steps, since a plan is read from the top.
        body = [key for key in document if key == "step"]
        if body:
            steps = document.pop("step")
            document.add("types", known)
            document.add("step", steps)
        else:
            document.add(tomlkit.nl())
            document.add("types", known)
    for name, kind in fresh.items():
        known.add(name, type_text(kind))


def type_text(kind: Type) -> str:
    """A found type as a plan states it: with room for longer numbers in next month's file."""
    return f"DECIMAL(38,{kind.scale})" if kind.kind is Kind.DECIMAL else str(kind)
