"""The plan file: its model, and reading it with every mistake told at its line."""

from __future__ import annotations

import datetime
import json
import re
import tomllib
from collections.abc import Sequence
from pathlib import Path
from typing import Any, Literal

from msgspec import Struct
from pydantic import (
    BaseModel,
    ConfigDict,
    Field,
    StrictInt,
    ValidationError,
    field_validator,
    model_validator,
)

from gravel.hidden import without
from gravel.inspecting.check import allowance
from gravel.language.errors import ErrorPolicy
from gravel.plans.places import Place, places
from gravel.problems import CallProblem, Problem, Problems, TableProblem, nearest

VERBS = (
    "set",
    "keep_rows",
    "drop_rows",
    "split",
    "deduplicate",
    "columns",
    "sort",
    "check",
    "query",
)


class Split(BaseModel):
    """`split`: a field's pieces as rows of their own, or as columns."""

    model_config = ConfigDict(extra="forbid")

    column: str
    on: str | None = None
    on_regex: str | None = None
    into: Literal["rows"] | list[str]
    as_: str | None = Field(None, alias="as")
    number: str | None = None
    trim: bool = True
    blanks: Literal["drop", "keep"] | None = None
    keep_column: bool = False
    empty: Literal["keep", "drop"] = "keep"
    from_: Literal["start", "end"] = Field("start", alias="from")
    surplus: Literal["join", "drop", "error"] | None = None
    short: Literal["null", "error"] | None = None

    @model_validator(mode="after")
    def _fits(self) -> Split:
        if (self.on is None) == (self.on_regex is None):
            raise ValueError('say either on = ";" or on_regex')
        if not (self.on or self.on_regex):
            raise ValueError("a field cannot be split on nothing")
        if self.into == "rows":
            supplied = [name for name in ("surplus", "short") if getattr(self, name) is not None]
            if supplied or self.from_ == "end":
                raise ValueError(f"{(supplied or ['from'])[0]} is for a split into columns")
        else:
            supplied = [
                name
                for name in ("as", "number")
                if getattr(self, "as_" if name == "as" else name) is not None
            ]
            if supplied or self.empty == "drop" or self.blanks is not None:
                raise ValueError(
                    f"{(supplied or ['empty' if self.empty == 'drop' else 'blanks'])[0]} is for a"
                    " split into rows"
                )
            if len(self.into) < 2:
                raise ValueError('into names two columns or more, or is "rows"')
        return self


class Deduplication(BaseModel):
    """`deduplicate`: one row of each group that is equal in all of `by`."""

    model_config = ConfigDict(extra="forbid")

    by: list[str] = Field(min_length=1)
    prefer: str | list[str] | None = None
    fill: bool | list[str] = False
    conflicts: Literal["count", "error", "set aside"] = "count"


class Step(BaseModel):
    """One step: a note, one verb, which rows it concerns, what to do with row errors, and the
    expected row count."""

    model_config = ConfigDict(extra="forbid")

    note: str = ""
    set: dict[str, str] | None = None
    keep_rows: str | None = None
    drop_rows: str | None = None
    split: Split | None = None
    deduplicate: Deduplication | None = None
    columns: list[str] | None = None
    sort: str | list[str] | None = None
    check: dict[str, str] | None = None
    query: str | None = None
    only: str | None = None
    allow: StrictInt | str | None = None
    unknown: Literal["passes", "fails"] | None = None
    on_error: ErrorPolicy | None = None
    rows: StrictInt | str | None = None

    @field_validator("rows")
    @classmethod
    def _known_rows(cls, value: int | str | None) -> int | str | None:
        if value is not None:
            Expected.of(value)
        return value

    @field_validator("allow")
    @classmethod
    def _known_allowance(cls, value: int | str | None) -> int | str | None:
        if value is not None:
            allowance(value)
        return value

    @property
    def verb(self) -> str:
        """The one verb of the step."""
        return next(verb for verb in VERBS if getattr(self, verb) is not None)


class Read(BaseModel):
    """`[read]`: how the table's text is read."""

    model_config = ConfigDict(extra="forbid")

    delimiter: str | None = None
    encoding: str | None = None
    header: int | Literal["none"] | None = None
    skip: int | None = None
    comment: str | None = None
    quote: str | None = None
    null: str | list[str] | None = None
    empty: Literal["null", "text"] | None = None
    decimal: str | None = None
    group: str | None = None
    dates: str | list[str] | None = None


class PlanModel(BaseModel):
    """A plan file as written."""

    model_config = ConfigDict(extra="forbid")

    table: str
    write: str
    replace: bool = False
    rejects: str | None = None
    metadata: bool = False
    store_sets: list[str] = Field(default_factory=list)
    key: list[str] = Field(default_factory=list)
    key_after: list[str] | None = None
    totals: list[str] = Field(default_factory=list)
    malformed: Literal["stop", "set aside"] = "stop"
    on_error: ErrorPolicy = ErrorPolicy.STOP
    read: Read = Field(default_factory=lambda: Read())
    types: dict[str, str] = Field(default_factory=dict)
    params: dict[str, bool | int | float | datetime.datetime | datetime.date | str] = Field(
        default_factory=dict
    )
    step: list[Step] = Field(default_factory=list)

    @field_validator("key", "key_after", "totals", mode="before")
    @classmethod
    def _listed(cls, value: Any) -> Any:
        """One name stands for a list of one."""
        return [value] if isinstance(value, str) else value

    @field_validator("write")
    @classmethod
    def _standard_output(cls, value: str) -> str:
        """It has one name, since what /dev/stdout leads to may be a file to be written over."""
        return "-" if value == "/dev/stdout" else value


class Expected(Struct, frozen=True):
    """An expected row count: how a step's out may stand to its in. `kind` is same, fewer, more, at
    most, at least, exactly or by."""

    kind: str
    count: int = 0

    @classmethod
    def of(cls, stated: int | str) -> Expected:
        """Read an expected count. Raises ValueError."""
        if isinstance(stated, int):
            if stated < 0:
                raise ValueError(
                    f'{stated} is not a row count; a difference stands in quotes: rows = "{stated}"'
                )
            return cls("exactly", stated)
        text = stated.strip().lower()
        if text in ("same", "fewer", "more"):
            return cls(text)
        if match := re.fullmatch(r"at (most|least) ([\d,_]+)", text):
            return cls("at " + match[1], int(match[2].replace(",", "").replace("_", "")))
        if re.fullmatch(r"[+-]\d+", text):
            return cls("by", int(text))
        if re.fullmatch(r"\d+", text):
            return cls("exactly", int(text))
        raise ValueError(
            f"{stated!r} is not a row count: same, fewer, more, at most N, at least N, a number,"
            " or a difference such as -12"
        )

    def holds(self, rows_in: int, rows_out: int) -> bool:
        """Whether the counts are as expected."""
        return {
            "same": rows_out == rows_in,
            "fewer": rows_out < rows_in,
            "more": rows_out > rows_in,
            "at most": rows_out <= self.count,
            "at least": rows_out >= self.count,
            "exactly": rows_out == self.count,
            "by": rows_out - rows_in == self.count,
        }[self.kind]

    def __str__(self) -> str:
        if self.kind == "by":
            return f"{self.count:+,}"
        return (
            f"{self.count:,}"
            if self.kind == "exactly"
            else f"{self.kind} {self.count:,}"
            if self.kind.startswith("at ")
            else self.kind
        )


class PlanFile(Struct, frozen=True):
    """A plan, the file it was read from, and where its parts stand."""

    path: Path
    name: str
    text: str
    model: PlanModel
    places: dict[tuple[str | int, ...], Place]
    notes: tuple[str, ...] = ()  # keys that are written as they once were

    def line(self, *path: str | int) -> int:
        """The line of a value, or of the nearest thing around it that has one."""
        for length in range(len(path), -1, -1):
            if path[:length] in self.places:
                return self.places[path[:length]].line
        return 1

    def text_line(self, *path: str | int) -> int:
        """The line in which a text value's first character stands."""
        return self.places[path].text_line if path in self.places else self.line(*path)


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
        raise CallProblem(
            f"the plan is not valid TOML: {reason[:1].lower()}{reason[1:]}", place=f"{shown}:{line}"
        ) from None
    where = {
        key: Place(item.line - above, item.text_line - above) for key, item in places(text).items()
    }
    notes = _renamed(data, where, shown)
    try:
        model = PlanModel.model_validate(data)
    except ValidationError as error:
        message = [_mistake(item, shown, where) for item in _one_each(error.errors())]
        raise Problems(by_line([*message, *_without_verb(data, shown, where)])) from None
    plan = PlanFile(path, shown, text, model, where, notes)
    mistakes = _verbs(plan)
    if mistakes:
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


def _without_verb(data: dict[str, Any], shown: str, where: dict[Any, Place]) -> list[Problem]:
    """The steps that say nothing to do, of a plan that has other mistakes."""
    steps = data.get("step")
    results: list[Problem] = []
    for index, step in enumerate(steps if isinstance(steps, list) else []):
        if isinstance(step, dict) and not set(step) - (set(Step.model_fields) - set(VERBS)):
            line = where[key].line if (key := ("step", index)) in where else 1
            results.append(
                CallProblem(
                    f"step {index + 1} has no verb",
                    place=f"{shown}:{line}",
                    hint="one of " + ", ".join(VERBS),
                )
            )
    return results


def by_line(mistakes: list[Problem]) -> list[Problem]:
    """The mistakes in the order of their lines."""
    return sorted(
        mistakes,
        key=lambda item: int(match[1]) if (match := re.search(r":(\d+)", item.place)) else 0,
    )


# What a key takes, by the kind of mistake that pydantic tells of its value.
_KINDS = {
    "string_type": "a text in quotes",
    "list_type": "a list",
    "dict_type": "a table",
    "model_type": "a table",
    "dataclass_type": "a table",
    "int_type": "a whole number",
    "int_parsing": "a whole number",
    "bool_type": "true or false",
    "bool_parsing": "true or false",
}
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
    "key": 'key = ["boat_id"]',
    "totals": 'totals = ["fee"]',
    "types": 'types = { code = "TEXT" }',
    "read": '[read], and under it delimiter = ";"',
    "step": "[[step]], and under it what it does",
}


def _one_each(errors: Sequence[Any]) -> list[Any]:
    """The mistakes; where a key takes one of several kinds, and has none, they are one."""
    kinds: dict[tuple[Any, ...], list[str]] = {}
    mistakes: list[Any] = []
    for error in errors:
        path = tuple(part for part in error["loc"] if not _is_kind(part))
        kind = _KINDS.get(error["type"])
        if error["type"] in ("literal_error", "enum"):
            kind = error["ctx"]["expected"]
        if kind is None:
            mistakes.append(error)
        elif path in kinds:
            kinds[path].append(kind)
        else:
            kinds[path] = [kind]
            mistakes.append({**error, "loc": path, "kinds": kinds[path]})
    # What is wrong with an item of a list says more than that the list is no text.
    inner = {path[:-1] for path in kinds if path and isinstance(path[-1], int)}
    return [error for error in mistakes if error["loc"] not in inner or "kinds" not in error]


def _is_kind(part: Any) -> bool:
    """Whether a part of an error's path is a kind of value, and not a key of the plan."""
    return part in ("str", "int", "bool", "Split", "Deduplication") or (
        isinstance(part, str) and part.startswith(("list[", "dict[", "literal["))
    )


def _as_toml_value(value: Any) -> str:
    if isinstance(value, (dict, list)):
        return ("{ … }" if isinstance(value, dict) else "[ … ]") if value else str(value)
    text = json.dumps(value, ensure_ascii=False, default=str)
    return text if len(text) <= 40 else text[:39] + "…"


def _mistake(error: Any, shown: str, where: dict[Any, Place]) -> Problem:
    path = tuple(error["loc"])
    line = next((where[path[:n]].line for n in range(len(path), -1, -1) if path[:n] in where), 1)
    name = str(path[-1]) if path else ""
    kind, hint = error["type"], ""
    if kind == "extra_forbidden":
        place, known = _known_keys(path)
        near = nearest(name, known)
        return CallProblem(
            f"{place} has no key {name}",
            place=f"{shown}:{line}",
            hint=f"did you mean {near}?" if near else "keys: " + ", ".join(known),
        )
    if kind == "missing":
        place = _known_keys(path)[0].removeprefix("a ")
        return CallProblem(
            f"the {place} does not say `{name}`",
            place=f"{shown}:{line}",
            hint=_MISSING.get(name, ""),
        )
    if "kinds" in error:
        keys = [part for part in path if isinstance(part, str)]
        keys = hinted = keys[1:] if keys[0] == "step" and len(keys) > 1 else keys
        if isinstance(path[-1], int) and keys != ["step"]:
            keys = [*keys[:-1], f"an item of {keys[-1]}"]
        return CallProblem(
            f"{': '.join(keys)} takes {' or '.join(error['kinds'])},"
            f" not {_as_toml_value(error['input'])}",
            place=f"{shown}:{line}",
            hint=next((_FORMS[key] for key in reversed(hinted) if key in _FORMS), ""),
        )
    message = re.sub(r"^Value error, |^Input (?=should)", "", error["msg"])
    message = message[:1].lower() + message[1:]
    named = [part for part in path if isinstance(part, str) and not _is_kind(part)]
    shown_path = ": ".join(named[1:] if named[:1] == ["step"] else named)
    return CallProblem(f"{shown_path}: {message}", place=f"{shown}:{line}", hint=hint)


def _known_keys(path: tuple[Any, ...]) -> tuple[str, list[str]]:
    """What a key stands in, and the keys that are known there."""
    where: tuple[str, type[BaseModel]] = ("a plan", PlanModel)
    if path and path[0] == "read":
        where = ("[read]", Read)
    if path and path[0] == "step":
        where = ("a step", Step)
        if len(path) > 3 and path[2] in ("split", "deduplicate"):
            where = (f"a {path[2]}", Split if path[2] == "split" else Deduplication)
    return where[0], [field.alias or name for name, field in where[1].model_fields.items()]


_OLD_KEYS = {"left_behind": "rejects", "unique": "deduplicate"}
_MISSING = {"table": 'table = "boats.csv"', "write": 'write = "boats-clean.csv"'}


def _verbs(plan: PlanFile) -> list[Problem]:
    mistakes: list[Problem] = []

    def wrong(index: int, message: str, hint: str = "", *path: str) -> None:
        mistakes.append(
            CallProblem(
                f"step {index + 1} {message}",
                place=f"{plan.name}:{plan.line('step', index, *path)}",
                hint=hint,
            )
        )

    for index, step in enumerate(plan.model.step):
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
