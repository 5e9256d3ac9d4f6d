"""What a query is asked in: its text, parameters, and the tables that names mean."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from msgspec import Struct, field

from gravel.language import tree
from gravel.language.cautions.finder import ListItems
from gravel.language.diagnostics import Diagnostic
from gravel.language.scope import Given
from gravel.querying.relation import Relation
from gravel.sources.read_options import ReadOptions
from gravel.sources.source import Source

RunQuery = Callable[[tree.Query, dict[str, "Relation"]], "Relation"]


class QueryContext(Struct):
    """A query's text and what its names mean."""

    text: str = ""
    given: Given = field(default_factory=Given)
    references: dict[str, str] = field(default_factory=dict)  # what names of tables stand for
    readings: dict[str, ReadOptions] = field(default_factory=dict)  # by folded names
    opened: dict[str, Source] = field(default_factory=dict)  # tables at hand, by folded names
    relations: dict[str, Relation] = field(default_factory=dict)  # rows at hand, likewise
    base: Path | None = None
    engine: str | None = None  # the address of what reads the tables; None: this machine
    list_items: ListItems = field(default_factory=dict)
    withs: dict[str, Relation] = field(default_factory=dict)  # named queries, as they stand
    with_null: set[int] = field(default_factory=set)  # subqueries, by identity, that have a NULL
    # whether columns that stand as they are in a result go where they can stay as they are kept
    as_stored: bool = False

    def wrong(self, message: str, node: tree.Node, hint: str = "") -> Diagnostic:
        return Diagnostic(message, self.text, node.start, node.end, hint=hint)

    def written(self, node: tree.Node) -> str:
        return self.text[node.start : node.end]
