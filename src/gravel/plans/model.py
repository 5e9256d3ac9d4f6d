"""The plan file: its model, and reading it with every mistake told at its line."""

from __future__ import annotations

import datetime
import re
import tomllib
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator

from gravel.plans.places import Place, places
from gravel.problems import CallProblem, Problem, Problems, TableProblem, nearest

OnError = Literal["stop", "null", "set aside"]
VERBS = ("set", "keep_rows", "drop_rows")


class Step(BaseModel):
    """One step: a note, one verb, what to do with row errors, and the stated row count."""

    model_config = ConfigDict(extra="forbid")

    note: str = ""
    set: dict[str, str] | None = None
    keep_rows: str | None = None
    drop_rows: str | None = None
    on_error: OnError = "stop"
    rows: int | str | None = None

    @field_validator("rows")
    @classmethod
    def _known_rows(cls, value: int | str | None) -> int | str | None:
        if value is not None:
            Expected.of(value)
        return value

    @property
    def verb(self) -> str:
        """The one verb of the step."""
        return next(verb for verb in VERBS if getattr(self, verb) is not None)


class PlanModel(BaseModel):
    """A plan file as written."""

    model_config = ConfigDict(extra="forbid")

    table: str
    write: str
    key: list[str] = Field(default_factory=list)
    malformed: Literal["stop", "set aside"] = "stop"
    delimiter: str | None = None
    encoding: str | None = None
    empty: Literal["null", "text"] = "text"
    types: dict[str, str] = Field(default_factory=dict)
    params: dict[str, bool | int | float | datetime.datetime | datetime.date | str] = Field(default_factory=dict)
    step: list[Step] = Field(default_factory=list)


@dataclass(frozen=True)
class Expected:
    """A stated row count: how a step's out may stand to its in. `kind` is same, fewer, more, at most, at least,
    exactly or by."""

    kind: str
    count: int = 0

    @classmethod
    def of(cls, stated: int | str) -> Expected:
        """Read a stated count. Raises ValueError."""
        if isinstance(stated, int):
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
        raise ValueError(f"{stated!r} states no row count: same, fewer, more, at most N, at least N, a number, or a difference such as -12")

    def holds(self, rows_in: int, rows_out: int) -> bool:
        """Whether the counts are as stated."""
        return {
            "same": rows_out == rows_in, "fewer": rows_out < rows_in, "more": rows_out > rows_in,
            "at most": rows_out <= self.count, "at least": rows_out >= self.count, "exactly": rows_out == self.count,
            "by": rows_out - rows_in == self.count,
        }[self.kind]  # fmt: skip

    def __str__(self) -> str:
        if self.kind == "by":
            return f"{self.count:+,}"
        return f"{self.count:,}" if self.kind == "exactly" else f"{self.kind} {self.count:,}" if self.kind.startswith("at ") else self.kind


@dataclass(frozen=True)
class PlanFile:
    """A plan, the file it was read from, and where its parts stand."""

    path: Path
    name: str
    text: str
    model: PlanModel
    places: dict[tuple[str | int, ...], Place]

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
    """Read a plan. Raises TableProblem if it cannot be read, Problems with every mistake of its form."""
    shown = name or str(path)
    try:
        text = path.read_text("utf-8-sig")
    except FileNotFoundError:
        raise TableProblem(f"there is no plan {shown}", hint="gravel try … --add PLAN begins one") from None
    except (OSError, UnicodeDecodeError) as error:
        raise TableProblem(f"{shown} cannot be read: {error}") from None
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        match = re.search(r"\(at line (\d+), column (\d+)\)|\(at end of document\)", str(error))
        line = int(match[1]) if match and match[1] else text.count("\n") + 1
        reason = re.sub(r" \(at .*", "", str(error))
        raise CallProblem(f"the plan is not valid TOML: {reason[:1].lower()}{reason[1:]}", place=f"{shown}:{line}") from None
    where = places(text)
    try:
        model = PlanModel.model_validate(data)
    except ValidationError as error:
        raise Problems(by_line([_mistake(one, shown, where) for one in error.errors()])) from None
    plan = PlanFile(path, shown, text, model, where)
    mistakes = _verbs(plan)
    if mistakes:
        raise Problems(by_line(mistakes))
    return plan


def by_line(mistakes: list[Problem]) -> list[Problem]:
    """The mistakes in the order of their lines."""
    return sorted(mistakes, key=lambda one: int(match[1]) if (match := re.search(r":(\d+)", one.place)) else 0)


def _mistake(error: Any, shown: str, where: dict[Any, Place]) -> Problem:
    path = tuple(error["loc"])
    line = next((where[path[:n]].line for n in range(len(path), -1, -1) if path[:n] in where), 1)
    name = str(path[-1]) if path else ""
    kind, hint = error["type"], ""
    if kind == "extra_forbidden":
        known = list(Step.model_fields) if path[0] == "step" else list(PlanModel.model_fields)
        near = nearest(name, known)
        place = "a step" if path[0] == "step" else "a plan"
        return CallProblem(
            f"{place} has no key {name}", place=f"{shown}:{line}", hint=f"did you mean {near}?" if near else "keys: " + ", ".join(known)
        )
    if kind == "missing":
        return CallProblem(f"the plan does not say `{name}`", place=f"{shown}:{line}", hint=_MISSING.get(name, ""))
    message = re.sub(r"^Value error, ", "", error["msg"])
    message = message[:1].lower() + message[1:]
    shown_path = ".".join(str(part) for part in path if not isinstance(part, int) and part not in ("str", "int"))
    return CallProblem(f"{shown_path}: {message}", place=f"{shown}:{line}", hint=hint)


_MISSING = {"table": 'table = "boats.csv"', "write": 'write = "boats-clean.csv"'}


def _verbs(plan: PlanFile) -> list[Problem]:
    mistakes: list[Problem] = []
    for index, step in enumerate(plan.model.step):
        given = [verb for verb in VERBS if getattr(step, verb) is not None]
        place = f"{plan.name}:{plan.line('step', index)}"
        if not given:
            mistakes.append(CallProblem(f"step {index + 1} has no verb", place=place, hint="one of " + ", ".join(VERBS)))
        elif len(given) > 1:
            mistakes.append(CallProblem(f"step {index + 1} has several verbs: {', '.join(given)}", place=place, hint="one verb a step"))
        elif step.set == {}:
            mistakes.append(CallProblem(f"step {index + 1} sets nothing", place=place))
    return mistakes
