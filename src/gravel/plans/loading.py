"""Reading a plan file, with every mistake told at its line."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path
from typing import Any

import msgspec

from gravel.hidden import without
from gravel.plans.mistakes import by_line, of_form, of_steps
from gravel.plans.model import PlanFile, PlanModel
from gravel.plans.places import Place, places
from gravel.problems import CallProblem, Problems, TableProblem

_OLD_KEYS = {"left_behind": "rejects", "unique": "deduplicate"}
_LISTS = ("key", "key_after", "totals")  # one name stands for a list of one


def read_plan(path: Path, name: str = "") -> PlanFile:
    """Read a plan. Raises TableProblem if it cannot be read, Problems with every mistake of its
    form."""
    shown = name or str(path)
    try:
        text = without(path.read_text("utf-8-sig"))
    except FileNotFoundError:
        raise TableProblem(
            f"there is no plan {shown}", hint="gravel try … --add PLAN begins one"
        ) from None
    except (OSError, UnicodeDecodeError) as error:
        raise TableProblem(f"{shown} cannot be read: {error}") from None
    return parse_plan(text, path, shown)


def parse_plan(text: str, path: Path, shown: str, above: int = 0) -> PlanFile:
    """A plan's text; `above` lines of it were not written by the person, and are not counted.
    Raises as read_plan does."""
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        match = re.search(r"\(at line (\d+), column (\d+)\)|\(at end of document\)", str(error))
        line = (int(match[1]) if match and match[1] else text.count("\n") + 1) - above
        reason = re.sub(r" \(at .*", "", str(error))
        hint = f"gravel profile {shown} --suggest plan.toml begins a plan for a table"
        raise CallProblem(
            f"the plan is not valid TOML: {reason[:1].lower()}{reason[1:]}",
            place=f"{shown}:{line}",
            hint="" if path.suffix.lower() == ".toml" else hint,
        ) from None
    where = {
        key: Place(item.line - above, item.text_line - above) for key, item in places(text).items()
    }
    notes = _renamed(data, where, shown)
    data |= {name: [data[name]] for name in _LISTS if isinstance(data.get(name), str)}
    if data.get("write") == "/dev/stdout":
        data["write"] = "-"  # what that leads to may be a file, which would be written over
    if mistakes := of_form(data, shown, where):
        raise Problems(by_line(mistakes))
    plan = PlanFile(path, shown, text, msgspec.convert(data, PlanModel), where, notes)
    if mistakes := of_steps(plan):
        raise Problems(by_line(mistakes))
    return plan


def _renamed(data: dict[str, Any], where: dict[Any, Place], shown: str) -> tuple[str, ...]:
    """Give keys that were called otherwise once their names of today; notes that tell of them."""
    steps = data.get("step")
    tables: list[tuple[tuple[str | int, ...], Any]] = [((), data)]
    tables += [
        (("step", at), step) for at, step in enumerate(steps if isinstance(steps, list) else [])
    ]
    notes = []
    for key in ("delimiter", "encoding", "empty"):
        if key in data and isinstance(data.setdefault("read", {}), dict):
            data["read"].setdefault(key, data.pop(key))
            line = where[(key,)].line if (key,) in where else 1
            notes.append(f"{shown}:{line}: {key} stands in [read] now")
            for place in [place for place in where if place[:1] == (key,)]:
                where["read", *place] = where[place]
    for path, table in tables:
        for old, new in _OLD_KEYS.items():
            if isinstance(table, dict) and old in table and new not in table:
                table[new] = table.pop(old)
                line = where[(*path, old)].line if (*path, old) in where else 1
                notes.append(f"{shown}:{line}: {old} is called {new} now")
                length = len(path)
                for key in [key for key in where if key[: length + 1] == (*path, old)]:
                    where[(*path, new, *key[length + 1 :])] = where[key]
    return tuple(notes)
