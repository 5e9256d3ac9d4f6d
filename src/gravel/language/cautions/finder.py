"""Finds the cautions of an expression and of all below it."""

from __future__ import annotations

import re
from collections.abc import Iterator

from gravel.language import nodes
from gravel.language.cautions.cases import Cases
from gravel.language.cautions.comparisons import Comparisons
from gravel.language.cautions.probe import Position, Probe, Writer, between
from gravel.language.conditions import (
    Reach,
    all_of,
    any_of,
    bare,
    called,
    calls_in,
    constant,
    is_null,
    is_test,
    matches,
    same_column,
    span,
    ways,
)
from gravel.language.ranges import strict_bound
from gravel.language.types import BOOLEAN, INTEGER, TEXT, Kind, Target

_COMPARISONS = ("=", "<>", "<", "<=", ">", ">=")
_ARITHMETIC = ("+", "-", "*", "/", "MOD")
# Functions that are NULL where an operand is, which an analyst reads as a value all the same; those
# of dates have entries of their own.
_PASSING = ("||", *_ARITHMETIC, "+ of dates", "- of dates", "GREATEST", "LEAST")
_SMALL_WORDS = (
    r"(^| )(van|von|der|den|de|del|della|di|da|du|la|le|af|av|zu|of|the|and|og|och|und|y)("
    r" |$)|\b(II|III|IV|VI|VII|VIII|IX|XI|XII)\b"
)
_WORDY = r"[\pL\pN]"
ListItems = dict[
    tuple[str, str], set[int]
]  # of a text and a delimiter, as written: which items are taken


def _cause(node: nodes.Expression) -> nodes.Expression:
    """The column that a chain of functions and casts is of, if their first arguments lead to
    one."""
    inner = node
    while isinstance(inner, (nodes.BoundCall, nodes.BoundCast)) and inner.children:
        inner = inner.children[0]
    return inner if isinstance(inner, nodes.Column) else node


def list_items(node: nodes.Expression, text: str) -> Iterator[tuple[tuple[str, str], int]]:
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


def _operands(node: nodes.BoundCall) -> Iterator[nodes.Expression]:
    """The operands of a chain of operators."""
    for argument in node.arguments:
        plain = bare(argument)
        if isinstance(plain, nodes.BoundCall) and plain.function.name in _PASSING:
            yield from _operands(plain)
        else:
            yield argument


class Finder(Writer):
    """Finds the cautions of expressions; `taken`: which items of which lists they take."""

    def __init__(self, text: str, taken: ListItems) -> None:
        super().__init__(text)
        self.taken = taken
        self.comparisons, self.cases = Comparisons(text), Cases(text)

    def find(self, node: nodes.Expression, reach: Reach, place: Position) -> Iterator[Probe]:
        """The probes of a node and all below it."""
        if isinstance(node, nodes.BoundCall):
            yield from self.call(node, reach, place)
        elif isinstance(node, nodes.InList):
            yield from self.comparisons.in_list(node, reach, place)
        elif isinstance(node, nodes.BoundCase):
            yield from self.cases.case(node, reach, place)
        elif isinstance(node, nodes.Coalesce):
            yield from self.cases.first_of(node, reach)
        elif isinstance(node, nodes.BoundCast):
            yield from self.cast(node, reach, place)
        if isinstance(node, (nodes.BoundCase, nodes.BooleanOp)):
            yield from self.cases.guards(node, reach)
        if isinstance(node, nodes.BooleanOp) and not node.conjunction:
            yield from self.comparisons.precedence(node, reach)
        if (ranged := between(node)) is not None and isinstance(node, nodes.BooleanOp):
            yield from self.comparisons.range(node, ranged, reach, place)
        for child, way in ways(node, reach):
            yield from self.find(child, way, self.place_of(child, node, place))

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

    def place_of(
        self, child: nodes.Expression, node: nodes.Expression, place: Position
    ) -> Position:
        """Where an operand of a node stands."""
        if isinstance(node, nodes.BooleanOp):
            return Position(place.told or between(node) is not None, place.whole or node)
        if isinstance(node, nodes.BoundCall) and node.function.name == "NOT":
            return Position(place.told, place.whole, not place.negated)
        if isinstance(
            node, nodes.IsTest
        ):  # IS [NOT] TRUE, IS NULL and so on decide what is unknown
            return Position(node.test != "NULL" or child.type == BOOLEAN, compared=True)
        if isinstance(node, nodes.Coalesce):  # so do the substitutes of COALESCE
            return Position(child is not node.arguments[-1] or place.told)
        if isinstance(node, nodes.BoundCase):
            return Position(any(child is condition for condition, _ in node.branches))
        passes_null = isinstance(node, nodes.BoundCall) and node.function.name in _PASSING
        compares = isinstance(node, nodes.InList) or (
            isinstance(node, nodes.BoundCall) and node.function.name in _COMPARISONS
        )
        return Position(passes_null, compared=compares or (passes_null and place.compared))

    def call(self, node: nodes.BoundCall, reach: Reach, place: Position) -> Iterator[Probe]:
        name, arguments = node.function.name, node.arguments
        if name in _COMPARISONS:
            yield from self.comparisons.comparison(node, name, reach, place)
        elif name in ("LIKE", "LIKE_REGEX", "SIMILAR TO"):
            yield from self.comparisons.unknown(
                node, self.written(node), arguments[:2], reach, place
            )
            if name == "LIKE":
                yield from self.comparisons.like(node, reach, place)
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
                all_of(
                    *reach,
                    called("<>", node, arguments[0]),  # all that the pattern fits, and found sooner
                    matches(arguments[0], _SMALL_WORDS),
                ),
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

    def cast(self, node: nodes.BoundCast, reach: Reach, place: Position) -> Iterator[Probe]:
        if node.mode == "FITS":
            yield from self.comparisons.unknown(
                node, self.written(node), (node.operand,), reach, place
            )
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
        # 24ft is a number and its unit, no longer word.
        beside = r"\pL" if old.value.isalpha() else _WORDY
        detail = f"{self.written(node)} changes a part of a longer word"
        hint = (
            f"TRANSLATE_REGEX('\\b{word}\\b' IN {self.written(text)} WITH"
            f" {self.written(node.arguments[2])})"
        )
        yield Probe(
            "inside words",
            all_of(*reach, matches(text, f"{beside}{word}|{word}{beside}")),
            detail,
            hint,
            text,
        )
