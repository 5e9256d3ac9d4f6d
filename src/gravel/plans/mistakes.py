"""What is wrong with the form of a plan: keys that it does not have or does not know, values of
another kind, steps that contradict themselves."""

from __future__ import annotations

import datetime
import json
import re
from collections.abc import Callable, Iterable, Iterator
from functools import cache
from typing import Any

from msgspec import Struct, inspect

from gravel.inspecting.check import allowance
from gravel.plans.model import VERBS, Expected, PlanFile, PlanModel, Split, Step
from gravel.plans.places import Place
from gravel.problems import CallProblem, Problem, nearest

Path = tuple[str | int, ...]

# What a key takes, by the kind of its value.
_KINDS: dict[type[inspect.Type], tuple[type | tuple[type, ...], str]] = {
    inspect.StrType: (str, "a text in quotes"),
    inspect.ListType: (list, "a list"),
    inspect.DictType: (dict, "a table"),
    inspect.StructType: (dict, "a table"),
    inspect.IntType: (int, "a whole number"),
    inspect.BoolType: (bool, "true or false"),
}
_PLAIN = (str, int, float, bool, datetime.date)
_PLAIN_WORDS = "a text in quotes, a number, true or false, a day or a moment"
# How a key is written.
_FORMS = {
    "set": 'set = { name = "TRIM(name)" }',
    "keep_rows": 'keep_rows = "fee > 0"',
    "drop_rows": 'drop_rows = "fee IS NULL"',
    "split": 'split = { column = "services", on = ";", into = "rows" }',
    "deduplicate": 'deduplicate = { by = ["name"], prefer = "since DESC" }',
    "columns": 'columns = ["boat_id", "name AS boat_name"]',
    "sort": 'sort = ["pier", "length_m DESC"]',
    "check": 'check = { "berth known" = "berth IS NOT NULL" }',
    "query": 'query = "SELECT pier, COUNT(*) AS boats FROM input GROUP BY pier"',
    "only": 'only = "fee > 0"',
    "allow": 'allow = "0.1%"',
    "by": 'by = ["name"]',
    "into": 'into = "rows", or names of columns',
    "column": 'column = "services"',
    "table": 'table = "boats.csv"',
    "write": 'write = "boats-clean.csv"',
    "params": "params = { least = 3, day = 2024-05-01 }",
    "key": 'key = ["boat_id"]',
    "totals": 'totals = ["fee"]',
    "types": 'types = { code = "TEXT" }',
    "read": '[read], and under it delimiter = ";"',
    "step": "[[step]], and under it what it does",
}


class _Mistake(Struct, frozen=True):
    """A mistake, and the key or value that it is about."""

    path: Path
    message: str
    hint: str = ""


def of_form(data: Any, shown: str, where: dict[Any, Place]) -> list[Problem]:
    """All that is wrong with the kinds of a plan's values, as TOML gives them."""
    mistakes = list(_of_table(data, _plan_type(), ()))
    if mistakes:
        mistakes += _without_verb(data)
    return [_at_its_line(mistake, shown, where) for mistake in mistakes]


@cache
def _plan_type() -> inspect.Type:
    return inspect.type_info(PlanModel)


def by_line(mistakes: list[Problem]) -> list[Problem]:
    """The mistakes in the order of their lines."""
    return sorted(
        mistakes,
        key=lambda item: int(match[1]) if (match := re.search(r":(\d+)", item.place)) else 0,
    )


def _at_its_line(mistake: _Mistake, shown: str, where: dict[Any, Place]) -> Problem:
    path = mistake.path
    line = next((where[path[:n]].line for n in range(len(path), -1, -1) if path[:n] in where), 1)
    return CallProblem(mistake.message, place=f"{shown}:{line}", hint=mistake.hint)


def _of_table(table: dict[str, Any], kind: Any, path: Path, form: str = "") -> Iterator[_Mistake]:
    """The mistakes of a table that is a class of the model; `form`: how the table is written."""
    fields = {field.encode_name: field for field in kind.fields}
    name = _NAMES.get(path[-1]) if path and isinstance(path[-1], str) else None
    what = name or ("a step" if path else "a plan")
    for key, field in fields.items():
        if key in table:
            yield from _of_value(table[key], field.type, (*path, key), _FORMS.get(key, form))
        elif field.required:
            said = f"the {what.removeprefix('a ')} does not say `{key}`"
            yield _Mistake(path, said, _FORMS.get(key, ""))
    for key in (key for key in table if key not in fields):
        near = next((own for own in _ELSEWHERE.get(key.lower(), ()) if own in fields), None)
        near = near or nearest(key, list(fields))
        hint = f"did you mean {near}?" if near else "keys: " + ", ".join(fields)
        yield _Mistake((*path, key), f"{what} has no key {key}", hint)


# What keys are called elsewhere, and what they may be here.
_ELSEWHERE: dict[str, tuple[str, ...]] = {
    word: (key,)
    for key, words in {
        "table": "input source from file",
        "write": "output target to into destination",
        "step": "steps",
        "read": "reading options",
        "params": "param parameters variables",
        "keep_rows": "filter where keep",
        "drop_rows": "drop delete remove exclude",
        "set": "update replace cast fill fillna mutate derive expression column",
        "split": "explode unnest",
        "deduplicate": "dedupe dedup distinct drop_duplicates",
        "columns": "rename select",
        "sort": "order order_by orderby",
        "check": "validate assert expect test",
        "query": "sql join lookup",
        "note": "name comment description title",
    }.items()
    for word in words.split()
}
_NAMES = {"read": "[read]", "split": "a split", "deduplicate": "a deduplicate"}


def _of_value(value: Any, kind: Any, path: Path, form: str) -> Iterator[_Mistake]:
    """The mistakes of a value, and of what is in it; `form`: how it is written."""
    kinds = kind.types if isinstance(kind, inspect.UnionType) else (kind,)
    taken = [item for item in kinds if not isinstance(item, inspect.NoneType)]
    fitting = next((item for item in taken if _fits(value, item)), None)
    if fitting is None:
        yield _Mistake(path, _wrong_kind(path, map(_taken, taken), value), form)
    elif isinstance(fitting, inspect.StructType):
        yield from _of_table(value, fitting, path, "" if fitting.cls is Step else form)
    elif isinstance(fitting, inspect.ListType):
        for index, item in enumerate(value):
            yield from _of_value(item, fitting.item_type, (*path, index), form)
    elif isinstance(fitting, inspect.DictType):
        for key, item in value.items():
            plain = path[-1] == "set" and isinstance(item, (bool, int, float))
            own = f'{key} = "{_as_toml_value(item)}"' if plain else form
            yield from _of_value(item, fitting.value_type, (*path, key), own)


def _fits(value: Any, kind: Any) -> bool:
    if isinstance(kind, inspect.LiteralType):
        return value in kind.values
    if isinstance(kind, inspect.EnumType):
        return value in [item.value for item in kind.cls]
    if isinstance(kind, inspect.AnyType):
        return isinstance(value, _PLAIN)
    if isinstance(value, bool):
        return isinstance(kind, inspect.BoolType)
    return isinstance(value, _KINDS[type(kind)][0])


def _taken(kind: Any) -> str:
    """What a key of a kind takes, in words."""
    if isinstance(kind, inspect.AnyType):
        return _PLAIN_WORDS
    if isinstance(kind, inspect.LiteralType):
        values = list(kind.values)
    elif isinstance(kind, inspect.EnumType):
        values = [item.value for item in kind.cls]
    else:
        return _KINDS[type(kind)][1]
    written = [json.dumps(value) for value in values]
    return " or ".join([", ".join(written[:-1]), written[-1]] if len(written) > 1 else written)


def _wrong_kind(path: Path, taken: Iterable[str], value: Any) -> str:
    keys = [part for part in path if isinstance(part, str)]
    keys = keys[1:] if keys[0] == "step" and len(keys) > 1 else keys
    if isinstance(path[-1], int) and keys != ["step"]:
        keys = [*keys[:-1], f"an item of {keys[-1]}"]
    return f"{': '.join(keys)} takes {' or '.join(taken)}, not {_as_toml_value(value)}"


def _as_toml_value(value: Any) -> str:
    if isinstance(value, (dict, list)):
        return ("{ … }" if isinstance(value, dict) else "[ … ]") if value else str(value)
    if isinstance(value, (datetime.date, datetime.time)):
        return str(value)
    text = json.dumps(value, ensure_ascii=False)
    return text if len(text) <= 40 else text[:39] + "…"


def _without_verb(data: dict[str, Any]) -> Iterator[_Mistake]:
    """The steps that say nothing to do, of a plan that has other mistakes."""
    steps = data.get("step")
    others = {*Step.__struct_fields__} - {*VERBS}
    for index, step in enumerate(steps if isinstance(steps, list) else []):
        if isinstance(step, dict) and not step.keys() - others:
            message = f"step {index + 1} has no verb"
            yield _Mistake(("step", index), message, "one of " + ", ".join(VERBS))


def _of_split(split: Split) -> str:
    """What is wrong with a split, or nothing."""
    if [split.on is None, split.on_regex is None, not split.array].count(False) != 1:
        return 'say one of on = ";", on_regex, and array = true for the items of a JSON array'
    if not (split.on or split.on_regex or split.array):
        return "a field cannot be split on nothing"
    of_columns = {
        "surplus": split.surplus is not None,
        "short": split.short is not None,
        "from": split.from_ == "end",
    }
    of_rows = {
        "as": split.as_ is not None,
        "number": split.number is not None,
        "empty": split.empty == "drop",
        "blanks": split.blanks is not None,
        "array": split.array,
    }
    others, form = (of_columns, "columns") if split.into == "rows" else (of_rows, "rows")
    for key, said in others.items():
        if said:
            return f"{key} is for a split into {form}"
    if len(split.into) < 2:
        return 'into names two columns or more, or is "rows"'
    return ""


def _refused(check: Callable[[Any], Any], value: Any) -> str:
    """Why a check refuses a value, or nothing."""
    try:
        if value is not None:
            check(value)
    except ValueError as error:
        return str(error)
    return ""


def of_steps(plan: PlanFile) -> list[Problem]:
    """What is wrong with the steps of a plan of the right form."""
    mistakes: list[Problem] = []

    def tell(message: str, hint: str, *path: str | int) -> None:
        place = f"{plan.name}:{plan.line('step', *path)}"
        mistakes.append(CallProblem(message, place=place, hint=hint))

    def wrong(index: int, message: str, hint: str = "", *path: str) -> None:
        tell(f"step {index + 1} {message}", hint, index, *path)

    for index, step in enumerate(plan.model.step):
        values = {
            "split": "" if step.split is None else _of_split(step.split),
            "deduplicate": "" if step.deduplicate is None or step.deduplicate.by else "by is empty",
            "rows": _refused(Expected.of, step.rows),
            "allow": _refused(allowance, step.allow),
        }
        for key, why in values.items():
            if why:
                tell(f"{key}: {why}", "", index, key)
        supplied = [verb for verb in VERBS if getattr(step, verb) is not None]
        if not supplied:
            wrong(index, "has no verb", "one of " + ", ".join(VERBS))
            continue
        if len(supplied) > 1:
            wrong(index, f"has several verbs: {', '.join(supplied)}", "one verb a step")
            continue
        verb = supplied[0]
        if getattr(step, verb) in ({}, [], ""):
            wrong(index, f"{verb} is empty" if verb != "set" else "sets nothing")
        if verb != "check" and (step.allow is not None or step.unknown is not None):
            wrong(
                index,
                f"has {'allow' if step.allow is not None else 'unknown'}, which is for a check",
            )
        if step.only is not None and verb in ("columns", "sort", "query"):
            wrong(index, f"has only, and {verb} concerns all rows", "", "only")
        if (
            step.only is not None
            and step.split is not None
            and step.split.into != "rows"
            and not step.split.keep_column
        ):
            wrong(
                index,
                "splits some rows only: the others would lose their value",
                "keep_column = true keeps it",
                "only",
            )
        if verb == "query" and step.rows is None:
            wrong(
                index,
                "has a query and does not state its rows",
                'rows = "same", "fewer", "at most 1900", a number …',
                verb,
            )
    return mistakes
