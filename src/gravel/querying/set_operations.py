"""UNION, INTERSECT, EXCEPT and DISTINCT."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from gravel.engine.row_codes import codes_of
from gravel.kernels.arrays import to_arrow
from gravel.language import tree
from gravel.language.types import TEXT, Kind, Type, common
from gravel.querying.account import Account
from gravel.querying.context import QueryContext
from gravel.querying.partitions import one_by_one, partitions
from gravel.querying.relation import Columns, Relation, as_type, joined
from gravel.words import number_of


class FirstOfEach(Struct, frozen=True):
    """The first of the rows that are equal in some columns: those of parts of a table are all that
    can be those of the whole."""

    columns: tuple[int, ...]

    def of(self, over: Relation) -> Relation:
        """These rows, as they stand."""
        values = [over.vectors[index].values for index in self.columns]
        first = codes_of(values, over.count)[1]
        return over if len(first) == over.count else over.take(np.sort(first))


class SetOperations(Struct):
    """Puts relations together, and tells rows apart."""

    account: Account
    context: QueryContext

    def once_each(self, relation: Relation) -> Relation:
        return relation.take(self._first_of_each(relation))

    def _first_of_each(self, relation: Relation) -> np.ndarray:
        """The first row of each different one, ascending."""
        columns = [vector.values for vector in relation.vectors]
        parts = partitions(columns, relation.count, self.account.memory)
        if parts is None:
            return np.sort(codes_of(columns, relation.count)[1])
        firsts = (
            rows[codes_of([column.take(to_arrow(rows)) for column in columns], len(rows))[1]]
            for rows in one_by_one(parts, self.account.give_back)
        )
        return np.sort(np.concatenate(list(firsts)))

    def distinct(self, relation: Relation, rows_in: int | None = None) -> Relation:
        """The different rows. `rows_in`: how many there are, where the relation has its
        FirstOfEach."""
        sound = self.account.sound_rows(
            "DISTINCT", relation, zip(relation.names, relation.vectors, strict=True)
        )
        relation = relation if sound is None else relation.take(sound)
        first = self._first_of_each(relation)
        rows = relation.count if rows_in is None else rows_in
        stage = self.account.enter(
            "DISTINCT", (relation,), len(first), f"{rows - len(first):,} removed", rows
        )
        kept = replace(
            relation.take(first), origin=None, stage=stage
        )  # a row stands for several now
        self.account.warn_of_alike(
            "DISTINCT and case",
            [vector.values for vector in kept.vectors],
            "rows of the result",
            "SELECT DISTINCT UPPER(TIDY_SPACES(…))",
        )
        return kept

    def combine(self, left: Relation, right: Relation, node: tree.SetOperation) -> Relation:
        """The rows of a set operation of two relations."""
        both, _ = self.stack(left, right, node)
        sound = None
        if not (node.operator == "UNION" and node.all):
            sound = self.account.sound_rows(
                node.operator, both, zip(both.names, both.vectors, strict=True)
            )
        if sound is not None:
            lefts = int((sound < left.count).sum())
            both = both.take(sound)
            left, right = replace(left, count=lefts), replace(right, count=both.count - lefts)
        keep = self._chosen(
            node, [vector.values for vector in both.vectors], left.count, right.count
        )
        result = both.take(keep)
        message = f"{left.count:,} and {number_of(right.count)}"
        return replace(
            result,
            stage=self.account.enter(
                node.operator + (" ALL" if node.all else ""),
                (left, right),
                result.count,
                message,
                both.count,
            ),
        )

    def stack(
        self, left: Relation, right: Relation, node: tree.SetOperation
    ) -> tuple[Relation, tuple[Type, ...]]:
        """Both relations' rows, one after another, in common types."""
        if len(left.names) != len(right.names):
            raise self.context.wrong(
                f"{node.operator} of {len(left.names)} and {len(right.names)} columns", node
            )
        types = []
        for a, b, name in zip(left.types, right.types, left.names, strict=True):
            kind = common(a, b)
            if kind is None:
                raise self.context.wrong(
                    f"{node.operator} cannot mix {a} and {b} in {name}", node, "cast one of them"
                )
            types.append(TEXT if kind.kind is Kind.NULL else kind)
        vectors = [
            joined([as_type(a, kind), as_type(b, kind)], kind)
            for a, b, kind in zip(left.vectors, right.vectors, types, strict=True)
        ]
        result = Relation(
            left.names, ("",) * len(types), tuple(types), Columns(vectors), left.count + right.count
        )
        return result, tuple(types)

    def _chosen(
        self, node: tree.SetOperation, columns: list[pa.Array], lefts: int, rights: int
    ) -> np.ndarray:
        """The rows of both sides, one after another, that a set operation keeps."""
        if node.operator == "UNION" and node.all:
            return np.arange(lefts + rights)
        codes, first = codes_of(columns, lefts + rights)
        if node.operator == "UNION":
            return first
        many = len(first)
        ours, theirs = (
            np.bincount(codes[:lefts], minlength=many),
            np.bincount(codes[lefts:], minlength=many),
        )
        if not node.all:
            good = (ours > 0) & ((theirs > 0) if node.operator == "INTERSECT" else (theirs == 0))
            return first[good & (first < lefts)]
        allowed = (
            np.minimum(ours, theirs)
            if node.operator == "INTERSECT"
            else np.maximum(ours - theirs, 0)
        )
        mine = codes[:lefts]
        order = np.argsort(mine, kind="stable")
        counts = np.bincount(mine, minlength=many)
        place = np.empty(lefts, np.int64)
        place[order] = np.arange(lefts) - np.repeat(np.cumsum(counts) - counts, counts)
        return np.flatnonzero(place < allowed[mine])
