"""Cautions of conditions: comparisons, lists, patterns, and what joins them."""

from __future__ import annotations

import re
from collections.abc import Iterator

from gravel.language import nodes
from gravel.language.cautions.probe import Position, Probe, Writer, between
from gravel.language.conditions import (
    Reach,
    all_of,
    any_of,
    bare,
    called,
    constant,
    folded,
    is_null,
    is_test,
    span,
)
from gravel.language.types import BOOLEAN, DATE, TEXT, Kind, Target, decimal
from gravel.language.writing import text_literal

_ORDERED = ("<", "<=", ">", ">=")
_MIRRORED = {"<": ">", ">": "<", "<=": ">=", ">=": "<="}


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


class Comparisons(Writer):
    """Finds the cautions of conditions."""

    def unknown(
        self,
        node: nodes.Expression,
        shown: str,
        operands: tuple[nodes.Expression, ...],
        reach: Reach,
        place: Position,
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
        self, node: nodes.BooleanOp, operand: nodes.Expression, reach: Reach, place: Position
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

    def later_that_day(
        self, node: nodes.BoundCall, name: str, reach: Reach, place: Position
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

    def later_on_those_days(
        self, node: nodes.InList, reach: Reach, place: Position
    ) -> Iterator[Probe]:
        """A moment that is looked for among days, which stand for their first moments."""
        days = tuple(day for item in node.items if (day := _day(item)) is not None)
        if not days or node.operand.type.kind is not Kind.TIMESTAMP:
            return
        operand = node.operand
        same_day = nodes.BoundCast(DATE, *span(operand), operand, Target(DATE), "CAST_OR_NULL")
        among = nodes.InList(BOOLEAN, *span(node), same_day, days)
        negation = "NOT " if place.negated else ""
        verb = "takes in" if place.negated else "leaves out"
        yield Probe(
            "later that day",
            all_of(*reach, is_test(node, "FALSE"), is_test(among, "TRUE")),
            f"{self.written(operand)} {negation}IN (…) {verb} what is later on those days",
            f"CAST({self.written(operand)} AS DATE) {negation}IN (…)",
            operand,
        )

    def like(self, node: nodes.BoundCall, reach: Reach, place: Position) -> Iterator[Probe]:
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

    def would(self, place: Position) -> str:
        return (
            "holds because of case or spaces"
            if place.negated
            else "would hold if case and spaces were ignored"
        )

    def comparison(
        self, node: nodes.BoundCall, name: str, reach: Reach, place: Position
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
        in_range = place.told and place.whole is not None and between(place.whole) is not None
        if name in _ORDERED and left.type == TEXT and not in_range:
            hint = f"CAST({self.written(left)} AS DECIMAL) {name} {self.plain(right)}"
            if isinstance(bare(left), nodes.Constant):
                hint = f"{self.plain(left)} {name} CAST({self.written(right)} AS DECIMAL)"
            yield self.texts_as_numbers(
                node, called(name, self.number(left), self.number(right)), shown, hint, reach
            )

    def in_list(self, node: nodes.InList, reach: Reach, place: Position) -> Iterator[Probe]:
        if not place.negated and not any(is_null(item) for item in node.items):
            yield from self.unknown(node, self.written(node), (node.operand,), reach, place)
        yield from self.later_on_those_days(node, reach, place)
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
