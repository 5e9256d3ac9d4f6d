"""From syntax to typed expressions: names found, types checked, mistakes told with their place and
a way out."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from msgspec.structs import replace

from gravel.language import building, nodes, parse, tree
from gravel.language.coercion import NAMED_TYPES, Coercion, name_of_type, type_beside, widen
from gravel.language.diagnostics import Diagnostic
from gravel.language.functions.casts import possible
from gravel.language.functions.catalogue import (
    Function,
    FunctionParameter,
    FunctionSignature,
    NotADate,
    catalogue,
    find,
)
from gravel.language.functions.formats import complete, template
from gravel.language.literals import literal
from gravel.language.other_names import FUNCTIONS
from gravel.language.rewriting import compared, overlaps, rows_compared
from gravel.language.scope import Scope, find_column
from gravel.language.sql_text import SqlText
from gravel.language.type_names import target, type_hint
from gravel.language.types import (
    BOOLEAN,
    DATE,
    INTEGER,
    INTERVAL,
    TEXT,
    TIMESTAMP,
    ZONED,
    Kind,
    Target,
    Type,
    common,
)
from gravel.problems import nearest


def unknown_function(call: tree.Call, text: str) -> Diagnostic:
    """A call of a function that there is not, with what is written instead."""
    near = nearest(call.name, list(catalogue()), 0.7)
    hint = f"did you mean {near}?" if near else "gravel functions lists them all"
    hint = FUNCTIONS.get(call.name.upper(), hint)
    return Diagnostic(
        f"there is no function {call.name}", text, call.start, call.name_end, hint=hint
    )


def refuse_unknown_functions(node: object, text: str) -> None:
    """Raise Diagnostic at the first call of a function that there is not: DATEDIFF(day, …) is told
    at DATEDIFF, not at day."""
    calls = [item for item in parse.walk(node) if isinstance(item, tree.Call)]
    for call in sorted(calls, key=lambda call: call.start):
        if not call.operator and find(call.name) is None:
            raise unknown_function(call, text)


def bind(node: tree.Node, scope: Scope, text: str) -> nodes.Expression:
    """The typed expression of a syntax tree. Raises Diagnostic."""
    return _Binder(scope, text).bind(node)


def bind_text(text: str, scope: Scope) -> nodes.Expression:
    """Parse and bind one expression. Raises Diagnostic."""
    return bind(parse.expression(text), scope, text)


def bind_condition(text: str, scope: Scope) -> nodes.Expression:
    """Parse and bind a condition: an expression of type BOOLEAN. Raises Diagnostic."""
    node = parse.expression(text)
    bound = bind(node, scope, text)
    if bound.type.kind not in (Kind.BOOLEAN, Kind.NULL):
        raise Diagnostic(
            f"a condition is needed here, this is {bound.type}",
            text,
            node.start,
            node.end,
            hint="compare it: … = …, … IS NOT NULL",
        )
    return widen(bound, BOOLEAN)


class _Binder:
    def __init__(self, scope: Scope, text: str) -> None:
        self.scope, self.sql = scope, SqlText(text)
        self.coercion = Coercion(self.sql)

    def bind(self, node: tree.Node) -> nodes.Expression:
        if self.scope.stands is not None and (index := self.scope.stands(node)) is not None:
            return nodes.Column(
                self.scope.types[index],
                node.start,
                node.end,
                index,
                self.sql.written(node),
                index in self.scope.failing,
            )
        result: nodes.Expression = _RULES[type(node)](self, node)
        return result

    # -- leaves
    def name(self, node: tree.Name) -> nodes.Expression:
        if self.scope.resolve is not None:
            index = self.scope.resolve(node, self.sql.text)
        elif node.table:
            raise self.sql.wrong(
                f"{node.table}.{node.text}: there is one table here, write {node.text} alone", node
            )
        else:
            index = find_column(node, self.scope.names, self.sql.text)
        name = self.scope.names[index]
        failing = index in self.scope.failing or name in self.scope.declared
        return nodes.Column(self.scope.types[index], node.start, node.end, index, name, failing)

    def literal(self, node: tree.Literal) -> nodes.Expression:
        try:
            kind, value = literal(node.kind, node.text, node.unit)
        except ValueError as error:
            raise self.sql.wrong(str(error), node, hint=_MOMENT_HINTS.get(node.kind, "")) from None
        return nodes.Constant(kind, node.start, node.end, value)

    def parameter(self, node: tree.Parameter) -> nodes.Expression:
        supplied = self.scope.given.parameters.get(node.name)
        if supplied is None:
            near = nearest(node.name, list(self.scope.given.parameters))
            hint = f"did you mean :{near}?" if near else f"give it: --param {node.name}=…"
            raise self.sql.wrong(f"there is no parameter :{node.name}", node, hint=hint)
        return replace(supplied, start=node.start, end=node.end)

    # -- conditions
    def condition(self, node: tree.Node) -> nodes.Expression:
        bound = self.bind(node)
        if bound.type.kind not in (Kind.BOOLEAN, Kind.NULL):
            raise self.sql.wrong(
                f"a condition is needed here, {self.sql.written(node)[:40]} is {bound.type}",
                node,
                hint="compare it: … = …, … IS NOT NULL",
            )
        return widen(bound, BOOLEAN)

    def logic(self, node: tree.Logic) -> nodes.Expression:
        operands = tuple(self.condition(operand) for operand in node.operands)
        return nodes.BooleanOp(BOOLEAN, node.start, node.end, node.operator == "AND", operands)

    def negation(self, node: tree.Not) -> nodes.Expression:
        return nodes.BoundCall(
            BOOLEAN, node.start, node.end, catalogue()["NOT"], (self.condition(node.operand),)
        )

    def is_test(self, node: tree.Is) -> nodes.Expression:
        if isinstance(node.operand, tree.Row) and node.test == "NULL":
            # A row is NULL where all its values are, and NOT NULL where none is: the two are no
            # opposites.
            every = tuple(
                self.is_test(tree.Is(node.start, node.end, item, "NULL", node.negated))
                for item in node.operand.items
            )
            return nodes.BooleanOp(BOOLEAN, node.start, node.end, True, every)
        operand = self.bind(node.operand) if node.test == "NULL" else self.condition(node.operand)
        return nodes.IsTest(BOOLEAN, node.start, node.end, operand, node.test, node.negated)

    def in_list(self, node: tree.In) -> nodes.Expression:
        if isinstance(node.operand, tree.Row):
            # (a, b) IN ((1, 2), …) is (a, b) = (1, 2) OR …
            equal = tuple(self.bind(compared("=", node.operand, item)) for item in node.items)
            either = (
                equal[0]
                if len(equal) == 1
                else nodes.BooleanOp(BOOLEAN, node.start, node.end, False, equal)
            )
            return self.negate_if(node.negated, either)
        parts = [node.operand, *node.items]
        operand, *items = self.coercion.alike([self.bind(part) for part in parts], parts, "IN")
        result = nodes.InList(BOOLEAN, node.start, node.end, operand, tuple(items))
        return self.negate_if(node.negated, result)

    def in_query(self, node: tree.InQuery) -> nodes.Expression:
        if self.scope.given.members is None:
            raise self.sql.wrong("a subquery cannot be asked here", node.query)
        operand = self.bind(node.operand)
        kind, values, has_null = self.scope.given.members(node.query, self.sql.text)
        both = common(operand.type, kind)
        if both is None:
            write = (
                f"CAST({self.sql.written(node.operand)[:60]} AS"
                f" {name_of_type(type_beside(kind, is_literal=False))})"
                if operand.type == TEXT
                else f"CAST({self.sql.written(node.operand)[:60]} AS TEXT)"
            )
            raise self.sql.wrong(
                f"IN cannot mix {operand.type} and {kind} of the subquery",
                node,
                hint=f"write {write}",
            )
        both = TEXT if both.kind is Kind.NULL else both
        result = nodes.InSubquery(
            BOOLEAN, node.start, node.end, widen(operand, both), values.cast(both.arrow), has_null
        )
        return self.negate_if(node.negated, result)

    def aggregate(self, node: tree.Aggregate) -> nodes.Expression:
        kind = "looks at many rows" if node.over is not None else "tells of many rows"
        raise self.sql.wrong(
            f"{node.name.upper()} {kind}, this expression is about one",
            node,
            hint="gravel check and gravel query take aggregates, and a plan's step query",
        )

    def subquery(self, node: tree.Exists | tree.Scalar) -> nodes.Expression:
        raise self.sql.wrong(
            "a subquery of this kind belongs in a query",
            node,
            hint="gravel query takes it, and a plan's step query",
        )

    def row(self, node: tree.Row) -> nodes.Expression:
        raise self.sql.wrong("several values where one is needed", node)

    def rows_compared(self, node: tree.Call) -> nodes.Expression:
        left, right = node.arguments
        for item, other in ((left, right), (right, left)):
            if not isinstance(item, tree.Row):
                raise self.sql.wrong("a row of values is compared with a row of as many", item)
            if isinstance(other, tree.Row) and len(item.items) != len(other.items):
                raise self.sql.wrong(f"{len(item.items)} values beside {len(other.items)}", other)
        assert isinstance(left, tree.Row)
        assert isinstance(right, tree.Row)
        pairs = list(zip(left.items, right.items, strict=True))
        return self.bind(rows_compared(node.name, pairs, node))

    def between(self, node: tree.Between) -> nodes.Expression:
        if isinstance(node.operand, tree.Row):
            both = tuple(
                self.bind(compared(sign, node.operand, end))
                for sign, end in ((">=", node.low), ("<=", node.high))
            )
            return self.negate_if(
                node.negated, nodes.BooleanOp(BOOLEAN, node.start, node.end, True, both)
            )
        if node.symmetric:
            ways = tuple(
                self.between(tree.Between(node.start, node.end, node.operand, *ends, False))
                for ends in ((node.low, node.high), (node.high, node.low))
            )
            return self.negate_if(
                node.negated, nodes.BooleanOp(BOOLEAN, node.start, node.end, False, ways)
            )
        parts = [node.operand, node.low, node.high]
        operand, low, high = self.coercion.alike(
            [self.bind(part) for part in parts], parts, "BETWEEN"
        )
        entries = catalogue()
        index = (node.start, node.end)
        pair = (
            nodes.BoundCall(BOOLEAN, *index, entries[">="], (operand, low)),
            nodes.BoundCall(BOOLEAN, *index, entries["<="], (operand, high)),
        )
        return self.negate_if(node.negated, nodes.BooleanOp(BOOLEAN, *index, True, pair))

    def negate_if(self, negated: bool, expression: nodes.Expression) -> nodes.Expression:
        return (
            nodes.BoundCall(
                BOOLEAN, expression.start, expression.end, catalogue()["NOT"], (expression,)
            )
            if negated
            else expression
        )

    # -- values
    def case(self, node: tree.Case) -> nodes.Expression:
        operand = node.operand
        conditions = []
        for when, _ in node.branches:
            # CASE x WHEN v is CASE WHEN x = v.
            tested = (
                when
                if operand is None
                else tree.Call(when.start, when.end, "=", (operand, when), when.start, True)
            )
            conditions.append(self.condition(tested))
        parts = [result for _, result in node.branches] + (
            [node.otherwise] if node.otherwise else []
        )
        results = self.coercion.alike([self.bind(part) for part in parts], parts, "CASE")
        null = nodes.Constant(results[0].type, node.end, node.end, None)
        otherwise = results.pop() if node.otherwise else null
        branches = tuple(zip(conditions, results, strict=True))
        return nodes.BoundCase(
            results[0].type, node.start, node.end, branches, otherwise, node.otherwise is not None
        )

    def cast(self, node: tree.Cast) -> nodes.Expression:
        operand = self.bind(node.operand)
        target = self.target(node.target)
        if node.format is not None:
            target = self.formatted(node, node.format, operand.type, target)
        if not possible(operand.type, target.type):
            hint = (
                f"write {self.sql.written(node.operand)[:40]} <> 0"
                if (operand.type, target.type) == (INTEGER, BOOLEAN)
                else ""
            )
            raise self.sql.wrong(f"{operand.type} cannot be cast to {target.type}", node, hint=hint)
        kind = BOOLEAN if node.function == "FITS" else target.type
        return nodes.BoundCast(kind, node.start, node.end, operand, target, node.function)

    def formatted(
        self, node: tree.Cast, form: tree.Literal, source: Type, target: Target
    ) -> Target:
        moments = (Kind.DATE, Kind.TIME, Kind.TIMESTAMP)
        reads = target.type.kind in moments and source.kind in (Kind.TEXT, Kind.NULL)
        if not reads and not (target.type == TEXT and source.kind in (*moments, Kind.ZONED)):
            raise self.sql.wrong(
                "FORMAT is for casts between a text and a DATE, TIME or TIMESTAMP", node
            )
        try:
            parts = template(form.text, target.type.kind if reads else source.kind)
        except ValueError as error:
            raise self.sql.wrong(str(error), form) from None
        if reads and (lack := complete(parts, target.type.kind)):
            raise self.sql.wrong(lack, form)
        return replace(target, format=form.text)

    def target(self, node: tree.TypeName) -> Target:
        try:
            return target(node.words, node.numbers)
        except ValueError as error:
            raise self.sql.wrong(str(error), node, hint=type_hint(" ".join(node.words))) from None

    def call(self, node: tree.Call) -> nodes.Expression:
        if node.name == "CURRENT_DATE":
            return nodes.Moment(DATE, node.start, node.end, self.scope.given.today, name=node.name)
        if node.name == "CURRENT_TIMESTAMP":
            return nodes.Moment(ZONED, node.start, node.end, self.scope.given.now, name=node.name)
        if node.name == "LOCALTIMESTAMP":
            return nodes.Moment(
                TIMESTAMP,
                node.start,
                node.end,
                self.scope.given.now.replace(tzinfo=None),
                name=node.name,
            )
        if (
            node.operator
            and len(node.arguments) == 2
            and any(isinstance(item, tree.Row) for item in node.arguments)
        ):
            if node.name not in ("=", "<>", "<", "<=", ">", ">=", "IS DISTINCT FROM"):
                row = next(item for item in node.arguments if isinstance(item, tree.Row))
                raise self.row(row)  # type: ignore[misc]
            return self.rows_compared(node)
        if node.name == "OVERLAPS" and node.operator:
            return self.bind(
                overlaps(node, lambda item: self.bind(item).type.kind is Kind.INTERVAL)
            )
        if node.operator and len(node.arguments) == 1:
            if node.name == "+":
                return self.unary_plus(node)
            node = tree.Call(node.start, node.end, "NEGATE", node.arguments, node.name_end, True)
        entry = find(node.name)
        if entry is None:
            raise unknown_function(node, self.sql.text)
        if entry.family in ("aggregates", "windows"):
            raise self.many_rows(node)
        if entry.kernel is None and entry.name in ("CASE", "CAST", "FITS", "CAST_OR_NULL"):
            raise self.sql.wrong(
                f"{entry.name} has a syntax of its own",
                node,
                hint=f"see gravel functions {entry.name}",
            )
        signature = next(
            (item for item in entry.signatures if item.accepts(len(node.arguments))), None
        )
        if signature is None:
            raise self.sql.wrong(
                f"{entry.name} does not take {_arguments(len(node.arguments))}",
                node,
                hint=" or ".join(item.text for item in entry.signatures),
            )
        bound = [self.bind(argument) for argument in node.arguments]
        if node.name in ("+", "-") and any(item.type.kind in _MOMENTS for item in bound):
            # A NULL beside a date stands for an interval.
            bound = [
                widen(item, INTERVAL) if item.type.kind is Kind.NULL else item for item in bound
            ]
            entry = catalogue()[f"{node.name} of dates"]
            return self.made(node, entry, entry.signatures[0], bound)
        if node.name == "||" and all(item.type.kind is Kind.ARRAY for item in bound):
            entry = catalogue()["|| of arrays"]
            signature = entry.signatures[0]
        arguments = self.arguments(node, entry, signature, bound)
        return self.made(node, entry, signature, arguments)

    def made(
        self,
        node: tree.Call,
        entry: Function,
        signature: FunctionSignature,
        arguments: list[nodes.Expression],
    ) -> nodes.Expression:
        shared = [
            arguments[i].type for i in range(len(arguments)) if signature.parameter(i).kind == "T"
        ]
        index = (node.start, node.end)
        if entry.name in ("COALESCE", "IF_BLANK"):
            return nodes.Coalesce(shared[0], *index, tuple(arguments), entry.name == "IF_BLANK")
        values = [
            argument.value if isinstance(argument, nodes.Constant) else ...
            for argument in arguments
        ]
        if entry.check and (fault := entry.check(values)):
            raise self.sql.wrong(fault, node)
        if entry.result_type:
            try:
                kind = entry.result_type([argument.type for argument in arguments], values)
            except ValueError as error:
                hint = ""
                if isinstance(error, NotADate):
                    hint = self._cast_to_date(node.arguments, arguments)
                raise self.sql.wrong(str(error), node, hint=hint) from None
            return nodes.BoundCall(kind, *index, entry, tuple(arguments))
        kind = shared[0] if signature.result == "T" else NAMED_TYPES[signature.result]
        return nodes.BoundCall(kind, *index, entry, tuple(arguments))

    def _cast_to_date(
        self, arguments: Sequence[tree.Node], bound: Sequence[nodes.Expression]
    ) -> str:
        for argument, item in zip(arguments, bound, strict=False):
            if item.type == TEXT and not isinstance(argument, tree.Literal):
                return f"write CAST({self.sql.written(argument)[:60]} AS DATE), or AS TIMESTAMP"
        return ""

    def unary_plus(self, node: tree.Call) -> nodes.Expression:
        operand = self.bind(node.arguments[0])
        return self.coercion.fitted(
            operand, node.arguments[0], FunctionParameter("x", "NUMBER"), "+"
        )

    def many_rows(self, node: tree.Call) -> Diagnostic:
        name = node.name.upper()
        hint = (
            "write OVER (…) after it, in a query"
            if name in building.WINDOWS
            else f"see gravel functions {name}"
        )
        return Diagnostic(
            f"{name} is not a function of one row",
            self.sql.text,
            node.start,
            node.name_end,
            hint=hint,
        )

    def arguments(
        self,
        node: tree.Call,
        entry: Function,
        signature: FunctionSignature,
        bound: list[nodes.Expression],
    ) -> list[nodes.Expression]:
        kinds = [signature.parameter(index) for index in range(len(bound))]
        # `a + b` with a text is best told at the text, with its cast, which `fitted` does; T's are
        # widened together.
        shared = [index for index, parameter in enumerate(kinds) if parameter.kind == "T"]
        alike = (
            self.coercion.alike(
                [bound[i] for i in shared], [node.arguments[i] for i in shared], entry.name
            )
            if shared
            else []
        )
        return [
            (
                alike[shared.index(index)]
                if parameter.kind == "T"
                else self.coercion.fitted(
                    bound[index], node.arguments[index], parameter, entry.name
                )
            )
            for index, parameter in enumerate(kinds)
        ]


_RULES: dict[type, Callable[[_Binder, Any], nodes.Expression]] = {
    tree.Name: _Binder.name, tree.Literal: _Binder.literal, tree.Parameter: _Binder.parameter,
    tree.Logic: _Binder.logic,
    tree.Not: _Binder.negation, tree.Is: _Binder.is_test, tree.In: _Binder.in_list,
    tree.Between: _Binder.between,
    tree.Case: _Binder.case, tree.Cast: _Binder.cast, tree.Call: _Binder.call,
    tree.InQuery: _Binder.in_query, tree.Aggregate: _Binder.aggregate,
    tree.Exists: _Binder.subquery, tree.Scalar: _Binder.subquery, tree.Row: _Binder.row,
    tree.Quantified: _Binder.subquery,
    tree.ArrayOf: _Binder.subquery,
}  # fmt: skip

_MOMENTS = (Kind.DATE, Kind.TIMESTAMP, Kind.ZONED, Kind.INTERVAL)
_MOMENT_HINTS = {
    "date": "write DATE '2024-05-31'",
    "timestamp": "write TIMESTAMP '2024-05-31 14:30:00'",
    "time": "write TIME '14:30:00'",
}


def _arguments(count: int) -> str:
    return "1 argument" if count == 1 else f"{count} arguments"
