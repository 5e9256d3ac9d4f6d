"""Cautions of CASE and COALESCE: branches, bands, guards and substitutes."""

from __future__ import annotations

from collections.abc import Iterator

from gravel.language import nodes
from gravel.language.cautions.probe import Position, Probe, Writer
from gravel.language.conditions import (
    Reach,
    all_of,
    any_of,
    bare,
    called,
    calls_in,
    is_test,
    same_column,
    span,
    ways,
)
from gravel.language.functions.catalogue import catalogue
from gravel.language.ranges import bands, gaps, in_gap, overlapping
from gravel.language.types import BOOLEAN


class Cases(Writer):
    """Finds the cautions of CASE and COALESCE."""

    def case(self, node: nodes.BoundCase, reach: Reach, place: Position) -> Iterator[Probe]:
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
