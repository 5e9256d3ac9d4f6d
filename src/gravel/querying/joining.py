"""Joins of two relations."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable
from functools import partial
from typing import Any

import numpy as np
import pyarrow.compute as pc
from msgspec import Struct
from msgspec.structs import replace

from gravel.engine.memory import DEFAULT_MEMORY
from gravel.engine.vector import Vector, first_error
from gravel.language import parse, tree
from gravel.language.coercion import name_of_type, type_beside
from gravel.language.types import TEXT, Kind, Type, common
from gravel.problems import DataProblem
from gravel.querying import joins
from gravel.querying.account import Account
from gravel.querying.context import QueryContext
from gravel.querying.evaluation import ExpressionEvaluator
from gravel.querying.joined_rows import HeldRows, JoinedRows, NullKeys, SideRows, almost_equal_keys
from gravel.querying.partitions import flat_indices
from gravel.querying.relation import Columns, Relation, as_type, taken
from gravel.querying.shapes import SUBQUERIES, top
from gravel.words import number_of

_PAIR = 40  # bytes that a pair of rows takes, about, until its columns are made
_ROOM = 256 << 20  # bytes that pairs may take whatever `memory` is


class HeldKeys(Struct, frozen=True):
    """Which side of a join is the same for every batch of the other one, and the values that ON
    compares of it; None until all has been told of them."""

    of_left: bool
    values: list[tuple[Vector, Type]] | None = None


class Joining(Struct):
    """Joins two relations. `with_outer`: rows with what is read of the row around a subquery."""

    account: Account
    context: QueryContext
    expressions: ExpressionEvaluator
    with_outer: Callable[[Relation], tuple[Relation, Any]]

    def held_keys(
        self,
        left: Relation,
        right: Relation,
        node: tree.Join,
        withs: dict[str, Relation],
        of_left: bool,
    ) -> HeldKeys:
        """What ON compares of the side that is held, of which nothing is told."""
        self.account.quiet += 1
        try:
            values = [
                self.expressions.evaluate(a if of_left else b, left if of_left else right, withs)
                for a, b in self._equalities(left, right, node)[0]
            ]
        finally:
            self.account.quiet -= 1
        return HeldKeys(of_left, values)

    def compared(
        self, left: Relation, right: Relation, node: tree.Join, withs: dict[str, Relation]
    ) -> list[tuple[tree.Node, tree.Node, Type]]:
        """What a join compares of both sides, of which nothing is told, and as which type. Raises
        Diagnostic where they are not comparable."""
        names = [tree.Name(node.start, node.end, name) for name in node.using]
        self.account.quiet += 1
        try:
            results = []
            for a, b in [*zip(names, names, strict=True), *self._equalities(left, right, node)[0]]:
                x, first = self.expressions.evaluate(a, left, withs)
                y, second = self.expressions.evaluate(b, right, withs)
                results.append((a, b, self._key(x, first, y, second, a)[2]))
            return results
        finally:
            self.account.quiet -= 1

    def join(
        self,
        left: Relation,
        right: Relation,
        node: tree.Join,
        withs: dict[str, Relation],
        held: HeldKeys | None = None,
    ) -> Relation:
        """The rows of both, side by side; those of a left side that is held only with partners."""
        equal, rest = self._equalities(left, right, node)
        of_left, known = (False, None) if held is None else (held.of_left, held.values)
        none = np.zeros(0, np.int64)
        told_left = left.take(none) if known is not None and of_left else left
        told_right = right.take(none) if known is not None and not of_left else right
        keys: list[tuple[Vector, Vector, Type]] = []
        message: list[tuple[str, str]] = []
        for name in node.using:
            index = tree.Name(node.start, node.end, name)
            item, other = left.find(index, self.context.text), right.find(index, self.context.text)
            keys.append(
                self._key(
                    left.vectors[item],
                    left.types[item],
                    right.vectors[other],
                    right.types[other],
                    node,
                )
            )
            message.append((name, name))
        for position, (a, b) in enumerate(equal):
            (x, first), (y, second) = (
                self.expressions.evaluate(a, told_left, withs),
                self.expressions.evaluate(b, told_right, withs),
            )
            if known is not None and of_left:
                x, first = known[position]
            elif known is not None:
                y, second = known[position]
            keys.append(self._key(x, first, y, second, a))
            message.append((self.context.written(a), self.context.written(b)))
        lefts_told = [x if told_left is left else taken(x, none) for x, _, _ in keys]
        rights_told = [y if told_right is right else taken(y, none) for _, y, _ in keys]
        texts = [text for text, _ in message]
        sound = self.account.sound_rows("ON", told_left, zip(texts, lefts_told, strict=True))
        if sound is not None:
            left, keys = left.take(sound), [(taken(x, sound), y, kind) for x, y, kind in keys]
            lefts_told = [x for x, _, _ in keys]
        texts = [text for _, text in message]
        sound = self.account.sound_rows("ON", told_right, zip(texts, rights_told, strict=True))
        if sound is not None:
            right, keys = right.take(sound), [(x, taken(y, sound), kind) for x, y, kind in keys]
            rights_told = [y for _, y, _ in keys]
        for x, y, compared in zip(lefts_told, rights_told, message, strict=True):
            self.account.find(NullKeys(*compared, x.values.null_count, y.values.null_count))
        pairs: Iterable[tuple[np.ndarray, np.ndarray]]
        if keys:
            most = partial(self.refuse_pairs, left.count + right.count, node)
            pairs = joins.equal_pairs(
                [key[0] for key in keys],
                [key[1] for key in keys],
                self.account.memory,
                self.account.give_back,
                most if not rest else (lambda pairs: None),
                None if rest else sys.maxsize,
            )
        else:
            pairs = joins.all_pairs(left.count, right.count)
        lefts, rights = [], []
        met_pairs, asked = 0, False
        ours, others = left.for_a_while(), right.for_a_while()
        failed: list[list[tuple[np.ndarray, np.ndarray | None]]] = [[] for _ in rest]
        for ones, twos in pairs:
            for condition, of_condition in zip(rest, failed, strict=True):
                if not len(ones) and asked:
                    break
                both, _ = self.with_outer(ours.take(ones).beside(others.take(twos)))
                result, _ = self.expressions.evaluate(
                    condition, both, withs, condition=True, watched=False
                )
                if result.errors is not None:
                    of_condition.append((result.errors, both.rows))
                keep = result.true(len(ones))
                ones, twos = ones[keep], twos[keep]
            asked = True
            lefts.append(ones)
            rights.append(twos)
            met_pairs += len(ones)
            self.refuse_pairs(left.count + right.count, node, met_pairs)
        if not asked:
            # No pair to ask: a condition that is none is a mistake all the same.
            none = np.zeros(0, np.int64)
            for condition in rest:
                self.expressions.evaluate(
                    condition,
                    self.with_outer(left.take(none).beside(right.take(none)))[0],
                    withs,
                    condition=True,
                    watched=False,
                )
        for condition, of_condition in zip(rest, failed, strict=True):
            errors, rows = None, None
            if of_condition:
                errors = np.concatenate([part for part, _ in of_condition])
                numbers = [part for _, part in of_condition if part is not None]
                rows = np.concatenate(numbers) if numbers else None
            self.account.report_errors("ON", self.context.written(condition), errors, rows)
        met, theirs = (
            (
                subset[0]
                if len(subset) == 1
                else np.concatenate(subset)
                if subset
                else np.zeros(0, np.int64)
            )
            for subset in (lefts, rights)
        )
        del lefts, rights, pairs
        if len(keys) == 1 and keys[0][2] == TEXT and not self.account.quiet:
            x, y, _ = keys[0]
            mask = np.zeros(left.count, bool)
            mask[met] = True
            self.account.find(
                almost_equal_keys(message[0][0], x.values, y.values, mask, held=of_left)
            )
        return self.pair_up(left, right, met, theirs, node, held)

    def refuse_pairs(self, rows: int, node: tree.Join, pairs: int) -> None:
        """Pairs that are far more than the rows that are joined are nearly always a key that both
        sides have many times. Raises DataProblem before their numbers fill the memory."""
        room = max(self.account.memory or DEFAULT_MEMORY, _ROOM)
        if pairs > 2 * rows and pairs * _PAIR > room:
            raise DataProblem(
                f"the join of {number_of(rows)} comes to {pairs:,} pairs of rows, whose numbers"
                f" take more than the {room / 2**30:.1f} GB that may be held",
                detail=" ".join(self.context.written(node).split())[:120],
                hint="join on what is a key of one side (gravel count --key)"
                + ("" if self.account.memory is None else ", or say --memory"),
            )

    def pair_up(
        self,
        left: Relation,
        right: Relation,
        ones: np.ndarray,
        twos: np.ndarray,
        node: tree.Join,
        held: HeldKeys | None = None,
    ) -> Relation:
        """The pairs of rows that a join makes, by their places on both sides, with those that it
        keeps without a partner; `held` as in `join`."""
        lefts = np.bincount(ones, minlength=left.count)
        rights = np.bincount(twos, minlength=right.count)
        joined_rows = JoinedRows(
            node.kind,
            HeldRows(lefts) if held is not None and held.of_left else SideRows.of(lefts),
            HeldRows(rights) if held is not None and not held.of_left else SideRows.of(rights),
            len(ones),
            self._shown(node) if node.kind == "WHERE" else "",
        )
        if node.kind in ("LEFT", "FULL") and not (held is not None and held.of_left):
            alone = flat_indices(lefts == 0)
            if len(alone):
                ones = np.concatenate([ones, alone])
                twos = np.concatenate([twos, np.full(len(alone), -1)])
                order = np.argsort(ones, kind="stable")
                ones, twos = ones[order], twos[order]
        if node.kind in ("RIGHT", "FULL"):
            alone = flat_indices(rights == 0)
            ones = np.concatenate([ones, np.full(len(alone), -1)])
            twos = np.concatenate([twos, alone])
        result = self.beside(left.take(ones), right.take(twos), node, ones < 0, twos < 0)
        return replace(result, stage=self.account.enter_join(joined_rows, (left, right)))

    def beside(
        self,
        left: Relation,
        right: Relation,
        node: tree.Join,
        no_left: np.ndarray,
        no_right: np.ndarray,
    ) -> Relation:
        """Rows of both sides of a join, one beside the other; which of them have none on a side."""
        result, width = left.beside(right), len(left.names)
        sides = []
        if node.kind in ("LEFT", "FULL"):
            sides.append((frozenset(range(width, len(result.names))), no_right))
        if node.kind in ("RIGHT", "FULL"):
            sides.append((frozenset(range(width)), no_left))
        result = replace(result, alone=(*result.alone, *sides))
        return self._merged(result, left, node) if node.using else result

    def _shown(self, node: tree.Join) -> str:
        parts = node.on.operands if isinstance(node.on, tree.Logic) else (node.on,)
        return " AND ".join(self.context.written(part)[:60] for part in parts if part is not None)

    def _merged(self, relation: Relation, left: Relation, node: tree.Join) -> Relation:
        """USING: one column for the two, the first that is known; each side's own is found by its
        table's name only."""
        vectors, names, types, hidden = [], [], [], set(relation.hidden)
        for name in node.using:
            position = tree.Name(node.start, node.end, name)
            first_rows = left.find(position, self.context.text)
            two = next(
                i
                for i in range(len(left.names), len(relation.names))
                if relation.names[i].casefold() == name.casefold()
            )
            kind = common(relation.types[first_rows], relation.types[two]) or TEXT
            a, b = as_type(relation.vectors[first_rows], kind), as_type(relation.vectors[two], kind)
            first = b if node.kind == "RIGHT" else a
            second = a if node.kind == "RIGHT" else b
            # Either side's error is one of the merged column, though of a pair both keys were
            # sound.
            vectors.append(
                Vector(
                    pc.coalesce(first.values, second.values),
                    first_error([first, second], relation.count),
                )
            )
            names.append(relation.names[first_rows])
            types.append(kind)
            hidden |= {first_rows, two}
        shift = len(vectors)
        return Relation(
            (*names, *relation.names),
            ("",) * shift + relation.tables,
            (*types, *relation.types),
            Columns(vectors).beside(relation.vectors),
            relation.count,
            frozenset(index + shift for index in hidden),
            relation.rows,
            relation.unread,
            tuple(
                (frozenset(index + shift for index in columns), mask)
                for columns, mask in relation.alone
            ),
            relation.origin,
            (None,) * shift + relation.plains,
        )

    def _key(
        self, a: Vector, first: Type, b: Vector, second: Type, node: tree.Node
    ) -> tuple[Vector, Vector, Type]:
        kind = common(first, second)
        if kind is None:
            number = type_beside(second if first == TEXT else first, is_literal=False)
            hint = f"cast one: CAST(… AS {name_of_type(number)}) or CAST(… AS TEXT)"
            raise self.context.wrong(f"= cannot mix {first} and {second}", node, hint)
        kind = TEXT if kind.kind is Kind.NULL else kind
        return as_type(a, kind), as_type(b, kind), kind

    def _equalities(
        self, left: Relation, right: Relation, node: tree.Join
    ) -> tuple[list[tuple[tree.Node, tree.Node]], list[tree.Node]]:
        """The equalities of ON between one side and the other that stand first, and what is decided
        after them."""
        on = node.on
        if node.using or on is None:
            return [], []
        parts = list(on.operands) if isinstance(on, tree.Logic) and on.operator == "AND" else [on]
        equal: list[tuple[tree.Node, tree.Node]] = []
        rest: list[tree.Node] = []
        for part in parts:
            pair = None
            if (
                isinstance(part, tree.Call)
                and part.name == "="
                and part.operator
                and not rest
                and not top(part, (*SUBQUERIES, tree.Row))
            ):
                sides = [self._sides(argument, left, right) for argument in part.arguments]
                if sides == [{0}, {1}]:
                    pair = (part.arguments[0], part.arguments[1])
                elif sides == [{1}, {0}]:
                    pair = (part.arguments[1], part.arguments[0])
            if pair is None:
                rest.append(part)
            else:
                equal.append(pair)
        return equal, rest

    def _sides(self, node: tree.Node, left: Relation, right: Relation) -> set[int]:
        result = set()
        for name in parse.column_names(node):
            inside = [
                side
                for side, relation in enumerate((left, right))
                if relation.search(name, self.context.text) is not None
            ]
            if len(inside) == 2 and not name.table:
                raise self.context.wrong(
                    f"{name.text} is on both sides of the join", name, "write it with its table"
                )
            result |= set(inside)
        return result
