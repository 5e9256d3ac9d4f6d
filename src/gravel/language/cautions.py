"""Expressions that are valid and still likely wrong. Each caution is a condition over the same rows: the rows for which it
is true are the rows that deserve it. Nothing here changes a result."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from gravel.language import nodes
from gravel.language.functions.catalogue import catalogue
from gravel.language.types import BOOLEAN, INTEGER, TEXT, Kind, Target, decimal

_COMPARISONS = ("=", "<>", "<", "<=", ">", ">=")
_ORDERED = ("<", "<=", ">", ">=")
_ARITHMETIC = ("+", "-", "*", "/", "MOD")
_WORDY = r"[\pL\pN]"


@dataclass(frozen=True)
class Probe:
    """A caution to look for: `condition` is true in the rows that deserve it, `detail` says what they are, `hint` how to
    avoid it."""

    caution: str
    condition: nodes.Expression
    detail: str
    hint: str = ""


@dataclass(frozen=True)
class Branches:
    """A CASE as written, with a condition for each of its ways: the branches in order, ELSE, and those rows of ELSE that
    came there only because a condition was unknown."""

    text: str
    whens: tuple[str, ...]
    conditions: tuple[nodes.Expression, ...]
    otherwise: nodes.Expression
    unknown: nodes.Expression
    has_else: bool


def probes(expression: nodes.Expression, text: str) -> list[Probe]:
    """The cautions to look for in a bound expression; `text` is what it was written as."""
    return list(_Finder(text).find(expression, (), False))


def branches(expression: nodes.Expression, text: str) -> list[Branches]:
    """The ways of every CASE in an expression, from the outermost in."""
    return list(_cases(expression, text, ()))


Reach = tuple[nodes.Expression, ...]


def _at(node: nodes.Expression) -> tuple[int, int]:
    return node.start, node.end


def _is(node: nodes.Expression, test: str, negated: bool = False) -> nodes.Expression:
    return nodes.Is(BOOLEAN, *_at(node), node, test, negated)


def _all(*conditions: nodes.Expression) -> nodes.Expression:
    return conditions[0] if len(conditions) == 1 else nodes.Logic(BOOLEAN, 0, 0, True, conditions)


def _after(before: Reach, more: nodes.Expression) -> Reach:
    """What a row has passed, as one condition that the next ones share: a list for each branch would grow with their square."""
    return (_all(*before, more),)


def _any(*conditions: nodes.Expression) -> nodes.Expression:
    return conditions[0] if len(conditions) == 1 else nodes.Logic(BOOLEAN, 0, 0, False, conditions)


def _call(name: str, *arguments: nodes.Expression, kind: object = BOOLEAN) -> nodes.Expression:
    return nodes.Call(kind, *_at(arguments[0]), catalogue()[name], arguments)  # type: ignore[arg-type]


def _folded(node: nodes.Expression) -> nodes.Expression:
    return _call("UPPER", _call("TIDY_SPACES", node, kind=TEXT), kind=TEXT)


def _constant(value: object, kind: object = TEXT) -> nodes.Expression:
    return nodes.Constant(kind, 0, 0, value)  # type: ignore[arg-type]


def _null(node: nodes.Expression) -> bool:
    return isinstance(node, nodes.Constant) and node.value is None


def _bare(node: nodes.Expression) -> nodes.Expression:
    """A node without the widening that binding put around it."""
    while isinstance(node, nodes.Cast) and node.implicit:
        node = node.operand
    return node


def _first_operand(node: nodes.Call) -> nodes.Expression:
    """The first operand of a chain of operators that is no constant."""
    for one in node.arguments:
        bare = _bare(one)
        if isinstance(bare, nodes.Call) and bare.function.name == node.function.name:
            return _first_operand(bare)
        if not isinstance(bare, nodes.Constant):
            return one
    return node.arguments[0]


def _matches(node: nodes.Expression, pattern: str) -> nodes.Expression:
    return _call("LIKE_REGEX", node, _constant(pattern), _constant(""))


def _cases(node: nodes.Expression, text: str, reach: Reach) -> Iterator[Branches]:
    if isinstance(node, nodes.Case):
        conditions = [condition for condition, _ in node.branches]
        before: list[Reach] = [()]
        for one in conditions:
            before.append(_after(before[-1], _is(one, "TRUE", True)))
        ways = tuple(_all(*reach, *before[at], _is(one, "TRUE")) for at, one in enumerate(conditions))
        left = _all(*reach, *before[-1])
        whens = tuple(" ".join(text[one.start : one.end].split()) for one in conditions)
        unknown = _all(left, _any(*(_is(one, "UNKNOWN") for one in conditions)))
        yield Branches(" ".join(text[node.start : node.end].split()), whens, ways, left, unknown, node.has_else)
    for child, way in _ways(node, reach):
        yield from _cases(child, text, way)


def _ways(node: nodes.Expression, reach: Reach) -> Iterator[tuple[nodes.Expression, Reach]]:
    """The operands of a node, each with the conditions under which a row reaches it."""
    if isinstance(node, nodes.Case):
        before: Reach = ()
        for condition, result in node.branches:
            yield condition, (*reach, *before)
            yield result, (*reach, *before, _is(condition, "TRUE"))
            before = _after(before, _is(condition, "TRUE", True))
        if node.has_else:
            yield node.otherwise, (*reach, *before)
    elif isinstance(node, nodes.Logic):
        before = ()
        for operand in node.operands:
            yield operand, (*reach, *before)
            before = _after(before, _is(operand, "FALSE" if node.conjunction else "TRUE", True))
    elif isinstance(node, nodes.FirstOf):
        before = ()
        for argument in node.arguments:
            yield argument, (*reach, *before)
            empty = _call("IS_BLANK", argument) if node.blank else _is(argument, "NULL")
            before = _after(before, empty)
    else:
        for child in node.children:
            yield child, reach


class _Finder:
    def __init__(self, text: str) -> None:
        self.text = text

    def written(self, node: nodes.Expression, most: int = 60) -> str:
        text = " ".join(self.text[node.start : node.end].split())
        return text if len(text) <= most else text[: most - 1] + "…"

    def find(self, node: nodes.Expression, reach: Reach, told: bool) -> Iterator[Probe]:
        """The probes of a node and all below it; `told` if that it is unknown or NULL is told of the node around it."""
        if isinstance(node, nodes.Call):
            yield from self.call(node, reach, told)
        elif isinstance(node, nodes.In):
            yield from self.in_list(node, reach)
        elif isinstance(node, nodes.Case):
            yield from self.case(node, reach)
        elif isinstance(node, nodes.FirstOf):
            yield from self.first_of(node, reach)
        elif isinstance(node, nodes.Cast):
            yield from self.cast(node, reach)
        if isinstance(node, (nodes.Case, nodes.Logic)):
            yield from self.guards(node, reach)
        passes_null = isinstance(node, nodes.Call) and node.function.name in ("||", *_ARITHMETIC)
        conditions = [condition for condition, _ in node.branches] if isinstance(node, nodes.Case) else []
        for child, way in _ways(node, reach):
            yield from self.find(child, way, passes_null or child in conditions)

    def call(self, node: nodes.Call, reach: Reach, told: bool) -> Iterator[Probe]:
        name, arguments = node.function.name, node.arguments
        if name in _COMPARISONS:
            yield from self.comparison(node, name, reach, told)
        elif name == "NOT" and isinstance(arguments[0], nodes.In):
            probed = _all(*reach, _is(arguments[0], "UNKNOWN"))
            hint = f"leave NULL out of the list, or add: OR {self.written(arguments[0].operand)} IS NULL"
            yield Probe("NOT IN beside NULL", probed, f"{self.written(node)} is unknown because of a NULL, so it does not hold", hint)
        elif name == "CONCAT":
            null = _any(*(_is(one, "NULL") for one in arguments))
            yield Probe("NULL passed over", _all(*reach, null), f"{self.written(node)} left out a NULL", "|| gives NULL there instead")
        elif name in ("||", *_ARITHMETIC) and not told:
            filler = "''" if name == "||" else "0"
            operand = _first_operand(node)
            hint = f"COALESCE({self.written(operand)}, {filler}), if that is what it means"
            yield Probe("NULL operand", _all(*reach, _is(node, "NULL")), f"{self.written(node)} is NULL only because an operand is", hint)
        if name == "-" and len(arguments) == 2:
            yield from self.years(node, reach)
        if name == "REPLACE":
            yield from self.replace(node, reach)

    def comparison(self, node: nodes.Call, name: str, reach: Reach, told: bool) -> Iterator[Probe]:
        left, right = node.arguments
        shown = f"{self.written(left)} {name} {self.written(right)}"  # of CASE x WHEN v too
        if _null(left) or _null(right):
            other = self.written(right if _null(left) else left)
            hint = f"{other} IS {'NOT ' if name == '<>' else ''}NULL"
            yield Probe("compared with NULL", _all(*reach, _is(node, "UNKNOWN")), f"{shown} is unknown for every row", hint)
            return
        null = " OR ".join(f"{self.written(one)} IS NULL" for one in (left, right) if not isinstance(_bare(one), nodes.Constant))
        if not told:
            yield Probe("unknown comparison", _all(*reach, _is(node, "UNKNOWN")), f"{shown} is unknown", f"decide those rows too: {null}")
        if name == "=" and left.type == TEXT:
            alike = _call("=", _folded(left), _folded(right))
            hint = f"UPPER(TIDY_SPACES({self.written(left)})) = UPPER(TIDY_SPACES({self.written(right)}))"
            detail = f"{shown} would hold if case and spaces were ignored"
            yield Probe("case or spaces", _all(*reach, _is(node, "FALSE"), alike), detail, hint)
        if name in _ORDERED and left.type == TEXT:
            kind = decimal(38, 10)
            numbers = [nodes.Cast(kind, *_at(one), one, Target(kind), "CAST_OR_NULL") for one in (left, right)]
            otherwise = _call("IS DISTINCT FROM", _call(name, *numbers), node)
            probed = _all(*reach, _is(_call(name, *numbers), "UNKNOWN", True), otherwise)
            hint = f"CAST({self.written(left)} AS DECIMAL) {name} CAST({self.written(right)} AS DECIMAL)"
            yield Probe("numbers compared as texts", probed, f"{shown} is otherwise by number", hint)

    def in_list(self, node: nodes.In, reach: Reach) -> Iterator[Probe]:
        if node.operand.type != TEXT or not all(isinstance(item, nodes.Constant) for item in node.items):
            return
        texts = [item.value for item in node.items if isinstance(item, nodes.Constant) and item.value is not None]
        folded = nodes.In(BOOLEAN, *_at(node), _folded(node.operand), tuple(_constant(" ".join(text.split()).upper()) for text in texts))
        detail = f"{self.written(node)} would hold if case and spaces were ignored"
        hint = f"UPPER(TIDY_SPACES({self.written(node.operand)})) IN (…) with the items in capitals"
        if texts:
            yield Probe("case or spaces", _all(*reach, _is(node, "TRUE", True), _is(folded, "TRUE")), detail, hint)

    def case(self, node: nodes.Case, reach: Reach) -> Iterator[Probe]:
        conditions = [condition for condition, _ in node.branches]
        left = (*reach, *(_is(one, "TRUE", True) for one in conditions))
        if not node.has_else:
            yield Probe("CASE without ELSE", _all(*left), f"fell through {self.written(node)} and are NULL", "write the ELSE that is meant")
        unknown = _any(*(_is(one, "UNKNOWN") for one in conditions))
        way = "ELSE" if node.has_else else "the end"
        detail = f"reached {way} of {self.written(node)} only because a condition was unknown"
        # A column that the ELSE leaves as it is, and that is NULL itself, has lost nothing.
        kept = (_is(node.otherwise, "NULL", True),) if node.has_else and isinstance(node.otherwise, nodes.Column) else ()
        yield Probe("ELSE because unknown", _all(*left, unknown, *kept), detail, "begin with a branch for NULL: WHEN … IS NULL THEN …")

    def first_of(self, node: nodes.FirstOf, reach: Reach) -> Iterator[Probe]:
        last = node.arguments[-1]
        if isinstance(last, nodes.Constant) and last.value is not None and len(node.arguments) > 1:
            first = node.arguments[0]
            detail = f"have {self.written(last)} already, which {self.written(node)} puts for what is missing"
            yield Probe(
                "substitute occurs", _all(*reach, _is(_call("=", first, last), "TRUE")), detail, "take a substitute that no row has"
            )

    def cast(self, node: nodes.Cast, reach: Reach) -> Iterator[Probe]:
        if node.mode == "FITS" or node.implicit:
            return
        source, to, operand = node.operand.type.kind, node.type.kind, node.operand
        lost: nodes.Expression | None = None
        if source is Kind.TEXT and to in (Kind.INTEGER, Kind.DECIMAL):
            zeros = r"^ *[+-]?0[0-9]|^ *\+"
            lost = _matches(operand, zeros + (rf"|\.[0-9]{{{node.type.scale}}}[0-9]*[1-9]" if to is Kind.DECIMAL else ""))
        elif source is Kind.DECIMAL and to is Kind.INTEGER:
            lost = _call("<>", operand, nodes.Cast(operand.type, *_at(node), node, Target(operand.type), implicit=True))
        if lost is not None:
            detail = f"lose something in {self.written(node)}: leading zeros, a plus sign or decimals"
            probed = _all(*reach, _is(node, "NULL", True), lost)
            yield Probe("cast that loses", probed, detail, f"is it a code? then {self.written(operand)} stays a text")

    def years(self, node: nodes.Call, reach: Reach) -> Iterator[Probe]:
        parts = [one for one in node.arguments if isinstance(one, nodes.Call) and one.function.name == "EXTRACT"]
        if len(parts) != 2 or any(getattr(one.arguments[0], "value", "") != "YEAR" for one in parts):
            return
        end, start = (one.arguments[1] for one in parts)
        if {start.type.kind, end.type.kind} <= {Kind.DATE, Kind.TIMESTAMP, Kind.ZONED}:
            whole = _call("FULL_YEARS", start, end, kind=INTEGER)
            hint = f"FULL_YEARS({self.written(start)}, {self.written(end)})"
            detail = f"{self.written(node)} is not the whole years that have passed"
            yield Probe("years subtracted", _all(*reach, _is(_call("<>", node, whole), "TRUE")), detail, hint)

    def replace(self, node: nodes.Call, reach: Reach) -> Iterator[Probe]:
        text, old = node.arguments[:2]
        if not (isinstance(old, nodes.Constant) and isinstance(old.value, str) and re.fullmatch(r"\w+", old.value)):
            return
        word = re.escape(old.value)
        detail = f"{self.written(node)} changes a part of a longer word"
        hint = f"TRANSLATE_REGEX('\\b{word}\\b' IN {self.written(text)} WITH {self.written(node.arguments[2])})"
        yield Probe("inside words", _all(*reach, _matches(text, f"{_WORDY}{word}|{word}{_WORDY}")), detail, hint)

    def guards(self, node: nodes.Case | nodes.Logic, reach: Reach) -> Iterator[Probe]:
        """The good news: rows that did not reach a part which would have failed for them."""
        for child, way in _ways(node, ()):
            if way and child.fails:
                kept = nodes.Call(BOOLEAN, *_at(child), catalogue()["NOT"], (_is(_all(*way), "TRUE"),))
                probed = _all(*reach, kept, nodes.Fails(BOOLEAN, *_at(child), child))
                yield Probe("kept from an error", probed, f"would have failed in {self.written(child)}, but do not reach it")
