"""Joins of two relations."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable, Sequence
from functools import partial
from typing import Any

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
from gravel.words import number_of

_PAIR = 40  # bytes that a pair of rows takes, about, until its columns are made
_ROOM = 256 << 20  # bytes that pairs may take whatever `memory` is


class JoinedRows(Struct, frozen=True):
    """What became of the rows of both sides of a join: how many were on the left, had a partner
    there, and met several; which of the right met one; how many pairs, and rows, came of it."""

    kind: str
    left: int
    matched: int
    several: int
    met: np.ndarray
    pairs: int
    where: str

    @classmethod
    def of(
        cls, kind: str, left: int, right: int, ones: np.ndarray, twos: np.ndarray, where: str
    ) -> JoinedRows:
        """Of so many rows on each side, and their pairs."""
        times = np.bincount(ones, minlength=left)
        met = np.zeros(right, bool)
        met[twos] = True
        matched, several = int((times > 0).sum()), int((times > 1).sum())
        return cls(kind, left, matched, several, met, len(ones), where)

    def __add__(self, other: JoinedRows) -> JoinedRows:
        """With those of further rows on the left."""
        return JoinedRows(
            self.kind,
            self.left + other.left,
            self.matched + other.matched,
            self.several + other.several,
            self.met | other.met,
            self.pairs + other.pairs,
            self.where,
        )

    def __str__(self) -> str:
        right = len(self.met)
        if self.kind == "WHERE":
            return f"{number_of(self.left)} with {right:,}, where {self.where}"
        if self.kind == "CROSS":
            return f"each of {number_of(self.left)} with each of {right:,}"
        several = f"{number_of(self.several)} on the left met several (+{number_of(self.more)})"
        return (
            f"{number_of(self.matched)} on the left matched, {self.left - self.matched:,} without a"
            f" partner; {right - int(self.met.sum()):,} on the right without one"
            + (f"; {several}" if self.several else "")
        )

    @property
    def more(self) -> int:
        """How many pairs there are beyond one for each row on the left."""
        return self.pairs - self.matched


class MultipliedRows(Struct, frozen=True):
    """How many rows several partners add."""

    more: int

    def __add__(self, other: MultipliedRows) -> MultipliedRows:
        return MultipliedRows(self.more + other.more)

    def __str__(self) -> str:
        return f"on the left meet several rows on the right: {number_of(self.more)} more"


KeyValues = Sequence[tuple[Vector, Type]]


class Joining(Struct):
    """Joins two relations. `with_outer`: rows with what is read of the row around a subquery."""

    account: Account
    context: QueryContext
    expressions: ExpressionEvaluator
    with_outer: Callable[[Relation], tuple[Relation, Any]]

    def right_keys(
        self, left: Relation, right: Relation, node: tree.Join, withs: dict[str, Relation]
    ) -> KeyValues:
        """What ON compares of the right side with the left, of which nothing is told."""
        self.account.quiet += 1
        try:
            return [
                self.expressions.evaluate(b, right, withs)[0:2]
                for _, b in self._equalities(left, right, node)[0]
            ]
        finally:
            self.account.quiet -= 1

    def join(
        self,
        left: Relation,
        right: Relation,
        node: tree.Join,
        withs: dict[str, Relation],
        known: KeyValues | None = None,
    ) -> Relation:
        """The rows of both, side by side. `known`: the right_keys, of which all has been told."""
        equal, rest = self._equalities(left, right, node)
        told = right if known is None else right.take(np.zeros(0, np.int64))
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
                self.expressions.evaluate(a, left, withs),
                self.expressions.evaluate(b, told, withs),
            )
            if known is not None:
                y, second = known[position]
            keys.append(self._key(x, first, y, second, a))
            message.append((self.context.written(a), self.context.written(b)))
        sound = self.account.sound_rows(
            "ON", left, [(text, x) for (x, _, _), (text, _) in zip(keys, message, strict=True)]
        )
        if sound is not None:
            left, keys = left.take(sound), [(taken(x, sound), y, kind) for x, y, kind in keys]
        untold = [y if known is None else taken(y, np.zeros(0, np.int64)) for _, y, _ in keys]
        sound = self.account.sound_rows(
            "ON", told, [(text, y) for y, (_, text) in zip(untold, message, strict=True)]
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
            self._refuse_pairs(left.count + right.count, node, met_pairs)
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
            twos = right.values.null_count
            detail = (
                f"on the left have NULL in {mine[:60]}, as {twos:,} on the right have, and ="
                " pairs none of them"
            )
            hint = (
                f"{mine[:60]} IS NOT DISTINCT FROM {theirs[:60]} would; or leave them out:"
                f" WHERE {mine[:60]} IS NOT NULL"
            )
            ones = left.values.null_count if twos else 0
            self.account.warn("NULL in join keys", ones, detail, hint)

    def _warn_of_almost_equal_keys(
        self, left: pa.Array, right: pa.Array, matched: np.ndarray, name: str
    ) -> None:
        """Rows on the left whose key would have a partner if case and spaces, or leading zeros too,
        were ignored."""
        alone = np.ones(len(left), bool)
        alone[matched] = False
        mine = upper(tidy_spaces(left.filter(to_arrow(alone)).drop_null()))
        theirs = upper(tidy_spaces(right.drop_null() if len(mine) else right[:0]))
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
        self, left: Relation, right: Relation, ones: np.ndarray, twos: np.ndarray, node: tree.Join
    ) -> Relation:
        """The pairs of rows that a join makes, by their places on both sides, with those that it
        keeps without a partner."""
        written = self._shown(node) if node.kind == "WHERE" else ""
        counts = JoinedRows.of(node.kind, left.count, right.count, ones, twos, written)
        if node.kind in ("LEFT", "FULL") and counts.matched < left.count:
            alone = flat_indices(np.bincount(ones, minlength=left.count) == 0)
            ones = np.concatenate([ones, alone])
            twos = np.concatenate([twos, np.full(len(alone), -1)])
            order = np.argsort(ones, kind="stable")
            ones, twos = ones[order], twos[order]
        if node.kind in ("RIGHT", "FULL"):
            alone = flat_indices(~counts.met)
            ones = np.concatenate([ones, np.full(len(alone), -1)])
            twos = np.concatenate([twos, alone])
        result = self.beside(left.take(ones), right.take(twos), node, ones < 0, twos < 0)
        name = "tables joined by WHERE" if node.kind == "WHERE" else f"{node.kind} JOIN"
        stage = self.account.enter(name, (left, right), result.count, counts)
        if node.kind not in ("WHERE", "CROSS"):
            self.account.warn(
                "a join multiplies rows",
                counts.several,
                MultipliedRows(counts.more),
                "join on a key of the right table",
            )
        if node.kind in ("INNER", "RIGHT"):
            self.account.warn(
                "a join loses rows",
                counts.left - counts.matched,
                "on the left have no partner, so they are lost",
                "LEFT JOIN keeps them",
            )
        return replace(result, stage=stage)

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
            hint = f"cast one: CAST(… AS {second if first == TEXT else first}) or CAST(… AS TEXT)"
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
