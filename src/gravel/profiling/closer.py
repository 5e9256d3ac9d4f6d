"""The second pass over a table: what the first pass has left to be counted in some columns (lists,
forms, pairs of columns), and texts that it looks up on its way."""

from __future__ import annotations

from collections.abc import Hashable, Mapping, Sequence
from typing import Any

import numpy as np
from msgspec import Struct

from gravel.engine.arrow_values import text_of
from gravel.engine.distinct import Counted, Distinct, Room
from gravel.engine.hashing import hashes
from gravel.kernels.arrays import to_arrow
from gravel.language.types import Type
from gravel.profiling import forms, lists, relations
from gravel.profiling.rules import ColumnRule, RuleRows, rule_rows
from gravel.sources.source import Batch

PAIR, DEPENDENCY = "pair", "dependency"  # the keys of distinct values
Pair = tuple[int, int]
Texts = dict[int, dict[int, str]]  # by column and source row


class CloserPartial(Struct, frozen=True):
    """What a batch says on a closer look."""

    lists: dict[int, lists.ListPart]
    forms: dict[tuple[int, str], forms.FormPart]
    distinct: dict[Hashable, Counted]
    rules: list[RuleRows]
    texts: Texts


class CloserState:
    """A closer look at a table so far. `delimiters`: those of columns with lists; `unsaid`: by
    column the hashes of values that say nothing; `rules`: those whose rows are counted, `types` of
    all columns; `missing`: by column the source rows, ascending,
    whose texts are wanted."""

    def __init__(
        self,
        delimiters: Mapping[int, str],
        forms_of_columns: Mapping[int, Sequence[str]],
        pairs: Sequence[Pair],
        dependencies: Sequence[Pair],
        unsaid: Mapping[int, np.ndarray],
        rules: Sequence[ColumnRule],
        types: Sequence[Type],
        missing: Mapping[int, np.ndarray],
        room: Room,
    ) -> None:
        self.delimiters, self.missing, self.unsaid = delimiters, missing, unsaid
        self.pairs, self.dependencies = pairs, dependencies
        self.list_parts = dict.fromkeys(delimiters, lists.ListPart())
        self.form_states = {
            (i, form): forms.FormState()
            for i, subset in forms_of_columns.items()
            for form in subset
        }
        self.distinct: dict[Hashable, Any] = {(PAIR, pair): Distinct(room) for pair in pairs}
        self.distinct |= {(DEPENDENCY, pair): Distinct(room) for pair in dependencies}
        self.rules, self.types = rules, types
        self.rule_rows = [RuleRows()] * len(rules)
        self.texts: Texts = {}

    def map(self, batch: Batch) -> CloserPartial:
        """See State."""
        kept = rule_rows(self.rules, self.types, batch)
        batch = batch.texts()
        columns = batch.columns
        related = {i for pair in (*self.pairs, *self.dependencies) for i in pair}
        hashed = {i: hashes(columns[i]) for i in related}
        said = {
            i: relations.without(hashed[i], self.unsaid[i])
            for i in {i for pair in self.dependencies for i in pair}
        }
        distinct: dict[Hashable, Counted] = {
            (PAIR, (a, b)): relations.pair_part(hashed[a], hashed[b], batch.rows)
            for a, b in self.pairs
        }
        for a, b in self.dependencies:
            distinct[DEPENDENCY, (a, b)] = relations.known_pairs(said[a], said[b], batch.rows)
        return CloserPartial(
            {i: lists.list_part(columns[i], sign) for i, sign in self.delimiters.items()},
            {(i, form): forms.form_part(columns[i], form) for i, form in self.form_states},
            distinct,
            kept,
            texts_in(self.missing, batch),
        )

    def add(self, part: CloserPartial) -> None:
        """See State."""
        for index, list_part in part.lists.items():
            self.list_parts[index] = self.list_parts[index].merge(list_part)
        for key, form_part in part.forms.items():
            self.form_states[key].add(form_part)
        for pair, counted in part.distinct.items():
            self.distinct[pair].add(counted)
        self._count(part.rules)
        self._keep(part.texts)

    def merge(self, later: CloserState) -> None:
        """See State."""
        for index, list_part in later.list_parts.items():
            self.list_parts[index] = self.list_parts[index].merge(list_part)
        for key, state in later.form_states.items():
            self.form_states[key].merge(state)
        self._count(later.rule_rows)
        self._keep(later.texts)

    def _count(self, more: Sequence[RuleRows]) -> None:
        pairs = zip(self.rule_rows, more, strict=True)
        self.rule_rows = [known.merge(other) for known, other in pairs]

    def _keep(self, texts: Texts) -> None:
        for index, by_row in texts.items():
            self.texts.setdefault(index, {}).update(by_row)


def texts_in(wanted: Mapping[int, np.ndarray], batch: Batch) -> Texts:
    """The texts of the wanted rows that a batch has."""
    results: Texts = {}
    if not batch.count:
        return results
    for index, asked in wanted.items():
        first, last = np.searchsorted(asked, [batch.rows[0], batch.rows[-1] + 1])
        rows = asked[first:last]
        if len(rows):
            places = to_arrow(np.searchsorted(batch.rows, rows))
            texts = text_of(batch.columns[index].take(places)).to_pylist()
            results[index] = dict(zip(rows.tolist(), texts, strict=True))
    return results
