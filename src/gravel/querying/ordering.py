"""ORDER BY, OFFSET and FETCH."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct
from msgspec.structs import replace

from gravel.engine.row_codes import codes_of
from gravel.inspecting.look import sort_order
from gravel.kernels.arrays import to_arrow
from gravel.language import tree
from gravel.language.errors import ErrorPolicy
from gravel.language.types import TEXT
from gravel.querying.account import Account
from gravel.querying.context import QueryContext
from gravel.querying.evaluation import ExpressionEvaluator
from gravel.querying.relation import Columns, Relation
from gravel.querying.shapes import name_of

_NUMBER = r"^[+-]?[0-9]+(\.[0-9]+)?$"
_MOST_FIRST = 1_000  # of the rows of each batch
_FIRST = 200  # values that show whether the others are worth a look


def warn_of_digits(account: Account, written: str, values: Any) -> None:
    """Tell of a sort key of texts of which half or more are numbers, where they are not all of one
    length: then the order of the texts is another than that of the numbers."""
    texts = values.combine_chunks() if isinstance(values, pa.ChunkedArray) else values
    if not isinstance(texts, pa.Array) or not pa.types.is_string(texts.type):
        return
    for part in (texts.slice(0, _FIRST), texts):
        numbers = part.filter(pc.fill_null(pc.match_substring_regex(part, _NUMBER), False))
        if len(numbers) * 2 < len(part) - part.null_count or not len(numbers):
            return
    lengths = pc.min_max(pc.binary_length(numbers)).as_py()
    if lengths["min"] != lengths["max"]:
        account.warn(
            "numbers compared as texts",
            len(numbers),
            f"have a number in {written[:60]}, which is text: '10' is sorted before '9'",
            f"ORDER BY CAST({written[:60]} AS DECIMAL)",
        )


class FirstRows(Struct, frozen=True):
    """So many rows in the order of some columns, and those that share the last one's values: as
    many of a part of a table are all that can be among those of the whole."""

    columns: tuple[int, ...]
    sorts: tuple[tree.SortKey, ...]
    count: int

    def of(self, over: Relation) -> Relation:
        """These rows, as they stand."""
        if over.count <= self.count:
            return over
        keys = [over.vectors[index].values for index in self.columns]
        order = sort_order([pa.chunked_array([key]) for key in keys], self.sorts)
        codes, _ = codes_of([key.take(to_arrow(order)) for key in keys], over.count)
        ties = int((codes[self.count :] == codes[self.count - 1]).sum())
        return over.take(np.sort(order[: self.count + ties]))


class Ordering(Struct):
    """Sorts a relation, and takes its first rows."""

    account: Account
    context: QueryContext
    expressions: ExpressionEvaluator
    _sorted: Any = None

    def order(
        self,
        relation: Relation,
        before: Relation | None,
        query: tree.Query,
        stands: dict[Any, int],
        withs: dict[str, Relation],
        chosen: Sequence[int | None] = (),
        rows_in: int | None = None,
    ) -> Relation:
        """The rows in the order that a query asks for. `rows_in`: how many they are, where the
        relation has its FirstRows."""
        if not query.order:
            return relation
        keys = []
        failed = np.zeros(relation.count, bool)
        for number, key in enumerate(query.order):
            node = key.expression
            match = None
            if isinstance(node, tree.Literal) and node.kind == "integer":
                match = int(node.text) - 1
                if not 0 <= match < len(relation.names):
                    raise self.context.wrong(f"there is no column {node.text} to sort by", node)
            elif isinstance(node, tree.Name) and not node.table:
                match = relation.search(node, self.context.text)
            if match is None and chosen:
                match = chosen[number]
            if match is not None:
                item = relation.vectors[match]
            elif before is not None:
                item = self.expressions.evaluate(node, before, withs, stands)[0]
            else:
                item = self.expressions.evaluate(node, relation, withs)[0]
            if item.errors is not None:
                self.account.report_errors(
                    "ORDER BY", self.context.written(node), item.errors, relation.rows
                )
                failed |= item.errors != 0
            warn_of_digits(self.account, self.context.written(node), item.values)
            keys.append(pa.chunked_array([item.values]))
        order = sort_order(keys, query.order)
        order = order.astype(np.int32) if relation.count < 2**31 else order
        if self.account.on_error is ErrorPolicy.SET_ASIDE and failed.any():
            order = order[~failed[order]]
            self.account.note_omitted(relation, failed)
            relation = replace(
                relation,
                stage=self.account.enter(
                    "ORDER BY: set aside", (relation,), len(order), "rows with an error"
                ),
            )
        if query.fetch is not None:  # whose last rows may be ties
            self._sorted = keys, order
        rows = len(order) if rows_in is None else rows_in
        stage = self.account.enter("ORDER BY", (relation,), rows, rows_in=rows)
        return replace(relation.take(order), stage=stage)

    def limit(
        self,
        relation: Relation,
        query: tree.Query,
        offset: int | None,
        fetch: int | None,
        rows_in: int | None = None,
    ) -> Relation:
        """The rows that a query's OFFSET and FETCH leave; `rows_in` as in `order`."""
        if query.offset is None and query.fetch is None:
            return relation
        begin = offset or 0
        end = relation.count if fetch is None else min(relation.count, begin + fetch)
        if fetch and query.order and end < relation.count and end > begin:
            before, after = self._peers(end - 1)
            if query.ties:
                end += after
            elif after:
                self.account.warn(
                    "ties",
                    before + 1 + after,
                    "share the sort key of the last row, and some of them are not among the result",
                    "add a key to ORDER BY, or WITH TIES",
                )
        if fetch and not query.order and begin + fetch < relation.count:
            message = (
                "of those read are left out, and nothing says which: without ORDER BY the rows come"
                " as they are stored"
            )
            self.account.warn(
                "FETCH without ORDER BY", relation.count - fetch, message, "add an ORDER BY"
            )
        if fetch and query.order and query.order[0].nulls_first is None and relation.count:
            keys, order = self._sorted
            nulls = pc.is_null(keys[0].take(to_arrow(order[begin:end]))).to_numpy()
            if len(nulls) and nulls[0]:
                written = self.context.written(query.order[0].expression)[:60]
                message = f"of the result have NULL in {written}, which is sorted first"
                self.account.warn(
                    "NULL comes first",
                    int(nulls.sum()),
                    message,
                    "NULLS LAST, or WHERE … IS NOT NULL",
                )
        kept = relation.take(
            np.arange(min(begin, relation.count), max(end, min(begin, relation.count)))
        )
        return replace(
            kept,
            stage=self.account.enter(
                "FETCH", (relation,), kept.count, f"from row {begin + 1:,}", rows_in
            ),
        )

    def first_rows(
        self,
        query: tree.Query,
        items: Sequence[tree.Named],
        over: Relation,
        stands: dict[Any, int],
        count: int,
    ) -> FirstRows | None:
        """The rows of a table, in whose place `over` has its columns, that are all that a query of
        some columns in the order of others needs; None where these are many, and for texts, of
        whose whole order something is told."""
        columns = []
        for key in query.order:
            index = self._column(key.expression, items, over, stands)
            if index is None or over.types[index] == TEXT:
                return None
            columns.append(index)
        if not columns or not 0 < count <= _MOST_FIRST:
            return None
        return FirstRows(tuple(columns), query.order, count)

    def _column(
        self, node: tree.Node, items: Sequence[tree.Named], over: Relation, stands: dict[Any, int]
    ) -> int | None:
        """The column of a table that an ORDER BY means, by a position, a name of the result or its
        own; None where it is not that simple."""
        if isinstance(node, tree.Literal):
            number = int(node.text) if node.kind == "integer" else 0
            node = items[number - 1].expression if 0 < number <= len(items) else node
        elif isinstance(node, tree.Name) and not node.table:
            names = tuple(map(name_of, items))
            result = Relation(names, ("",) * len(names), (), Columns(()), 0)
            place = result.search(node, self.context.text)
            node = node if place is None else items[place].expression
        if not isinstance(node, tree.Name):
            return None
        return stands[id(node)] if id(node) in stands else over.search(node, self.context.text)

    def _peers(self, place: int) -> tuple[int, int]:
        """How many rows before and after a place among the sorted rows share its sort keys; as few
        as settle it are looked at."""
        keys, order = self._sorted
        span = 1_000
        while True:
            begin, end = max(0, place - span), min(len(order), place + 1 + span)
            near = [pa.concat_arrays(key.take(to_arrow(order[begin:end])).chunks) for key in keys]
            codes, _ = codes_of(near, end - begin)
            same = codes == codes[place - begin]
            if (begin == 0 or not same[0]) and (end == len(order) or not same[-1]):
                return int(same[: place - begin].sum()), int(same[place - begin + 1 :].sum())
            span *= 8
