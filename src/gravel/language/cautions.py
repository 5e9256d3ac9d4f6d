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
# Functions that are NULL where an operand is, which an analyst reads as a value all the same; those of dates have entries of their own.
_PASSING = ("||", *_ARITHMETIC, "+ of dates", "- of dates", "GREATEST", "LEAST")
_SMALL_WORDS = (
    r"(^| )(van|von|der|den|de|del|della|di|da|du|la|le|af|av|zu|of|the|and|og|och|und|y)( |$)|\b(II|III|IV|VI|VII|VIII|IX|XI|XII)\b"
)
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
    came there only because a condition was unknown; `holding` are the branches' own conditions, whether an earlier one took the row or not."""

    text: str
    whens: tuple[str, ...]
    conditions: tuple[nodes.Expression, ...]
    otherwise: nodes.Expression
    unknown: nodes.Expression
    has_else: bool
    holding: tuple[nodes.Expression, ...]


def probes(expression: nodes.Expression, text: str, counted: bool = False) -> list[Probe]:
    """The cautions to look for in a bound expression; `text` is what it was written as. Of one that is only `counted`, NULL is meant."""
    return list(_Finder(text).find(expression, (), _Place(told=counted)))


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


def _operands(node: nodes.Call) -> Iterator[nodes.Expression]:
    """The operands of a chain of operators."""
    for one in node.arguments:
        bare = _bare(one)
        if isinstance(bare, nodes.Call) and bare.function.name in _PASSING:
            yield from _operands(bare)
        else:
            yield one


def _same(one: nodes.Expression, other: nodes.Expression) -> bool:
    """Whether both are the same column."""
    return isinstance(one, nodes.Column) and isinstance(other, nodes.Column) and one.index == other.index


def _calls(node: nodes.Expression) -> Iterator[nodes.Call]:
    if isinstance(node, nodes.Call):
        yield node
    for child in node.children:
        yield from _calls(child)


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
        yield Branches(" ".join(text[node.start : node.end].split()), whens, ways, left, unknown, node.has_else,
                       tuple(_all(*reach, _is(one, "TRUE")) for one in conditions))  # fmt: skip
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


@dataclass(frozen=True)
class _Place:
    """Where a node stands. told: that it is unknown or NULL is told of a node around it, or decided there; whole: the outermost condition
    that it is a part of, which may be known where it is not; negated: whether that says NOT of it."""

    told: bool = False
    whole: nodes.Expression | None = None
    negated: bool = False


def _between(node: nodes.Expression) -> nodes.Expression | None:
    """The operand of a BETWEEN, which is bound as two comparisons of the same place."""
    if not (isinstance(node, nodes.Logic) and node.conjunction and len(node.operands) == 2):
        return None
    low, high = node.operands
    if not (isinstance(low, nodes.Call) and isinstance(high, nodes.Call) and _at(low) == _at(high) == _at(node)):
        return None
    names = (low.function.name, high.function.name)
    return low.arguments[0] if names == (">=", "<=") and low.arguments[0] is high.arguments[0] else None


class _Finder:
    def __init__(self, text: str) -> None:
        self.text = text

    def written(self, node: nodes.Expression, most: int = 60) -> str:
        text = " ".join(self.text[node.start : node.end].split())
        return text if len(text) <= most else text[: most - 1] + "…"

    def find(self, node: nodes.Expression, reach: Reach, place: _Place) -> Iterator[Probe]:
        """The probes of a node and all below it."""
        if isinstance(node, nodes.Call):
            yield from self.call(node, reach, place)
        elif isinstance(node, nodes.In):
            yield from self.in_list(node, reach, place)
        elif isinstance(node, nodes.Case):
            yield from self.case(node, reach, place)
        elif isinstance(node, nodes.FirstOf):
            yield from self.first_of(node, reach)
        elif isinstance(node, nodes.Cast):
            yield from self.cast(node, reach, place)
        if isinstance(node, (nodes.Case, nodes.Logic)):
            yield from self.guards(node, reach)
        if (ranged := _between(node)) is not None and isinstance(node, nodes.Logic):
            yield from self.range(node, ranged, reach, place)
        for child, way in _ways(node, reach):
            yield from self.find(child, way, self.place_of(child, node, place))

    def place_of(self, child: nodes.Expression, node: nodes.Expression, place: _Place) -> _Place:
        """Where an operand of a node stands."""
        if isinstance(node, nodes.Logic):
            return _Place(place.told or _between(node) is not None, place.whole or node)
        if isinstance(node, nodes.Call) and node.function.name == "NOT":
            return _Place(place.told, place.whole, not place.negated)
        if isinstance(node, nodes.Is):  # IS [NOT] TRUE, IS NULL and so on decide what is unknown
            return _Place(node.test != "NULL" or child.type == BOOLEAN)
        if isinstance(node, nodes.FirstOf):  # so do the substitutes of COALESCE
            return _Place(child is not node.arguments[-1] or place.told)
        if isinstance(node, nodes.Case):
            return _Place(any(child is condition for condition, _ in node.branches))
        passes_null = isinstance(node, nodes.Call) and node.function.name in _PASSING
        return _Place(passes_null)

    def unknown(
        self, node: nodes.Expression, shown: str, operands: tuple[nodes.Expression, ...], reach: Reach, place: _Place
    ) -> Iterator[Probe]:
        """A condition that is unknown in a row in which what it is a part of is so too."""
        if place.told:
            return
        null = " OR ".join(f"{self.written(one)} IS NULL" for one in operands if not isinstance(_bare(one), nodes.Constant))
        whole = () if place.whole is None else (_is(place.whole, "UNKNOWN"),)
        detail, hint = f"{shown} is unknown", f"decide those rows too: {null}" if null else "leave the NULL out"
        yield Probe("unknown comparison", _all(*reach, _is(node, "UNKNOWN"), *whole), detail, hint)

    def range(self, node: nodes.Logic, operand: nodes.Expression, reach: Reach, place: _Place) -> Iterator[Probe]:
        """BETWEEN, told as one condition."""
        low, high = (one.arguments[1] for one in node.operands if isinstance(one, nodes.Call))
        shown = self.written(node)
        yield from self.unknown(node, shown, (operand, low, high), reach, place)
        if operand.type == TEXT:
            numbers = [self.number(one) for one in (operand, low, high)]
            by_number = _all(_call(">=", numbers[0], numbers[1]), _call("<=", numbers[0], numbers[2]))
            hint = f"CAST({self.written(operand)} AS DECIMAL) BETWEEN {self.plain(low)} AND {self.plain(high)}"
            yield self.texts_as_numbers(node, by_number, shown, hint, reach)

    def number(self, node: nodes.Expression) -> nodes.Expression:
        kind = decimal(38, 10)
        return nodes.Cast(kind, *_at(node), node, Target(kind), "CAST_OR_NULL")

    def plain(self, node: nodes.Expression) -> str:
        """How a text that is to be a number is written: a literal as the number itself."""
        bare = _bare(node)
        if isinstance(bare, nodes.Constant) and isinstance(bare.value, str) and re.fullmatch(r" *-?[0-9]+(\.[0-9]+)? *", bare.value):
            return bare.value.strip()
        return f"CAST({self.written(node)} AS DECIMAL)"

    def texts_as_numbers(self, node: nodes.Expression, by_number: nodes.Expression, shown: str, hint: str, reach: Reach) -> Probe:
        otherwise = _call("IS DISTINCT FROM", by_number, node)
        probed = _all(*reach, _is(by_number, "UNKNOWN", True), otherwise)
        return Probe("numbers compared as texts", probed, f"{shown} is otherwise by number", hint)

    def call(self, node: nodes.Call, reach: Reach, place: _Place) -> Iterator[Probe]:
        name, arguments = node.function.name, node.arguments
        if name in _COMPARISONS:
            yield from self.comparison(node, name, reach, place)
        elif name in ("LIKE", "LIKE_REGEX", "SIMILAR TO"):
            yield from self.unknown(node, self.written(node), arguments[:2], reach, place)
        elif name == "NOT" and isinstance(arguments[0], nodes.In) and not place.told:
            within = arguments[0]
            listed = any(_null(item) for item in within.items)
            whole = () if place.whole is None else (_is(place.whole, "UNKNOWN"),)
            probed = _all(*reach, _is(within, "UNKNOWN"), *whole)
            hint = "leave NULL out of the list" if listed else f"decide those rows too: {self.written(within.operand)} IS NULL"
            yield Probe("NOT IN beside NULL", probed, f"{self.written(node)} is unknown because of a NULL, so it does not hold", hint)
        elif name == "CONCAT":
            null = _any(*(_is(one, "NULL") for one in arguments))
            yield Probe("NULL passed over", _all(*reach, null), f"{self.written(node)} left out a NULL", "|| gives NULL there instead")
        elif name in _PASSING and not place.told:
            yield from self.null_operand(node, reach)
        if name == "-" and len(arguments) == 2:
            yield from self.years(node, reach)
        if name in ("/", "TRUNC", "FLOOR"):
            yield from self.days_as_years(node, reach)
        if name == "REPLACE":
            yield from self.replace(node, reach)
        if name in ("LPAD", "RPAD"):
            longer = _call(">", _call("LENGTH", arguments[0], kind=INTEGER), arguments[1])
            text, size = self.written(arguments[0]), self.written(arguments[1])
            hint = f"CASE WHEN LENGTH({text}) > {size} THEN {text} ELSE {self.written(node)} END"
            yield Probe("cut", _all(*reach, _is(longer, "TRUE")), f"{self.written(node)} cuts what is longer", hint)
        if name == "CAPITALIZE_WORDS":
            detail = f"{self.written(node)} changes a small word or a Roman numeral (van, de, III)"
            hint = f"leave those as they are: {self.written(arguments[0])} NOT LIKE_REGEX '{_SMALL_WORDS}'"
            yield Probe("small words", _all(*reach, _matches(arguments[0], _SMALL_WORDS)), detail, hint)
        if name in (*_ARITHMETIC, "LEFT", "RIGHT", "SUBSTRING"):
            yield from self.no_position(node, reach)
        if name == "||":
            yield from self.initial(node, reach)

    def null_operand(self, node: nodes.Call, reach: Reach) -> Iterator[Probe]:
        """A chain of operators that is NULL because of an operand: which operand it is, and how many rows."""
        shown = self.written(node)
        for operand in _operands(node):
            if isinstance(_bare(operand), nodes.Constant):
                continue
            name = self.written(operand)
            filler = "''" if node.function.name == "||" else "0" if operand.type.kind in (Kind.INTEGER, Kind.DECIMAL, Kind.DOUBLE) else ""
            column = isinstance(_bare(operand), nodes.Column)
            hint = (
                f"COALESCE({name}, {filler}), if that is what it means"
                if column and filler
                else f"decide those rows: CASE WHEN {name} IS NULL THEN …"
            )
            yield Probe(
                "NULL operand", _all(*reach, _is(operand, "NULL"), _is(node, "NULL")), f"{shown} is NULL only because {name} is", hint
            )

    def no_position(self, node: nodes.Call, reach: Reach) -> Iterator[Probe]:
        """POSITION is 0 where there is nothing to find, and a number to LEFT, SUBSTRING and arithmetic all the same."""
        stack = [*node.arguments]
        while stack:
            one = stack.pop()
            if isinstance(one, nodes.Call) and one.function.name in ("POSITION", "POSITION_OF", "POSITION_REGEX"):
                none = _call("=", one, _constant(0, INTEGER))
                found = self.written(one)
                hint = f"CASE WHEN {found} > 0 THEN {self.written(node)} ELSE … END"
                yield Probe("nothing found", _all(*reach, _is(none, "TRUE")), f"{found} is 0, and is taken for a place", hint)
            elif (isinstance(one, nodes.Call) and one.function.name in _ARITHMETIC) or isinstance(one, nodes.Cast):
                stack.extend(one.children)

    def initial(self, node: nodes.Call, reach: Reach) -> Iterator[Probe]:
        """UPPER of the first character before the rest, of values of several words."""
        first = node.arguments[0]
        if not (isinstance(first, nodes.Call) and first.function.name == "UPPER" and isinstance(first.arguments[0], nodes.Call)):
            return
        cut = first.arguments[0]
        one = cut.arguments[1:] and cut.arguments[-1]
        if cut.function.name in ("LEFT", "SUBSTRING") and isinstance(one, nodes.Constant) and one.value == 1:
            text = cut.arguments[0]
            hint = f"CAPITALIZE_WORDS({self.written(text)}), if each word is to have one"
            yield Probe(
                "first word only",
                _all(*reach, _matches(text, r"\pL +\p{Ll}")),
                f"{self.written(node)} gives the first word alone a capital",
                hint,
            )

    def days_as_years(self, node: nodes.Call, reach: Reach) -> Iterator[Probe]:
        """Days divided by 365 for years."""
        quotient = _bare(node.arguments[0]) if node.function.name != "/" else node
        if not (isinstance(quotient, nodes.Call) and quotient.function.name == "/" and len(quotient.arguments) == 2):
            return
        days, year = map(_bare, quotient.arguments)
        dated = (
            isinstance(days, nodes.Call)
            and days.function.name != "/"
            and [one.type.kind for one in days.arguments] == [Kind.DATE, Kind.DATE]
        )
        if not (isinstance(days, nodes.Call) and dated and isinstance(year, nodes.Constant) and str(year.value).startswith("365")):
            return
        end, start = days.arguments
        whole = _call("FULL_YEARS", start, end, kind=INTEGER)
        floored = _call("FLOOR", quotient, kind=quotient.type)
        detail = f"{self.written(node)} is not the whole years that have passed"
        probed = _all(*reach, _is(_call("<>", floored, whole), "TRUE"))
        yield Probe("days taken for years", probed, detail, f"FULL_YEARS({self.written(start)}, {self.written(end)})")

    def comparison(self, node: nodes.Call, name: str, reach: Reach, place: _Place) -> Iterator[Probe]:
        left, right = node.arguments
        shown = f"{self.written(left)} {name} {self.written(right)}"  # of CASE x WHEN v too
        if _null(left) or _null(right):
            other = self.written(right if _null(left) else left)
            hint = f"{other} IS {'NOT ' if name == '<>' else ''}NULL"
            yield Probe("compared with NULL", _all(*reach, _is(node, "UNKNOWN")), f"{shown} is unknown for every row", hint)
            return
        yield from self.unknown(node, shown, (left, right), reach, place)
        if name == "=" and left.type == TEXT:
            alike = _call("=", _folded(left), _folded(right))
            hint = f"UPPER(TIDY_SPACES({self.written(left)})) = UPPER(TIDY_SPACES({self.written(right)}))"
            yield Probe("case or spaces", _all(*reach, _is(node, "FALSE"), alike), f"{shown} {self.would(place)}", hint)
        between = place.told and place.whole is not None and _between(place.whole) is not None
        if name in _ORDERED and left.type == TEXT and not between:
            hint = f"CAST({self.written(left)} AS DECIMAL) {name} {self.plain(right)}"
            if isinstance(_bare(left), nodes.Constant):
                hint = f"{self.plain(left)} {name} CAST({self.written(right)} AS DECIMAL)"
            yield self.texts_as_numbers(node, _call(name, self.number(left), self.number(right)), shown, hint, reach)

    def would(self, place: _Place) -> str:
        return "holds because of case or spaces" if place.negated else "would hold if case and spaces were ignored"

    def in_list(self, node: nodes.In, reach: Reach, place: _Place) -> Iterator[Probe]:
        if not place.negated and not any(_null(item) for item in node.items):
            yield from self.unknown(node, self.written(node), (node.operand,), reach, place)
        if node.operand.type != TEXT or not all(isinstance(item, nodes.Constant) for item in node.items):
            return
        texts = [item.value for item in node.items if isinstance(item, nodes.Constant) and item.value is not None]
        folded = nodes.In(BOOLEAN, *_at(node), _folded(node.operand), tuple(_constant(" ".join(text.split()).upper()) for text in texts))
        shown = f"{self.written(node.operand)} NOT IN (…)" if place.negated else self.written(node)
        hint = f"UPPER(TIDY_SPACES({self.written(node.operand)})) {'NOT ' if place.negated else ''}IN (…) with the items in capitals"
        if texts:
            yield Probe("case or spaces", _all(*reach, _is(node, "TRUE", True), _is(folded, "TRUE")), f"{shown} {self.would(place)}", hint)

    def case(self, node: nodes.Case, reach: Reach, place: _Place) -> Iterator[Probe]:
        conditions = [condition for condition, _ in node.branches]
        yield from self.zero_ratio(node, reach)
        yield from self.null_branch(node, reach)
        left = (*reach, *(_is(one, "TRUE", True) for one in conditions))
        if not node.has_else and not place.told:
            yield Probe("CASE without ELSE", _all(*left), f"fell through {self.written(node)} and are NULL", "write the ELSE that is meant")
        if place.told and not node.has_else:
            return  # what falls through is NULL, and that is decided around it
        unknown = _any(*(_is(one, "UNKNOWN") for one in conditions))
        way = "ELSE" if node.has_else else "the end"
        detail = f"reached {way} of {self.written(node)} only because a condition was unknown"
        # A column that the ELSE leaves as it is, and that is NULL itself, has lost nothing.
        kept = (_is(node.otherwise, "NULL", True),) if node.has_else and isinstance(node.otherwise, nodes.Column) else ()
        yield Probe("ELSE because unknown", _all(*left, unknown, *kept), detail, "begin with a branch for NULL: WHEN … IS NULL THEN …")

    def zero_ratio(self, node: nodes.Case, reach: Reach) -> Iterator[Probe]:
        """0 in place of a ratio that is not defined."""
        for condition, result in node.branches:
            zero = isinstance(_bare(result), nodes.Constant) and _bare(result).value == 0  # type: ignore[attr-defined]
            if not (zero and isinstance(condition, nodes.Call) and condition.function.name == "=" and len(condition.arguments) == 2):
                continue
            divisor, against = map(_bare, condition.arguments)
            by = [one for one in _calls(node.otherwise) if one.function.name == "/" and _same(_bare(one.arguments[1]), divisor)]
            if by and isinstance(against, nodes.Constant) and against.value == 0:
                detail = f"have 0 where {self.written(by[0])} is not defined, which a mean counts"
                hint = f"{self.written(by[0].arguments[0])} / NULLIF({self.written(divisor)}, 0) is NULL there"
                yield Probe("zero for no ratio", _all(*reach, _is(condition, "TRUE")), detail, hint)

    def null_branch(self, node: nodes.Case, reach: Reach) -> Iterator[Probe]:
        """CASE WHEN x IS NULL THEN value ELSE x END puts a value that other rows have."""
        condition, result = node.branches[0]
        value, other = _bare(result), _bare(node.otherwise)
        if not (
            isinstance(condition, nodes.Is) and condition.test == "NULL" and not condition.negated and isinstance(value, nodes.Constant)
        ):
            return
        if value.value is not None and _same(condition.operand, other):
            detail = f"have {self.written(result)} already, which {self.written(node)} puts for what is missing"
            probed = _all(*reach, _is(_call("=", node.otherwise, result), "TRUE"))
            yield Probe("substitute occurs", probed, detail, "take a substitute that no row has")

    def first_of(self, node: nodes.FirstOf, reach: Reach) -> Iterator[Probe]:
        last = node.arguments[-1]
        if isinstance(last, nodes.Constant) and last.value is not None and len(node.arguments) > 1 and node.type != BOOLEAN:
            first = node.arguments[0]
            detail = f"have {self.written(last)} already, which {self.written(node)} puts for what is missing"
            yield Probe(
                "substitute occurs", _all(*reach, _is(_call("=", first, last), "TRUE")), detail, "take a substitute that no row has"
            )

    def cast(self, node: nodes.Cast, reach: Reach, place: _Place) -> Iterator[Probe]:
        if node.mode == "FITS":
            yield from self.unknown(node, self.written(node), (node.operand,), reach, place)
        if node.mode == "FITS" or node.implicit:
            return
        source, to, operand = node.operand.type.kind, node.type.kind, node.operand
        lost: nodes.Expression | None = None
        if source is Kind.TEXT and to in (Kind.INTEGER, Kind.DECIMAL):
            zeros = r"^ *[+-]?0[0-9]|^ *\+"
            lost = _matches(operand, zeros + (rf"|\.[0-9]{{{node.type.scale}}}[0-9]*[1-9]" if to is Kind.DECIMAL else ""))
        elif source is Kind.DECIMAL and (to is Kind.INTEGER or (to is Kind.DECIMAL and node.type.scale < operand.type.scale)):
            lost = _call("<>", operand, nodes.Cast(operand.type, *_at(node), node, Target(operand.type), implicit=True))
        if lost is not None:
            probed = _all(*reach, _is(node, "NULL", True), lost)
            if source is Kind.TEXT:
                detail, hint = "leading zeros, a plus sign or decimals", f"is it a code? then {self.written(operand)} stays a text"
            else:
                detail, hint = "decimals", f"say so: ROUND({self.written(operand)}, {node.type.scale}) within the cast"
            yield Probe("cast that loses", probed, f"lose something in {self.written(node)}: {detail}", hint)

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
