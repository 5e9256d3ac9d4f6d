"""Expressions that are valid and still likely wrong. Each caution is a condition over the same
rows: the rows for which it is true are the rows that deserve it. Nothing here changes a result."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from itertools import zip_longest

from msgspec import Struct
from msgspec.structs import replace

from gravel.language import nodes
from gravel.language.conditions import (
    Reach,
    all_of,
    any_of,
    bare,
    called,
    calls_in,
    constant,
    folded,
    is_null,
    is_test,
    matches,
    passed,
    same_column,
    span,
    ways,
)
from gravel.language.functions.catalogue import catalogue
from gravel.language.ranges import bands, gaps, in_gap, overlapping, strict_bound
from gravel.language.types import BOOLEAN, DATE, INTEGER, TEXT, Kind, Target, decimal
from gravel.language.writing import text_literal

_COMPARISONS = ("=", "<>", "<", "<=", ">", ">=")
_ORDERED = ("<", "<=", ">", ">=")
_MIRRORED = {"<": ">", ">": "<", "<=": ">=", ">=": "<="}
_ARITHMETIC = ("+", "-", "*", "/", "MOD")
# Functions that are NULL where an operand is, which an analyst reads as a value all the same; those
# of dates have entries of their own.
_PASSING = ("||", *_ARITHMETIC, "+ of dates", "- of dates", "GREATEST", "LEAST")
_SMALL_WORDS = (
    r"(^| )(van|von|der|den|de|del|della|di|da|du|la|le|af|av|zu|of|the|and|og|och|und|y)("
    r" |$)|\b(II|III|IV|VI|VII|VIII|IX|XI|XII)\b"
)
_OF_NULL = ("NULL operand", "ELSE because unknown")
_WORDY = r"[\pL\pN]"


class Probe(Struct, frozen=True):
    """A caution to look for: `condition` is true in the rows that deserve it, `detail` says what
    they are, `hint` how to avoid it. Some of the values of `example` there are shown; it is told
    only where `usual`, if any, is true of more rows.
    """

    caution: str
    condition: nodes.Expression
    detail: str
    hint: str = ""
    example: nodes.Expression | None = None
    usual: nodes.Expression | None = None


class Branches(Struct, frozen=True):
    """A CASE as written, with a condition for each of its ways: the branches in order, ELSE, and
    those rows of ELSE that came there only because a condition was unknown; `holding` are the
    branches' own conditions, whether an earlier one took the row or not.
    """

    text: str
    whens: tuple[str, ...]
    conditions: tuple[nodes.Expression, ...]
    otherwise: nodes.Expression
    unknown: nodes.Expression
    has_else: bool
    holding: tuple[nodes.Expression, ...]


ListItems = dict[
    tuple[str, str], set[int]
]  # of a text and a delimiter, as written: which items are taken


def probes(
    expressions: Sequence[tuple[nodes.Expression, str]],
    counted: bool = False,
    beside: ListItems | None = None,
    targets: Sequence[nodes.Column | None] = (),
) -> list[Probe]:
    """The cautions to look for in bound expressions, each with what it was written as. Of those
    that are only `counted`, NULL is meant; `beside`: the items of lists that expressions beside
    them take too; `targets`: the columns that they are assigned to, in which a NULL that stays NULL
    is not a loss."""
    taken: ListItems = {key: set(numbers) for key, numbers in (beside or {}).items()}
    for expression, text in expressions:
        for key, number in _list_items(expression, text):
            taken.setdefault(key, set()).add(number)
    result = []
    for (expression, text), target in zip_longest(expressions, targets):
        results = list(_Finder(text, taken).find(expression, (), _Place(told=counted)))
        if target is not None:
            filled = any_of(is_test(target, "NULL", True), is_test(expression, "NULL", True))
            results = [
                (
                    replace(item, condition=all_of(item.condition, filled))
                    if item.caution in _OF_NULL
                    else item
                )
                for item in results
            ]
        result += results
    return result


def bounds(expressions: Sequence[tuple[nodes.Expression, str]]) -> list[Probe]:
    """Strict comparisons with a literal: their condition is true of the rows that equal it, which
    they leave out."""
    return [
        probe
        for expression, text in expressions
        for probe in _Finder(text, {}).bounds(expression, ())
    ]


def moments(expressions: Sequence[nodes.Expression]) -> dict[str, object]:
    """What CURRENT_DATE and its like are in expressions, by their names."""
    results: dict[str, object] = {}
    stack = list(expressions)
    while stack:
        node = stack.pop()
        if isinstance(node, nodes.Moment):
            results[node.name] = node.value
        stack.extend(node.children)
    return results


def _cause(node: nodes.Expression) -> nodes.Expression:
    """The column that a chain of functions and casts is of, if their first arguments lead to
    one."""
    inner = node
    while isinstance(inner, (nodes.BoundCall, nodes.BoundCast)) and inner.children:
        inner = inner.children[0]
    return inner if isinstance(inner, nodes.Column) else node


def _list_items(node: nodes.Expression, text: str) -> Iterator[tuple[tuple[str, str], int]]:
    for call in calls_in(node):
        if call.function.name == "LIST_ITEM":
            key, number = _list_item(call, text)
            if number:
                yield key, number


def _list_item(call: nodes.BoundCall, text: str) -> tuple[tuple[str, str], int | None]:
    """Of a LIST_ITEM: its text and delimiter as written, and its number if that is a literal."""
    source, delimiter, number = call.arguments
    written = [" ".join(text[item.start : item.end].split()) for item in (source, delimiter)]
    plain = bare(number)
    if (
        isinstance(plain, nodes.BoundCall)
        and plain.function.name == "NEGATE"
        and isinstance(inner := bare(plain.arguments[0]), nodes.Constant)
    ):
        return (written[0], written[1]), None if inner.value is None else -inner.value
    return (written[0], written[1]), plain.value if isinstance(plain, nodes.Constant) else None


def branches(expression: nodes.Expression, text: str) -> list[Branches]:
    """The ways of every CASE in an expression, from the outermost in."""
    return list(_cases(expression, text, ()))


def _operands(node: nodes.BoundCall) -> Iterator[nodes.Expression]:
    """The operands of a chain of operators."""
    for argument in node.arguments:
        plain = bare(argument)
        if isinstance(plain, nodes.BoundCall) and plain.function.name in _PASSING:
            yield from _operands(plain)
        else:
            yield argument


def _cases(node: nodes.Expression, text: str, reach: Reach) -> Iterator[Branches]:
    if isinstance(node, nodes.BoundCase):
        conditions = [condition for condition, _ in node.branches]
        before: list[Reach] = [()]
        for entry in conditions:
            before.append(passed(before[-1], is_test(entry, "TRUE", True)))
        taken = tuple(
            all_of(*reach, *before[index], is_test(item, "TRUE"))
            for index, item in enumerate(conditions)
        )
        left = all_of(*reach, *before[-1])
        whens = tuple(" ".join(text[item.start : item.end].split()) for item in conditions)
        unknown = all_of(left, any_of(*(is_test(item, "UNKNOWN") for item in conditions)))
        yield Branches(
            " ".join(text[node.start : node.end].split()),
            whens,
            taken,
            left,
            unknown,
            node.has_else,
            tuple(all_of(*reach, is_test(item, "TRUE")) for item in conditions),
        )
    for child, way in ways(node, reach):
        yield from _cases(child, text, way)


class _Place(Struct, frozen=True):
    """Where a node stands. told: that it is unknown or NULL is told of a node around it, or decided
    there; whole: the outermost condition that it is a part of, which may be known where it is not;
    negated: whether that says NOT of it; compared: its value is compared, and so is kept by
    nobody."""

    told: bool = False
    whole: nodes.Expression | None = None
    negated: bool = False
    compared: bool = False


def _between(node: nodes.Expression) -> nodes.Expression | None:
    """The operand of a BETWEEN, which is bound as two comparisons of the same place."""
    if not (isinstance(node, nodes.BooleanOp) and node.conjunction and len(node.operands) == 2):
        return None
    low, high = node.operands
    if not (
        isinstance(low, nodes.BoundCall)
        and isinstance(high, nodes.BoundCall)
        and span(low) == span(high) == span(node)
    ):
        return None
    names = (low.function.name, high.function.name)
    return (
        low.arguments[0]
        if names == (">=", "<=") and low.arguments[0] is high.arguments[0]
        else None
    )


def _day_form(node: nodes.Expression) -> str | None:
    """How a literal that is a day writes it, where texts of that form have another order than their
    days."""
    literal = bare(node)
    if not isinstance(literal, nodes.Constant) or not isinstance(literal.value, str):
        return None
    match = re.fullmatch(r"(\d\d)([./-])(\d\d)\2\d{4}", literal.value)
    if match is None or min(int(match[1]), int(match[3])) > 12:
        return None
    parts = ["MM", "DD"] if int(match[3]) > 12 else ["DD", "MM"]
    return match[2].join([*parts, "YYYY"])


def _is_bare_and(node: nodes.Expression) -> bool:
    """Whether a node is an AND written without parentheses around it."""
    if not (isinstance(node, nodes.BooleanOp) and node.conjunction):
        return False
    first, *_, last = node.operands
    return first.end < last.start and (node.start, node.end) == (first.start, last.end)


def _day(node: nodes.Expression) -> nodes.Expression | None:
    """The day that a node is, also where it is widened to its first moment."""
    within = bare(node)
    return within if within.type == DATE else None


class _Finder:
    def __init__(self, text: str, taken: ListItems) -> None:
        self.text, self.taken = text, taken

    def written(self, node: nodes.Expression, most: int = 60) -> str:
        text = " ".join(self.text[node.start : node.end].split())
        return text if len(text) <= most else text[: most - 1] + "…"

    def find(self, node: nodes.Expression, reach: Reach, place: _Place) -> Iterator[Probe]:
        """The probes of a node and all below it."""
        if isinstance(node, nodes.BoundCall):
            yield from self.call(node, reach, place)
        elif isinstance(node, nodes.InList):
            yield from self.in_list(node, reach, place)
        elif isinstance(node, nodes.BoundCase):
            yield from self.case(node, reach, place)
        elif isinstance(node, nodes.Coalesce):
            yield from self.first_of(node, reach)
        elif isinstance(node, nodes.BoundCast):
            yield from self.cast(node, reach, place)
        if isinstance(node, (nodes.BoundCase, nodes.BooleanOp)):
            yield from self.guards(node, reach)
        if isinstance(node, nodes.BooleanOp) and not node.conjunction:
            yield from self.precedence(node, reach)
        if (ranged := _between(node)) is not None and isinstance(node, nodes.BooleanOp):
            yield from self.range(node, ranged, reach, place)
        for child, way in ways(node, reach):
            yield from self.find(child, way, self.place_of(child, node, place))

    def precedence(self, node: nodes.BooleanOp, reach: Reach) -> Iterator[Probe]:
        """An OR with an AND that no parentheses set off: the rows that it has and the other reading
        has not."""
        sums: list[list[nodes.Expression]] = [[]]
        shown = []
        for operand in node.operands:
            first, *others = operand.children if _is_bare_and(operand) else (operand,)
            sums[-1].append(first)
            sums += [[other] for other in others]
            shown.append(f"({self.written(operand)})" if others else self.written(operand))
        if len(sums) == 1:
            return
        other = all_of(*(any_of(*terms) for terms in sums))
        written = [" OR ".join(self.written(term) for term in terms) for terms in sums]
        otherwise = " AND ".join(
            f"({text})" if len(terms) > 1 else text
            for text, terms in zip(written, sums, strict=True)
        )
        yield Probe(
            "AND before OR",
            all_of(*reach, is_test(node, "TRUE"), is_test(other, "TRUE", True)),
            f"{self.written(node)} holds because AND is decided before OR",
            f"write which is meant: {' OR '.join(shown)}, or {otherwise}",
        )

    def bounds(self, node: nodes.Expression, reach: Reach) -> Iterator[Probe]:
        """See the function of that name."""
        band = strict_bound(node)
        if band is not None:
            end = band.low or band.high
            assert end is not None
            detail = (
                f"{self.written(band.operand)} is exactly {self.written(end.node)}, which"
                f" {self.written(node)} leaves out"
            )
            yield Probe(
                "bound left out",
                all_of(*reach, is_test(called("=", band.operand, end.node), "TRUE")),
                detail,
            )
        for child, way in ways(node, reach):
            yield from self.bounds(child, way)

    def place_of(self, child: nodes.Expression, node: nodes.Expression, place: _Place) -> _Place:
        """Where an operand of a node stands."""
        if isinstance(node, nodes.BooleanOp):
            return _Place(place.told or _between(node) is not None, place.whole or node)
        if isinstance(node, nodes.BoundCall) and node.function.name == "NOT":
            return _Place(place.told, place.whole, not place.negated)
        if isinstance(
            node, nodes.IsTest
        ):  # IS [NOT] TRUE, IS NULL and so on decide what is unknown
            return _Place(node.test != "NULL" or child.type == BOOLEAN, compared=True)
        if isinstance(node, nodes.Coalesce):  # so do the substitutes of COALESCE
            return _Place(child is not node.arguments[-1] or place.told)
        if isinstance(node, nodes.BoundCase):
            return _Place(any(child is condition for condition, _ in node.branches))
        passes_null = isinstance(node, nodes.BoundCall) and node.function.name in _PASSING
        compares = isinstance(node, nodes.InList) or (
            isinstance(node, nodes.BoundCall) and node.function.name in _COMPARISONS
        )
        return _Place(passes_null, compared=compares or (passes_null and place.compared))

    def unknown(
        self,
        node: nodes.Expression,
        shown: str,
        operands: tuple[nodes.Expression, ...],
        reach: Reach,
        place: _Place,
    ) -> Iterator[Probe]:
        """A condition that is unknown in a row in which what it is a part of is so too."""
        if place.told:
            return
        null = " OR ".join(
            f"{self.written(operand)} IS NULL"
            for operand in operands
            if not isinstance(bare(operand), nodes.Constant)
        )
        whole = () if place.whole is None else (is_test(place.whole, "UNKNOWN"),)
        detail, hint = (
            f"{shown} is unknown",
            f"decide those rows too: {null}" if null else "leave the NULL out",
        )
        yield Probe(
            "unknown comparison", all_of(*reach, is_test(node, "UNKNOWN"), *whole), detail, hint
        )

    def range(
        self, node: nodes.BooleanOp, operand: nodes.Expression, reach: Reach, place: _Place
    ) -> Iterator[Probe]:
        """BETWEEN, told as one condition."""
        low, high = (
            item.arguments[1] for item in node.operands if isinstance(item, nodes.BoundCall)
        )
        shown = self.written(node)
        yield from self.unknown(node, shown, (operand, low, high), reach, place)
        if operand.type == TEXT:
            numbers = [self.number(item) for item in (operand, low, high)]
            by_number = all_of(
                called(">=", numbers[0], numbers[1]), called("<=", numbers[0], numbers[2])
            )
            hint = (
                f"CAST({self.written(operand)} AS DECIMAL) BETWEEN {self.plain(low)} AND"
                f" {self.plain(high)}"
            )
            yield self.texts_as_numbers(node, by_number, shown, hint, reach)

    def number(self, node: nodes.Expression) -> nodes.Expression:
        kind = decimal(38, 10)
        return nodes.BoundCast(kind, *span(node), node, Target(kind), "CAST_OR_NULL")

    def plain(self, node: nodes.Expression) -> str:
        """How a text that is to be a number is written: a literal as the number itself."""
        literal = bare(node)
        if (
            isinstance(literal, nodes.Constant)
            and isinstance(literal.value, str)
            and re.fullmatch(r" *-?[0-9]+(\.[0-9]+)? *", literal.value)
        ):
            return literal.value.strip()
        return f"CAST({self.written(node)} AS DECIMAL)"

    def texts_as_numbers(
        self,
        node: nodes.Expression,
        by_number: nodes.Expression,
        shown: str,
        hint: str,
        reach: Reach,
    ) -> Probe:
        otherwise = called("IS DISTINCT FROM", by_number, node)
        probed = all_of(*reach, is_test(by_number, "UNKNOWN", True), otherwise)
        return Probe("numbers compared as texts", probed, f"{shown} is otherwise by number", hint)

    def texts_as_days(self, node: nodes.BoundCall, name: str, reach: Reach) -> Iterator[Probe]:
        """Texts such as 01.02.2024, whose order is not that of their days."""
        left, right = node.arguments
        form = _day_form(right) or _day_form(left)
        if form is None:
            return
        target = Target(DATE, format=form)
        days = [
            nodes.BoundCast(DATE, *span(item), item, target, "CAST_OR_NULL")
            for item in (left, right)
        ]
        casts = [f"CAST({self.written(item)} AS DATE FORMAT '{form}')" for item in (left, right)]
        by_day = called(name, *days)
        yield Probe(
            "days compared as texts",
            all_of(
                *reach, is_test(by_day, "UNKNOWN", True), called("IS DISTINCT FROM", by_day, node)
            ),
            f"{self.written(left)} {name} {self.written(right)} is otherwise by day",
            f"{casts[0]} {name} {casts[1]}",
            right if _day_form(left) else left,
        )

    def call(self, node: nodes.BoundCall, reach: Reach, place: _Place) -> Iterator[Probe]:
        name, arguments = node.function.name, node.arguments
        if name in _COMPARISONS:
            yield from self.comparison(node, name, reach, place)
        elif name in ("LIKE", "LIKE_REGEX", "SIMILAR TO"):
            yield from self.unknown(node, self.written(node), arguments[:2], reach, place)
            if name == "LIKE":
                yield from self.like(node, reach, place)
        elif name == "NOT" and isinstance(arguments[0], nodes.InList) and not place.told:
            within = arguments[0]
            listed = any(is_null(item) for item in within.items)
            whole = () if place.whole is None else (is_test(place.whole, "UNKNOWN"),)
            probed = all_of(*reach, is_test(within, "UNKNOWN"), *whole)
            hint = (
                "leave NULL out of the list"
                if listed
                else f"decide those rows too: {self.written(within.operand)} IS NULL"
            )
            yield Probe(
                "NOT IN beside NULL",
                probed,
                f"{self.written(node)} is unknown because of a NULL, so it does not hold",
                hint,
            )
        elif name == "CONCAT":
            null = any_of(*(is_test(argument, "NULL") for argument in arguments))
            yield Probe(
                "NULL passed over",
                all_of(*reach, null),
                f"{self.written(node)} left out a NULL",
                "|| gives NULL there instead",
            )
        elif name in _PASSING and not place.told:
            yield from self.null_operand(node, reach)
        if name == "-" and len(arguments) == 2:
            yield from self.years(node, reach)
        if name in ("/", "TRUNC", "FLOOR"):
            yield from self.days_as_years(node, reach)
        if name == "REPLACE":
            yield from self.replace(node, reach)
        if name in ("LPAD", "RPAD", "LEFT"):
            yield from self.cut(node, reach)
        if name == "LIST_ITEM":
            yield from self.longer_list(node, reach)
        if name == "CAPITALIZE_WORDS" and len(arguments) == 1:
            detail = f"{self.written(node)} changes a small word or a Roman numeral (van, de, III)"
            hint = (
                "say which words are written otherwise:"
                f" CAPITALIZE_WORDS({self.written(arguments[0])}, 'of the van III')"
            )
            yield Probe(
                "small words",
                all_of(*reach, matches(arguments[0], _SMALL_WORDS)),
                detail,
                hint,
                arguments[0],
            )
        if name in (*_ARITHMETIC, "LEFT", "RIGHT", "SUBSTRING"):
            yield from self.no_position(node, reach)
        if name == "||":
            yield from self.initial(node, reach)

    def cut(self, node: nodes.BoundCall, reach: Reach) -> Iterator[Probe]:
        """LPAD and RPAD cut what is longer; LEFT does so by intent, but of a text that mostly fits
        it is a limit."""
        text, size = node.arguments[:2]
        longer = called(">", called("LENGTH", text, kind=INTEGER), size)
        written, many = self.written(text), self.written(size)
        hint = f"CASE WHEN LENGTH({written}) > {many} THEN {written} ELSE {self.written(node)} END"
        usual = all_of(*reach, is_test(longer, "FALSE")) if node.function.name == "LEFT" else None
        if node.function.name == "LEFT" and not (
            isinstance(bare(size), nodes.Constant) and isinstance(bare(text), nodes.Column)
        ):
            return
        yield Probe(
            "cut",
            all_of(*reach, is_test(longer, "TRUE")),
            f"{self.written(node)} cuts what is longer",
            hint,
            text,
            usual,
        )

    def longer_list(self, node: nodes.BoundCall, reach: Reach) -> Iterator[Probe]:
        """Items of a list that nothing takes."""
        (written, delimiter), number = _list_item(node, self.text)
        numbers = self.taken.get((written, delimiter), set())
        if number is None or number != max(numbers, default=None):
            return  # told once of a list, at the last item that is taken
        most = max(0, *numbers) + max(0, *(-item for item in numbers))
        size = called("LIST_SIZE", node.arguments[0], node.arguments[1], kind=INTEGER)
        longer = is_test(called(">", size, constant(most, INTEGER)), "TRUE")
        hint = (
            f"CASE WHEN LIST_SIZE({written}, {delimiter}) <= {most} THEN {self.written(node)} ELSE"
            " … END, or a step that splits"
        )
        detail = (
            f"the list in {written} has more than the {most} {'piece' if most == 1 else 'pieces'}"
            " taken of it"
        )
        yield Probe("longer list", all_of(*reach, longer), detail, hint, node.arguments[0])

    def null_operand(self, node: nodes.BoundCall, reach: Reach) -> Iterator[Probe]:
        """A chain of operators that is NULL because of an operand: which operand it is, and how
        many rows."""
        shown = self.written(node)
        causes: list[nodes.Expression] = []
        for operand in _operands(node):
            if isinstance(operand, nodes.BoundCall) and operand.function.name == "NULLIF":
                operand = operand.arguments[0]  # the NULL that NULLIF makes is meant
            column = _cause(operand)
            causes += [
                item for item in (column,) if not any(same_column(item, known) for known in causes)
            ]
            causes += [operand] if operand is not column else []
        columns = [cause for cause in causes if isinstance(cause, nodes.Column)]
        for operand in causes:
            if isinstance(bare(operand), nodes.Constant):
                continue
            # A column that is NULL is told itself, not the functions of it that are NULL for that.
            others = (
                ()
                if isinstance(operand, nodes.Column)
                else [is_test(item, "NULL", True) for item in columns]
            )
            name = self.written(operand)
            hint = f"decide those rows: CASE WHEN {name} IS NULL THEN …"
            if (
                node.function.name == "||"
                and isinstance(bare(operand), nodes.Column)
                and operand.type == TEXT
            ):
                hint = f"COALESCE({name}, ''), if that is what it means"
            yield Probe(
                "NULL operand",
                all_of(*reach, is_test(operand, "NULL"), is_test(node, "NULL"), *others),
                f"{shown} is NULL only because {name} is",
                hint,
            )

    def no_position(self, node: nodes.BoundCall, reach: Reach) -> Iterator[Probe]:
        """POSITION is 0 where there is nothing to find, and a number to LEFT, SUBSTRING and
        arithmetic all the same."""
        stack = [*node.arguments]
        while stack:
            item = stack.pop()
            if isinstance(item, nodes.BoundCall) and item.function.name in (
                "POSITION",
                "POSITION_OF",
                "POSITION_REGEX",
            ):
                none = called("=", item, constant(0, INTEGER))
                result = self.written(item)
                hint = f"CASE WHEN {result} > 0 THEN {self.written(node)} ELSE … END"
                yield Probe(
                    "nothing found",
                    all_of(*reach, is_test(none, "TRUE")),
                    f"{result} is 0, and is taken for a place",
                    hint,
                )
            elif (
                isinstance(item, nodes.BoundCall) and item.function.name in _ARITHMETIC
            ) or isinstance(item, nodes.BoundCast):
                stack.extend(item.children)

    def initial(self, node: nodes.BoundCall, reach: Reach) -> Iterator[Probe]:
        """UPPER of the first character before the rest, of values of several words."""
        first = node.arguments[0]
        if not (
            isinstance(first, nodes.BoundCall)
            and first.function.name == "UPPER"
            and isinstance(first.arguments[0], nodes.BoundCall)
        ):
            return
        cut = first.arguments[0]
        item = cut.arguments[1:] and cut.arguments[-1]
        if (
            cut.function.name in ("LEFT", "SUBSTRING")
            and isinstance(item, nodes.Constant)
            and item.value == 1
        ):
            text = cut.arguments[0]
            hint = f"CAPITALIZE_WORDS({self.written(text)}), if each word is to have one"
            yield Probe(
                "first word only",
                all_of(*reach, matches(text, r"\pL +\p{Ll}")),
                f"{self.written(node)} gives the first word alone a capital",
                hint,
                text,
            )

    def days_as_years(self, node: nodes.BoundCall, reach: Reach) -> Iterator[Probe]:
        """Days divided by 365 for years."""
        quotient = bare(node.arguments[0]) if node.function.name != "/" else node
        if not (
            isinstance(quotient, nodes.BoundCall)
            and quotient.function.name == "/"
            and len(quotient.arguments) == 2
        ):
            return
        days, year = map(bare, quotient.arguments)
        dated = (
            isinstance(days, nodes.BoundCall)
            and days.function.name != "/"
            and [argument.type.kind for argument in days.arguments] == [Kind.DATE, Kind.DATE]
        )
        if not (
            isinstance(days, nodes.BoundCall)
            and dated
            and isinstance(year, nodes.Constant)
            and str(year.value).startswith("365")
        ):
            return
        end, start = days.arguments
        whole = called("FULL_YEARS", start, end, kind=INTEGER)
        floored = called("FLOOR", quotient, kind=quotient.type)
        detail = f"{self.written(node)} is not the whole years that have passed"
        probed = all_of(*reach, is_test(called("<>", floored, whole), "TRUE"))
        yield Probe(
            "days taken for years",
            probed,
            detail,
            f"FULL_YEARS({self.written(start)}, {self.written(end)})",
        )

    def comparison(
        self, node: nodes.BoundCall, name: str, reach: Reach, place: _Place
    ) -> Iterator[Probe]:
        left, right = node.arguments
        shown = f"{self.written(left)} {name} {self.written(right)}"  # of CASE x WHEN v too
        if is_null(left) or is_null(right):
            other = self.written(right if is_null(left) else left)
            hint = f"{other} IS {'NOT ' if name == '<>' else ''}NULL"
            yield Probe(
                "compared with NULL",
                all_of(*reach, is_test(node, "UNKNOWN")),
                f"{shown} is unknown for every row",
                hint,
            )
            return
        yield from self.unknown(node, shown, (left, right), reach, place)
        if name == "=" and left.type == TEXT:
            alike = called("=", folded(left), folded(right))
            hint = (
                f"UPPER(TIDY_SPACES({self.written(left)})) ="
                f" UPPER(TIDY_SPACES({self.written(right)}))"
            )
            yield Probe(
                "case or spaces",
                all_of(*reach, is_test(node, "FALSE"), alike),
                f"{shown} {self.would(place)}",
                hint,
                left,
            )
        yield from self.later_that_day(node, name, reach, place)
        if name in _ORDERED and left.type == TEXT:
            yield from self.texts_as_days(node, name, reach)
        between = place.told and place.whole is not None and _between(place.whole) is not None
        if name in _ORDERED and left.type == TEXT and not between:
            hint = f"CAST({self.written(left)} AS DECIMAL) {name} {self.plain(right)}"
            if isinstance(bare(left), nodes.Constant):
                hint = f"{self.plain(left)} {name} CAST({self.written(right)} AS DECIMAL)"
            yield self.texts_as_numbers(
                node, called(name, self.number(left), self.number(right)), shown, hint, reach
            )

    def later_that_day(
        self, node: nodes.BoundCall, name: str, reach: Reach, place: _Place
    ) -> Iterator[Probe]:
        """A moment beside a day, which stands for its first moment."""
        moment, day = node.arguments
        if _day(moment) is not None:
            moment, day, name = day, moment, _MIRRORED.get(name, name)
        date = _day(day)
        if (
            date is None
            or moment.type.kind is not Kind.TIMESTAMP
            or name not in ("=", "<>", "<=", ">")
        ):
            return
        missed = name in ("=", "<=")
        same_day = nodes.BoundCast(DATE, *span(moment), moment, Target(DATE), "CAST_OR_NULL")
        verb = "leaves out" if missed is not place.negated else "takes in"
        yield Probe(
            "later that day",
            all_of(
                *reach, is_test(node, "FALSE" if missed else "TRUE"), called("=", same_day, date)
            ),
            f"{self.written(moment)} {name} {self.written(day)} {verb} what is later on that day",
            f"CAST({self.written(moment)} AS DATE) {name} {self.written(date)}",
            moment,
        )

    def like(self, node: nodes.BoundCall, reach: Reach, place: _Place) -> Iterator[Probe]:
        """A pattern that spaces and capitals keep from matching. One that asks for spaces at an
        end, or for one letter anywhere, means what it says."""
        operand, pattern, *escape = node.arguments
        if escape or not isinstance(pattern, nodes.Constant) or pattern.value is None:
            return
        text = pattern.value
        letters = text.strip("%_")
        if text != " ".join(text.split()):
            return
        if not letters or (len(letters) == 1 and text[0] == text[-1] == "%"):
            return
        shown = f"{self.written(operand)} {'NOT ' if place.negated else ''}LIKE"
        hint = f"UPPER(TIDY_SPACES({self.written(operand)}))"
        hint += f" {'NOT ' if place.negated else ''}LIKE {text_literal(text.upper())}"
        alike = called("LIKE", folded(operand), constant(text.upper()))
        yield Probe(
            "case or spaces",
            all_of(*reach, is_test(node, "FALSE"), alike),
            f"{shown} {self.written(pattern)} {self.would(place)}",
            hint,
            operand,
        )

    def would(self, place: _Place) -> str:
        return (
            "holds because of case or spaces"
            if place.negated
            else "would hold if case and spaces were ignored"
        )

    def in_list(self, node: nodes.InList, reach: Reach, place: _Place) -> Iterator[Probe]:
        if not place.negated and not any(is_null(item) for item in node.items):
            yield from self.unknown(node, self.written(node), (node.operand,), reach, place)
        if node.operand.type != TEXT or not all(
            isinstance(item, nodes.Constant) for item in node.items
        ):
            return
        texts = [
            item.value
            for item in node.items
            if isinstance(item, nodes.Constant) and item.value is not None
        ]
        in_capitals = nodes.InList(
            BOOLEAN,
            *span(node),
            folded(node.operand),
            tuple(constant(" ".join(text.split()).upper()) for text in texts),
        )
        shown = f"{self.written(node.operand)} NOT IN (…)" if place.negated else self.written(node)
        hint = (
            f"UPPER(TIDY_SPACES({self.written(node.operand)})) {'NOT ' if place.negated else ''}IN"
            " (…) with the items in capitals"
        )
        if texts:
            yield Probe(
                "case or spaces",
                all_of(*reach, is_test(node, "TRUE", True), is_test(in_capitals, "TRUE")),
                f"{shown} {self.would(place)}",
                hint,
            )

    def case(self, node: nodes.BoundCase, reach: Reach, place: _Place) -> Iterator[Probe]:
        conditions = [condition for condition, _ in node.branches]
        yield from self.zero_ratio(node, reach)
        yield from self.null_branch(node, reach)
        left = (*reach, *(is_test(item, "TRUE", True) for item in conditions))
        yield from self.overlaps(conditions, reach)
        between = list(self.gaps(node, left))
        yield from between
        if not node.has_else and not place.told:
            apart = [is_test(probe.condition, "TRUE", True) for probe in between]
            yield Probe(
                "CASE without ELSE",
                all_of(*left, *apart),
                f"fell through {self.written(node)} and are NULL",
                "write the ELSE that is meant",
            )
        if place.told and not node.has_else:
            return  # what falls through is NULL, and that is decided around it
        unknown = any_of(*(is_test(item, "UNKNOWN") for item in conditions))
        way = "ELSE" if node.has_else else "the end"
        detail = f"reached {way} of {self.written(node)} only because a condition was unknown"
        # A column that the ELSE leaves as it is, and that is NULL itself, has lost nothing.
        kept = (
            (is_test(node.otherwise, "NULL", True),)
            if node.has_else and isinstance(node.otherwise, nodes.Column)
            else ()
        )
        yield Probe(
            "ELSE because unknown",
            all_of(*left, unknown, *kept),
            detail,
            "begin with a branch for NULL: WHEN … IS NULL THEN …",
        )

    def overlaps(self, conditions: list[nodes.Expression], reach: Reach) -> Iterator[Probe]:
        """Bands of a CASE that have values in common."""
        result = bands(conditions)
        named = dict(result)
        for first, second in overlapping(result):
            item, other = conditions[first], conditions[second]
            before = [is_test(condition, "TRUE", True) for condition in conditions[:first]]
            detail = (
                f"{self.written(item)} and {self.written(other)} both hold, and the first takes"
                " them"
            )
            high, low = named[first].high, named[second].low
            hint = "let one begin where the other ends"
            if high is not None and low is not None:
                hint += (
                    f": {self.written(named[first].operand)} {'>' if high.included else '>='}"
                    f" {self.written(high.node)}"
                )
            yield Probe(
                "bands overlap",
                all_of(*reach, *before, is_test(item, "TRUE"), is_test(other, "TRUE")),
                detail,
                hint,
                named[first].operand,
            )

    def gaps(self, node: nodes.BoundCase, left: Reach) -> Iterator[Probe]:
        """Values between the bands of a CASE that no branch takes: any where it has no ELSE, else
        what is narrow."""
        results = [band for _, band in bands([condition for condition, _ in node.branches])]
        for low, high in gaps(results, node.has_else) if results else ():
            operand = results[0].operand
            inside = [is_test(condition, "TRUE") for condition in in_gap(operand, low, high)]
            written = self.written(operand)
            way = "reach ELSE" if node.has_else else "are NULL"
            detail = (
                f"{written} lies between the bands that end at {self.written(low.node)} and begin"
                f" at {self.written(high.node)}: they {way}"
            )
            hint = (
                f"let the band begin where the other ends: {written}"
                f" {'>' if low.included else '>='} {self.written(low.node)}"
            )
            yield Probe("bands leave a gap", all_of(*left, *inside), detail, hint, operand)

    def zero_ratio(self, node: nodes.BoundCase, reach: Reach) -> Iterator[Probe]:
        """0 in place of a ratio that is not defined."""
        for condition, result in node.branches:
            supplied = bare(result)
            zero = isinstance(supplied, nodes.Constant) and supplied.value == 0
            if not (
                zero
                and isinstance(condition, nodes.BoundCall)
                and condition.function.name == "="
                and len(condition.arguments) == 2
            ):
                continue
            divisor, against = map(bare, condition.arguments)
            by = [
                item
                for item in calls_in(node.otherwise)
                if item.function.name == "/" and same_column(bare(item.arguments[1]), divisor)
            ]
            if by and isinstance(against, nodes.Constant) and against.value == 0:
                detail = f"have 0 where {self.written(by[0])} is not defined, which a mean counts"
                hint = (
                    f"{self.written(by[0].arguments[0])} / NULLIF({self.written(divisor)}, 0) is"
                    " NULL there"
                )
                yield Probe(
                    "zero for no ratio", all_of(*reach, is_test(condition, "TRUE")), detail, hint
                )

    def null_branch(self, node: nodes.BoundCase, reach: Reach) -> Iterator[Probe]:
        """CASE WHEN x IS NULL THEN value ELSE x END puts a value that other rows have."""
        condition, result = node.branches[0]
        value, other = bare(result), bare(node.otherwise)
        if not (
            isinstance(condition, nodes.IsTest)
            and condition.test == "NULL"
            and not condition.negated
            and isinstance(value, nodes.Constant)
        ):
            return
        if value.value is not None and same_column(condition.operand, other):
            detail = (
                f"have {self.written(result)} already, which {self.written(node)} puts for what is"
                " missing"
            )
            probed = all_of(*reach, is_test(called("=", node.otherwise, result), "TRUE"))
            yield Probe("substitute occurs", probed, detail, "take a substitute that no row has")

    def first_of(self, node: nodes.Coalesce, reach: Reach) -> Iterator[Probe]:
        last = node.arguments[-1]
        if (
            isinstance(last, nodes.Constant)
            and last.value is not None
            and len(node.arguments) > 1
            and node.type != BOOLEAN
        ):
            first = node.arguments[0]
            detail = (
                f"have {self.written(last)} already, which {self.written(node)} puts for what is"
                " missing"
            )
            yield Probe(
                "substitute occurs",
                all_of(*reach, is_test(called("=", first, last), "TRUE")),
                detail,
                "take a substitute that no row has",
            )

    def cast(self, node: nodes.BoundCast, reach: Reach, place: _Place) -> Iterator[Probe]:
        if node.mode == "FITS":
            yield from self.unknown(node, self.written(node), (node.operand,), reach, place)
        if node.mode == "FITS" or node.implicit:
            return
        source, to, operand = node.operand.type.kind, node.type.kind, node.operand
        lost: nodes.Expression | None = None
        if source is Kind.TEXT and to in (Kind.INTEGER, Kind.DECIMAL) and not place.compared:
            zeros = r"^ *[+-]?0[0-9]|^ *\+"
            lost = matches(
                operand,
                zeros
                + (rf"|\.[0-9]{{{node.type.scale}}}[0-9]*[1-9]" if to is Kind.DECIMAL else ""),
            )
        elif source is Kind.DECIMAL and (
            to is Kind.INTEGER or (to is Kind.DECIMAL and node.type.scale < operand.type.scale)
        ):
            lost = called(
                "<>",
                operand,
                nodes.BoundCast(
                    operand.type, *span(node), node, Target(operand.type), implicit=True
                ),
            )
        if lost is not None:
            probed = all_of(*reach, is_test(node, "NULL", True), lost)
            if source is Kind.TEXT:
                detail, hint = (
                    "leading zeros, a plus sign or decimals",
                    f"is it a code? then {self.written(operand)} stays a text",
                )
            else:
                detail, hint = (
                    "decimals",
                    f"say so: ROUND({self.written(operand)}, {node.type.scale}) within the cast",
                )
            yield Probe(
                "cast that loses", probed, f"lose something in {self.written(node)}: {detail}", hint
            )

    def years(self, node: nodes.BoundCall, reach: Reach) -> Iterator[Probe]:
        parts = [
            argument
            for argument in node.arguments
            if isinstance(argument, nodes.BoundCall) and argument.function.name == "EXTRACT"
        ]
        if len(parts) != 2 or any(
            getattr(part.arguments[0], "value", "") != "YEAR" for part in parts
        ):
            return
        end, start = (part.arguments[1] for part in parts)
        if {start.type.kind, end.type.kind} <= {Kind.DATE, Kind.TIMESTAMP, Kind.ZONED}:
            whole = called("FULL_YEARS", start, end, kind=INTEGER)
            hint = f"FULL_YEARS({self.written(start)}, {self.written(end)})"
            detail = f"{self.written(node)} is not the whole years that have passed"
            yield Probe(
                "years subtracted",
                all_of(*reach, is_test(called("<>", node, whole), "TRUE")),
                detail,
                hint,
            )

    def replace(self, node: nodes.BoundCall, reach: Reach) -> Iterator[Probe]:
        text, old = node.arguments[:2]
        if not (
            isinstance(old, nodes.Constant)
            and isinstance(old.value, str)
            and re.fullmatch(r"\w+", old.value)
        ):
            return
        word = re.escape(old.value)
        detail = f"{self.written(node)} changes a part of a longer word"
        hint = (
            f"TRANSLATE_REGEX('\\b{word}\\b' IN {self.written(text)} WITH"
            f" {self.written(node.arguments[2])})"
        )
        yield Probe(
            "inside words",
            all_of(*reach, matches(text, f"{_WORDY}{word}|{word}{_WORDY}")),
            detail,
            hint,
            text,
        )

    def guards(self, node: nodes.BoundCase | nodes.BooleanOp, reach: Reach) -> Iterator[Probe]:
        """The good news: rows that did not reach a part which would have failed for them."""
        for child, way in ways(node, ()):
            if way and child.fails:
                kept = nodes.BoundCall(
                    BOOLEAN, *span(child), catalogue()["NOT"], (is_test(all_of(*way), "TRUE"),)
                )
                probed = all_of(*reach, kept, nodes.RaisesError(BOOLEAN, *span(child), child))
                yield Probe(
                    "kept from an error",
                    probed,
                    f"would have failed in {self.written(child)}, but do not reach it",
                )
