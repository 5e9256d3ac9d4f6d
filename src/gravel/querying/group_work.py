"""What a query does with all groups of some keys, wherever they were put together: what their
aggregates come to, and its HAVING."""

from __future__ import annotations

import numpy as np
from msgspec import Struct

from gravel.engine.vector import Vector
from gravel.kernels.arrays import to_arrow
from gravel.language import tree
from gravel.language.types import INTEGER, Type
from gravel.querying.aggregation import Aggregation, Input
from gravel.querying.filtering import Filtering
from gravel.querying.group_inputs import GroupInputs, Keys
from gravel.querying.group_states import FirstPlaces, PartialGroups
from gravel.querying.grouping import Grouping, key_types
from gravel.querying.recording import Event, RecordingAccount
from gravel.querying.relation import Relation
from gravel.querying.scan_work import ScanWork, evaluator_for
from gravel.querying.shapes import SUBQUERIES, top
from gravel.querying.text_extremes import TextExtremeState


class FinishedGroups(Struct, frozen=True):
    """Groups, of which HAVING leaves `count` of `many`: the columns of their keys and aggregates,
    the places of their first rows, where they are known, and what is told of them."""

    many: int
    count: int
    columns: tuple[Vector, ...]
    types: tuple[Type, ...]
    places: FirstPlaces | None
    events: list[Event]


class GroupWork(Struct, frozen=True):
    """Work on the groups that `scan` makes, once they are put together. `keys` and `inputs` are of
    none of its rows, and so is `over`. It pickles."""

    scan: ScanWork
    having: tree.Node | None
    keys: Keys
    inputs: tuple[Input, ...]
    over: Relation

    def __call__(self, groups: PartialGroups) -> FinishedGroups:
        return self.finished(groups, RecordingAccount())

    def finished(self, groups: PartialGroups, account: RecordingAccount) -> FinishedGroups:
        """The groups, and what is told to an account."""
        context = self.scan.context()
        expressions = evaluator_for(account, context)
        aggregation = Aggregation(account, context, expressions)
        inputs_of = GroupInputs(account, context, expressions, aggregation)
        grouping = Grouping(account, context, expressions, aggregation, inputs_of)
        columns = list(zip(groups.keys, key_types(self.keys), strict=True))
        columns += [
            aggregation.finished(aggregate, supplied, state, groups.many)
            for aggregate, supplied, state in zip(
                self.scan.aggregates, self.inputs, groups.states, strict=True
            )
        ]
        for aggregate, state in zip(self.scan.aggregates, groups.states, strict=True):
            if isinstance(state, TextExtremeState):
                grouping.warn_of_numbers(aggregate, state.groups_beyond())
        if groups.keys:
            grouping.warn_of_alike([key.values for key in groups.keys])
        every = self.scan.keys or {}
        over: Relation
        over, stands = grouping.relation(
            every, self.scan.aggregates, self.over, columns, groups.many
        )
        places, width = groups.places, len(columns)
        if self.having is not None:
            numbers = Vector(to_arrow(np.arange(groups.many)))
            filtering = Filtering(account, context, expressions)
            over = over.with_columns([numbers], [INTEGER])
            over = filtering.where(self.having, over, {}, "HAVING", stands)
            left = over.vectors[width].values.to_numpy()
            places = None if places is None else places.of_some(left)
        vectors = tuple(over.vectors[:width])
        return FinishedGroups(
            groups.many, over.count, vectors, over.types[:width], places, account.events
        )


def reads_others(having: tree.Node) -> bool:
    """Whether a HAVING reads rows of other queries."""
    return bool(top(having, SUBQUERIES))
