"""Types made alike: what an expression is widened to, and the mistakes and casts that are told."""

from __future__ import annotations

import re

from msgspec import Struct

from gravel.language import nodes, tree
from gravel.language.diagnostics import Diagnostic
from gravel.language.functions.catalogue import FunctionParameter
from gravel.language.literals import literal
from gravel.language.sql_text import SqlText
from gravel.language.type_names import target
from gravel.language.types import (
    BOOLEAN,
    DATE,
    DECIMAL,
    DOUBLE,
    INTEGER,
    NUMBERS,
    TEXT,
    TIMESTAMP,
    Kind,
    Target,
    Type,
    common,
)

NAMED_TYPES = {
    "TEXT": TEXT,
    "INTEGER": INTEGER,
    "BOOLEAN": BOOLEAN,
    "DATE": DATE,
    "DOUBLE": DOUBLE,
    "TIMESTAMP": TIMESTAMP,
}


_DAY = re.compile(r"\d{4}-\d\d?-\d\d?")  # as it is written without quotes


class Coercion(Struct, frozen=True):
    """Widens the expressions of a text."""

    sql: SqlText

    def beside(self, value: nodes.Expression, kind: Type) -> nodes.Expression:
        """A parameter without quotes as what it is beside: the text that it is written as, or the
        day or time that it says."""
        if not isinstance(value, nodes.Constant) or value.raw is None or value.type == kind:
            return value
        if kind == TEXT:
            return nodes.Constant(TEXT, value.start, value.end, value.raw)
        form = {Kind.DATE: "date", Kind.TIMESTAMP: "timestamp", Kind.TIME: "time"}.get(kind.kind)
        if value.type == TEXT and form is not None:
            try:
                type_, moment = literal(form, value.raw, "")
            except ValueError:
                return value  # told with the types
            return nodes.Constant(type_, value.start, value.end, moment)
        return value

    def fitted(
        self,
        argument: nodes.Expression,
        node: tree.Node,
        parameter: FunctionParameter,
        function: str,
    ) -> nodes.Expression:
        """The argument as the parameter wants it, or a diagnostic with the CAST to write."""
        wanted = parameter.kind
        if wanted in NAMED_TYPES:
            argument = self.beside(argument, NAMED_TYPES[wanted])
        kind = argument.type
        if wanted == "ANY":
            return widen(argument, TEXT) if kind.kind is Kind.NULL else argument
        if wanted == "ARRAY":
            if kind.kind is Kind.ARRAY:
                return argument
            if kind.kind is Kind.NULL:
                return widen(argument, Type(Kind.ARRAY, item=TEXT))
            raise self.sql.wrong(
                f"{function} takes an array, {self.sql.written(node)[:40]} is {kind}",
                node,
                hint="LIST_ITEMS(x, ';') makes one, or CAST(x AS TEXT ARRAY) of JSON text",
            )
        if wanted == "AS TEXT":
            return (
                argument
                if kind == TEXT
                else nodes.BoundCast(
                    TEXT, argument.start, argument.end, argument, Target(TEXT), implicit=True
                )
            )
        if wanted == "NUMBER":
            if kind.kind in NUMBERS:
                return argument
            if kind.kind is Kind.NULL:
                return widen(argument, INTEGER)
            to = "DECIMAL"
        else:
            named = NAMED_TYPES[wanted]
            if kind == named or kind.kind is Kind.NULL or common(kind, named) == named:
                return widen(argument, named)
            to = wanted
        hint = (
            f"write CAST({self.sql.written(node)[:60]} AS {to})"
            if kind.kind in (Kind.TEXT, *NUMBERS) or to == "TEXT"
            else ""
        )
        wish = "a number" if wanted == "NUMBER" else wanted
        problem = self.sql.wrong(
            f"{function} takes {wish}, {self.sql.written(node)[:40]} is {kind}", node, hint=hint
        )
        if kind == TEXT and hint:
            problem.fix = (
                argument,
                target(("DECIMAL",), ()) if to == "DECIMAL" else Target(NAMED_TYPES[to]),
            )
        raise problem

    def alike(
        self, bound: list[nodes.Expression], parts: list[tree.Node], where: str
    ) -> list[nodes.Expression]:
        """All widened to their common type, or a diagnostic at the first that has none with those
        before it."""
        known = {item.type for item in bound if getattr(item, "raw", None) is None}
        if len(known) == 1:
            bound = [self.beside(item, next(iter(known))) for item in bound]
        kind = bound[0].type
        for other, part in zip(bound[1:], parts[1:], strict=True):
            both = common(kind, other.type)
            if both is None:
                raise self.unlike(kind, (bound[0], other), (parts[0], part), where)
            kind = both
        for item, part in zip(bound, parts, strict=True):
            if item.type == INTEGER and _DAY.fullmatch(day := self.sql.written(part)):
                raise self.sql.wrong(
                    f"{day} without quotes is a subtraction", part, hint=f"write DATE '{day}'"
                )
        if kind.kind is Kind.NULL:
            kind = TEXT
        return [widen(item, kind) for item in bound]

    def unlike(
        self,
        kind: Type,
        bound: tuple[nodes.Expression, nodes.Expression],
        parts: tuple[tree.Node, tree.Node],
        where: str,
    ) -> Diagnostic:
        """The mistake of a type that has none in common with that of those before it; of these the
        first."""
        (leading, other), (first, part) = bound, parts
        text, value, wanted = (
            (part, first, kind) if other.type == TEXT else (first, part, other.type)
        )
        hint = ""
        if TEXT in (kind, other.type):
            hint = self._text_beside(text, value, wanted, where)
            wanted = type_beside(wanted, isinstance(value, tree.Literal))
        for node, beside, of in ((part, first, leading.type), (first, part, other.type)):
            day = self.sql.written(node)
            if _DAY.fullmatch(day):
                written = self.sql.written(beside)[:60]
                hint = f"write DATE '{day}'" + (
                    f" beside CAST({written} AS DATE)" if of == TEXT else ""
                )
                hint += f": {day} is a subtraction"
                wanted = DATE
        problem = self.sql.wrong(f"{where} cannot mix {kind} and {other.type}", part, hint=hint)
        if hint and kind == TEXT:
            problem.fix = (leading, Target(wanted))
        elif hint:
            problem.fix = (other, Target(wanted))
        return problem

    def _text_beside(self, text: tree.Node, value: tree.Node, wanted: Type, where: str) -> str:
        """What to write where a text stands beside a value of another type."""
        written, beside = self.sql.written(text)[:60], self.sql.written(value)[:60]
        of_literal = isinstance(value, tree.Literal)
        as_text = f"'{beside}'" if of_literal else f"CAST({beside} AS TEXT)"
        if not isinstance(text, tree.Literal):
            kind = name_of_type(type_beside(wanted, of_literal))
            return f"write CAST({written} AS {kind}), or {as_text} beside a text"
        if wanted.kind in (Kind.DATE, Kind.TIMESTAMP) and text.text.strip():
            return f"write {wanted.kind.value} {written}"
        if wanted.kind in NUMBERS and re.fullmatch(r"\s*-?\d+(\.\d+)?\s*", text.text):
            return f"write {text.text.strip()} without quotes, or {as_text} beside a text"
        instead = {"=": " IS NULL", "<>": " IS NOT NULL", "NULLIF": ""}.get(where)
        if instead is not None and not text.text.strip():
            return f"write {beside}{instead}: {wanted.kind.value} values are never empty texts"
        return f"write {as_text} beside a text"


def type_beside(kind: Type, is_literal: bool) -> Type:
    """What a text is best cast to beside a value of a type: a decimal of any digits beside one of
    some, and beside a whole number that is a literal."""
    return DECIMAL if kind.kind is Kind.DECIMAL or (kind == INTEGER and is_literal) else kind


def name_of_type(kind: Type) -> str:
    """A type as one writes it, without what it is by itself."""
    return "DECIMAL" if kind == DECIMAL else str(kind)


def widen(bound: nodes.Expression, to: Type) -> nodes.Expression:
    """An expression as one of a wider type."""
    if bound.type == to:
        return bound
    if isinstance(bound, nodes.Constant) and bound.value is None:
        return nodes.Constant(to, bound.start, bound.end, None)
    return nodes.BoundCast(to, bound.start, bound.end, bound, Target(to), implicit=True)
