"""Joins of two relations."""

from __future__ import annotations

import sys
from collections.abc import Iterable
from functools import partial

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct
from msgspec.structs import replace

from gravel.engine.memory import DEFAULT_MEMORY
from gravel.engine.vector import Vector, first_error
from gravel.kernels.arrays import to_arrow
from gravel.language import parse, tree
from gravel.language.functions.casing import tidy_spaces, upper
from gravel.language.types import TEXT, Kind, Type, common
from gravel.problems import DataProblem
from gravel.querying import joins
from gravel.querying.account import Account
from gravel.querying.context import QueryContext
from gravel.querying.evaluation import ExpressionEvaluator
from gravel.querying.partitions import flat_indices
from gravel.querying.relation import Columns, Relation, as_type, taken
from gravel.querying.shapes import SUBQUERIES, top
from gravel.querying.subqueries import Subqueries
from gravel.words import number_of

_PAIR = 40  # bytes that a pair of rows takes, about, until its columns are made
_ROOM = 256 << 20  # bytes that pairs may take whatever `memory` is


class Joining(Struct):
    """Joins two relations."""

    account: Account
    context: QueryContext
    expressions: ExpressionEvaluator
    subqueries: Subqueries

    def join(
        self, left: Relation, right: Relation, node: tree.Join, withs: dict[str, Relation]
    ) -> Relation:
        equal, rest = (
            ([], [])
            if node.using
            else self._split(node.on, left, right)
            if node.on is not None
            else ([], [])
        )
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
        for a, b in equal:
            (x, first), (y, second) = (
                self.expressions.evaluate(a, left, withs),
                self.expressions.evaluate(b, right, withs),
            )
            keys.append(self._key(x, first, y, second, a))
            message.append((self.context.written(a), self.context.written(b)))
        sound = self.account.sound_rows(
            "ON", left, [(text, x) for (x, _, _), (text, _) in zip(keys, message, strict=True)]
        )
        if sound is not None:
            left, keys = left.take(sound), [(taken(x, sound), y, kind) for x, y, kind in keys]
        sound = self.account.sound_rows(
            "ON", right, [(text, y) for (_, y, _), (_, text) in zip(keys, message, strict=True)]
        )
        if sound is not None:
            right, keys = right.take(sound), [(x, taken(y, sound), kind) for x, y, kind in keys]
        self._warn_of_null_keys(keys, message)
        pairs: Iterable[tuple[np.ndarray, np.ndarray]]
        if keys:
            most = partial(self._refuse_pairs, left.count + right.count, node)
            pairs = joins.equal_pairs(
                [key[0] for key in keys],
                [key[1] for key in keys],
                [key[2] for key in keys],
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
        for ones, twos in pairs:
            for condition in rest:
                if not len(ones) and asked:
                    break
                both, _ = self.subqueries.with_outer(ours.take(ones).beside(others.take(twos)))
                result, _ = self.expressions.evaluate(
                    condition, both, withs, condition=True, watched=False
                )
                if result.errors is not None:
                    self.account.report_errors(
                        "ON", self.context.written(condition), result.errors, both.rows
                    )
                keep = result.true(len(ones))
                ones, twos = ones[keep], twos[keep]
            asked = True
            lefts.append(ones)
            rights.append(twos)
            met_pairs += len(ones)
            self._refuse_pairs(left.count + right.count, node, met_pairs)
        if not asked:
            # No pair to ask: a condition that is none is a mistake all the same.
            none = np.zeros(0, np.int64)
            for condition in rest:
                self.expressions.evaluate(
                    condition,
                    self.subqueries.with_outer(left.take(none).beside(right.take(none)))[0],
                    withs,
                    condition=True,
                    watched=False,
                )
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
            self._warn_of_almost_equal_keys(
                keys[0][0].values, keys[0][1].values, met, message[0][0]
            )
        return self.pair_up(left, right, met, theirs, node)

    def _refuse_pairs(self, rows: int, node: tree.Join, pairs: int) -> None:
        """Pairs that are far more than the rows that are joined are nearly always a key that both
        sides have many times. Raises DataProblem before their numbers fill the memory."""
        room = max(self.account.memory or DEFAULT_MEMORY, _ROOM)
        if pairs > 2 * rows and pairs * _PAIR > room:
            raise DataProblem(
                f"the join of {number_of(rows)} comes to {pairs:,} pairs of rows, whose numbers"
                f" take more than the {room / 2**30:.1f} GB that may be held",
                detail=" ".join(self.context.written(node).split())[:120],
                hint="join on what is a key of one side (gravel count --key), or say --memory",
            )

    def _warn_of_null_keys(
        self, keys: list[tuple[Vector, Vector, Type]], message: list[tuple[str, str]]
    ) -> None:
        """Both sides have rows with NULL in a key, of which = pairs none."""
        for (left, right, _), (mine, theirs) in zip(keys, message, strict=True):
            ones, twos = left.values.null_count, right.values.null_count
            if ones and twos:
                detail = (
                    f"on the left have NULL in {mine[:60]}, as {twos:,} on the right have, and ="
                    " pairs none of them"
                )
                hint = (
                    f"{mine[:60]} IS NOT DISTINCT FROM {theirs[:60]} would; or leave them out:"
                    f" WHERE {mine[:60]} IS NOT NULL"
                )
                self.account.warn("NULL in join keys", ones, detail, hint)

    def _warn_of_almost_equal_keys(
        self, left: pa.Array, right: pa.Array, matched: np.ndarray, name: str
    ) -> None:
        """Rows on the left whose key would have a partner if case and spaces, or leading zeros too,
        were ignored."""
        alone = np.ones(len(left), bool)
        alone[matched] = False
        mine = upper(tidy_spaces(left.filter(to_arrow(alone)).drop_null()))
        theirs = upper(tidy_spaces(right.drop_null()))
        near = pc.is_in(mine, theirs)
        alone_unless = "on the left have no partner, and would if"
        of_key = f"of {name[:60]} were ignored"
        self.account.warn(
            "JOIN and case",
            pc.sum(near).as_py() or 0,
            f"{alone_unless} case and spaces {of_key}",
            f"join on UPPER(TIDY_SPACES({name[:60]})) on both sides",
        )
        mine, theirs = (
            pc.replace_substring_regex(keys, "^0+([0-9]+)$", r"\1")
            for keys in (mine.filter(pc.invert(near)), theirs)
        )
        self.account.warn(
            "JOIN and leading zeros",
            pc.sum(pc.is_in(mine, theirs)).as_py() or 0,
            f"{alone_unless} leading zeros {of_key}",
            f"join on TRIM(LEADING '0' FROM {name[:60]}) on both sides",
        )

    def pair_up(
        self, left: Relation, right: Relation, array: np.ndarray, two: np.ndarray, node: tree.Join
    ) -> Relation:
        several, alone_left = _met(array, left.count)
        _, alone_right = _met(two, right.count)
        pairs = len(array)
        extra = pairs - (left.count - len(alone_left))
        if node.kind in ("LEFT", "FULL") and len(alone_left):
            array, two = (
                np.concatenate([array, alone_left]),
                np.concatenate([two, np.full(len(alone_left), -1)]),
            )
            order = np.argsort(array, kind="stable")
            array, two = array[order], two[order]
        if node.kind in ("RIGHT", "FULL") and len(alone_right):
            array, two = (
                np.concatenate([array, np.full(len(alone_right), -1)]),
                np.concatenate([two, alone_right]),
            )
        result = left.take(array).beside(right.take(two))
        sides = []
        if node.kind in ("LEFT", "FULL") and len(alone_left):
            sides.append((frozenset(range(len(left.names), len(result.names))), two < 0))
        if node.kind in ("RIGHT", "FULL") and len(alone_right):
            sides.append((frozenset(range(len(left.names))), array < 0))
        result = replace(result, alone=(*result.alone, *sides))
        if node.using:
            result = self._merged(result, left, node)
        if node.kind == "WHERE":
            message = f"{number_of(left.count)} with {right.count:,}, where {self._shown(node)}"
            stage = self.account.enter(
                "tables joined by WHERE", (left, right), result.count, message
            )
        elif node.kind != "CROSS":
            message = (
                f"{number_of(left.count - len(alone_left))} on the left matched,"
                f" {len(alone_left):,}"
                " without a partner; "
            )
            message += f"{len(alone_right):,} on the right without one"
            if several:
                message += f"; {number_of(several)} on the left met several (+{number_of(extra)})"
            stage = self.account.enter(f"{node.kind} JOIN", (left, right), result.count, message)
            self.account.warn(
                "a join multiplies rows",
                several,
                f"on the left meet several rows on the right: {number_of(extra)} more",
                "join on a key of the right table",
            )
            if node.kind in ("INNER", "RIGHT"):
                self.account.warn(
                    "a join loses rows",
                    len(alone_left),
                    "on the left have no partner, so they are lost",
                    "LEFT JOIN keeps them",
                )
        else:
            stage = self.account.enter(
                "CROSS JOIN",
                (left, right),
                pairs,
                f"each of {number_of(left.count)} with each of {right.count:,}",
            )
        return replace(result, stage=stage)

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
            hint = f"cast one: CAST(… AS {second if first == TEXT else first}) or CAST(… AS TEXT)"
            raise self.context.wrong(f"= cannot mix {first} and {second}", node, hint)
        kind = TEXT if kind.kind is Kind.NULL else kind
        return as_type(a, kind), as_type(b, kind), kind

    def _split(
        self, on: tree.Node, left: Relation, right: Relation
    ) -> tuple[list[tuple[tree.Node, tree.Node]], list[tree.Node]]:
        """The equalities of a condition between one side and the other that stand first, and what
        is decided after them."""
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


def _met(rows: np.ndarray, count: int) -> tuple[int, np.ndarray]:
    """Of so many rows, of which some are met, how many are met more than once, and which are not
    met."""
    times = np.bincount(rows, minlength=count)
    return int((times > 1).sum()), flat_indices(times == 0)
