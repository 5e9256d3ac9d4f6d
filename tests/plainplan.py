"""Plans run one row after the other in plain Python, as an independent reference: rows are (path, {column: value}), a value is
None, a text, or an int. Nothing of the program is used here."""

from __future__ import annotations

import re
from collections import Counter
from decimal import ROUND_HALF_UP, Decimal
from typing import Any

Row = dict[str, Any]


class Failure(Exception):
    """A row error."""


def divided(row: Row) -> Any:
    if row["n"] is None:
        return None
    if row["n"] == 0:
        raise Failure
    return int((Decimal(100) / row["n"]).to_integral_value(ROUND_HALF_UP))


def _number(row: Row) -> Any:
    if row["a"] is None:
        return None
    text = row["a"].strip(" ")
    if not text.isascii() or not text.lstrip("+-").isdigit():
        raise Failure
    return int(text)


def _over(row: Row) -> Any:
    made = divided(row)
    return None if made is None else made > 10


def _either(row: Row) -> Any:
    if row["a"] == "x" or (row["n"] is not None and row["n"] < 3):
        return True
    return None if None in (row["a"], row["n"]) else False


SETS: list[tuple[str, str, Any]] = [
    ("a", "TRIM(a)", lambda row: None if row["a"] is None else row["a"].strip(" ")),
    (
        "a",
        "COALESCE(NULLIF(a, 'x'), 'none')",
        lambda row: "none" if row["a"] in (None, "x") else row["a"],
    ),
    ("a", "UPPER(a)", lambda row: None if row["a"] is None else row["a"].upper()),
    ("n", "CAST(ROUND(100 / n) AS INTEGER)", divided),
    (
        "n",
        "CASE WHEN n <> 0 THEN CAST(ROUND(100 / n) AS INTEGER) END",
        lambda row: None if not row["n"] else divided(row),
    ),
    ("n", "CAST(a AS INTEGER)", _number),
    ("b", "LENGTH(a)", lambda row: None if row["a"] is None else len(row["a"])),
]
CONDITIONS: list[tuple[str, Any]] = [
    ("n > 1", lambda row: None if row["n"] is None else row["n"] > 1),
    ("a IS NOT NULL", lambda row: row["a"] is not None),
    ("a = 'x' OR n < 3", _either),
    ("ROUND(100 / n) > 10", _over),
]
BYS: list[tuple[str, Any]] = [
    ("UPPER(a)", lambda row: None if row["a"] is None else row["a"].upper()),
    ("n", lambda row: row["n"]),
    ("ROUND(100 / n)", divided),
]
# Sort keys as SQL has them, and as (value, descending, NULLs first).
SORTS: list[tuple[str, Any, bool, bool]] = [
    ("n", lambda row: row["n"], False, False), ("n DESC NULLS LAST", lambda row: row["n"], True, False),
    ("a NULLS FIRST", lambda row: row["a"], False, True), ("a DESC", lambda row: row["a"], True, True),
]  # fmt: skip
LABELS = [(1, "one"), (2, "two"), (2, "zwei"), (9, "nine"), (50, "fifty")]  # k.csv: n is no key
QUERIES = [
    "SELECT * FROM input WHERE n > 1",
    "SELECT i.*, k.label AS label{n} FROM input AS i LEFT JOIN 'k.csv' AS k ON k.n = i.n",
    "SELECT i.* FROM input AS i JOIN 'k.csv' AS k ON k.n = i.n WHERE ROUND(100 / k.n) > 10",
    "SELECT DISTINCT * FROM input",
    "SELECT i.*, COUNT(*) OVER (PARTITION BY a) AS many{n} FROM input AS i",
]


class Plain:
    """A plan's run: rows under way, how paths ended, counts a step."""

    def __init__(self, rows: list[Row]) -> None:
        self.rows: list[tuple[str, Row]] = [
            (str(number), row) for number, row in enumerate(rows, 1)
        ]
        self.left: dict[str, tuple[int, str, str | None]] = {}
        self.into: dict[str, str] = {}
        self.stops = False
        self.multiplies = False
        self.made = 0
        self.sizes = [len(rows)]

    def step(self, number: int, step: dict[str, Any]) -> None:
        """Run one step, {verb, only, on_error, …}."""
        self.number, self.on_error, self.only = (
            number,
            step.get("on_error", "stop"),
            step.get("only"),
        )
        getattr(self, step["verb"])(step)
        self.sizes.append(len(self.rows))

    def _try(self, path: str, work: Any, row: Row, otherwise: Any = None) -> tuple[bool, Any]:
        """(whether the row goes on, the value)."""
        try:
            return True, work(row)
        except Failure:
            if self.on_error == "null":
                return True, otherwise
            self.stops |= self.on_error == "stop"
            self.left[path] = (
                self.number,
                "set aside" if self.on_error == "set aside" else "failed",
                None,
            )
            return False, None

    def _concerned(self) -> list[tuple[str, Row, bool]]:
        found = []
        for path, row in self.rows:
            goes, holds = (
                (True, True)
                if self.only is None
                else self._try(path, CONDITIONS[self.only][1], row)
            )
            if goes:
                found.append((path, row, holds is True))
        return found

    def set(self, step: dict[str, Any]) -> None:
        column, _, function = SETS[step["pick"]]
        rows = []
        for path, row, concerned in self._concerned():
            goes, value = self._try(path, function, row) if concerned else (True, row.get(column))
            if goes:
                rows.append((path, {**row, column: value}))
        self.rows = rows

    def _filter(self, step: dict[str, Any], keeps: bool) -> None:
        rows = []
        for path, row, concerned in self._concerned():
            goes, holds = (
                self._try(path, CONDITIONS[step["pick"]][1], row) if concerned else (True, keeps)
            )
            if goes and ((holds is True) == keeps):
                rows.append((path, row))
            elif goes:
                self.left[path] = (self.number, "dropped", None)
        self.rows = rows

    def keep_rows(self, step: dict[str, Any]) -> None:
        self._filter(step, True)

    def drop_rows(self, step: dict[str, Any]) -> None:
        self._filter(step, False)

    def check(self, step: dict[str, Any]) -> None:
        bad = 0
        found = self._concerned()
        self.rows = [(path, row) for path, row, _ in found]
        for _, row, concerned in found:
            try:
                holds = CONDITIONS[step["pick"]][1](row) if concerned else True
            except Failure:
                holds = False
            bad += holds is False or (holds is None and step["unknown"] == "fails")
        self.stops |= bad > step["allow"]

    def split(self, step: dict[str, Any]) -> None:
        (self._split_rows if step["into"] == "rows" else self._split_columns)(step)

    def _split_rows(self, step: dict[str, Any]) -> None:
        self.multiplies = True
        rows = []
        for path, row, concerned in self._concerned():
            name = step.get("as") or "l"
            if not concerned:
                rows.append(
                    (
                        path,
                        self._placed(
                            row, name, None if step["keep_column"] else row["l"], None, step
                        ),
                    )
                )
                continue
            pieces = [] if row["l"] is None else re.split(re.escape(step["on"]), row["l"])
            pieces = [one.strip() for one in pieces] if step["trim"] else pieces
            pieces = [one for one in pieces if one.strip()] if step["blanks"] == "drop" else pieces
            for at, piece in enumerate(pieces, 1):
                rows.append((f"{path}.{at}", self._placed(row, name, piece, at, step)))
            if not pieces and step["empty"] == "drop":
                self.left[path] = (self.number, "dropped", None)
            elif not pieces:
                rows.append((path, self._placed(row, name, None, None, step)))
        self.rows = rows

    def _placed(self, row: Row, name: str, piece: Any, at: Any, step: dict[str, Any]) -> Row:
        made: Row = {}
        for column, value in row.items():
            if column != "l":
                made[column] = value
                continue
            if step["keep_column"]:
                made["l"] = value
            made[name] = piece
            if step["number"]:
                made[step["number"]] = at
        return made

    def _split_columns(self, step: dict[str, Any]) -> None:
        rows = []
        many = len(step["into"])
        for path, row, concerned in self._concerned():
            pieces = (
                re.split(step["on"], row["l"])
                if concerned and row["l"] is not None and row["l"].strip()
                else []
            )
            seps = re.findall(step["on"], row["l"]) if pieces else []
            wrong = (len(pieces) > many and step["surplus"] == "error") or (
                0 < len(pieces) < many and step["short"] == "error"
            )
            if wrong:
                goes, _ = self._try(path, self._fail, row)
                if not goes:
                    continue
                pieces = []
            if len(pieces) > many:
                if step["surplus"] == "drop":
                    pieces = pieces[:many] if step["from"] == "start" else pieces[-many:]
                elif step["from"] == "start":
                    tail = "".join(
                        piece + sep
                        for piece, sep in zip(
                            pieces[many - 1 :], [*seps[many - 1 :], ""], strict=True
                        )
                    )
                    pieces = [*pieces[: many - 1], tail]
                else:
                    cut = len(pieces) - many + 1
                    pieces = [
                        "".join(
                            piece + sep
                            for piece, sep in zip(pieces[:cut], [*seps[: cut - 1], ""], strict=True)
                        ),
                        *pieces[cut:],
                    ]
            gap = [None] * (many - len(pieces))
            cells: list[Any] = [*pieces, *gap] if step["from"] == "start" else [*gap, *pieces]
            cells = [
                None if one is None or not one.strip() else one.strip() if step["trim"] else one
                for one in cells
            ]
            made = {}
            for column, value in row.items():
                made[column] = value
                if column == "l":
                    made |= dict(zip(step["into"], cells, strict=True))
            rows.append((path, made))
        self.rows = rows

    def _fail(self, row: Row) -> Any:
        raise Failure

    def _preference(self, path: str, row: Row, sorts: list[int]) -> Any:
        key: list[Any] = []
        for pick in sorts:
            _, function, descending, nulls_first = SORTS[pick]
            value = function(row)
            key.append((value is None) != nulls_first)
            key.append(_Reversed(value) if descending else _Plain(value))
        return key

    def deduplicate(self, step: dict[str, Any]) -> None:
        groups: dict[Any, list[int]] = {}
        rows = []
        for path, row, concerned in self._concerned():
            goes, value = self._try(path, BYS[step["pick"]][1], row) if concerned else (True, None)
            if goes:
                if value is not None:
                    groups.setdefault(value, []).append(len(rows))
                rows.append((path, row))
        gone = set()
        for members in groups.values():
            if len(members) == 1:
                continue
            order = sorted(members, key=lambda at: (self._preference(*rows[at], step["sorts"]), at))
            first = order[0]
            disagree = any(
                len({rows[at][1][column] for at in order} - {None}) > 1
                for column in step["compared"]
            )
            if disagree and step["conflicts"] == "set aside":
                for at in order:
                    gone.add(at)
                    self.left[rows[at][0]] = (self.number, "set aside", None)
                continue
            made = dict(rows[first][1])
            for column in step["fill"]:
                if made[column] is None:
                    made[column] = next(
                        (rows[at][1][column] for at in order if rows[at][1][column] is not None),
                        None,
                    )
            rows[first] = (rows[first][0], made)
            for at in order[1:]:
                gone.add(at)
                self.left[rows[at][0]] = (self.number, "merged", rows[first][0])
        self.rows = [row for at, row in enumerate(rows) if at not in gone]

    def sort(self, step: dict[str, Any]) -> None:
        self.rows.sort(key=lambda one: self._preference(*one, step["sorts"]))

    def columns(self, step: dict[str, Any]) -> None:
        self.rows = [
            (path, {column: row[column] for column in step["names"]}) for path, row in self.rows
        ]

    def query(self, step: dict[str, Any]) -> None:
        kind = step["pick"]
        rows: list[tuple[str, Row]] = []
        if kind == 3:
            seen: dict[Any, Row] = {}
            for path, row in self.rows:
                seen.setdefault(tuple(row.values()), row)
                self.left[path] = (self.number, "dropped", None)
            for row in seen.values():
                self.made += 1
                rows.append((f"0.{self.made}", row))
            self.rows = rows
            return
        counts = Counter(row["a"] for _, row in self.rows)
        for path, row in self.rows:
            if kind == 0:
                found: list[Row] = [row] if row["n"] is not None and row["n"] > 1 else []
            elif kind == 4:
                found = [{**row, f"many{self.number}": counts[row["a"]]}]
            else:
                labels: list[Any] = [
                    label
                    for n, label in LABELS
                    if n == row["n"] and (kind == 1 or Decimal(100) / n > Decimal("9.5"))
                ]
                if kind == 1:
                    found = [{**row, f"label{self.number}": label} for label in labels or [None]]
                else:
                    found = [dict(row) for _ in labels]
            rows += [
                (path if len(found) == 1 else f"{path}.{at}", one)
                for at, one in enumerate(found, 1)
            ]
            if not found:
                self.left[path] = (self.number, "dropped", None)
        self.rows = rows


class _Plain:
    """A value to sort ascending; NULLs are told apart before."""

    def __init__(self, value: Any) -> None:
        self.value = value

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Plain) and self.value == other.value

    def __lt__(self, other: Any) -> bool:
        if self.value is None or other.value is None:
            return False
        return bool(self.value < other.value)


class _Reversed(_Plain):
    """The same, descending."""

    def __lt__(self, other: Any) -> bool:
        if self.value is None or other.value is None:
            return False
        return bool(self.value > other.value)
