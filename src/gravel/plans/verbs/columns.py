"""`columns`: which columns go on, under which names, in which order."""

from __future__ import annotations

from msgspec.structs import replace

from gravel.inspecting.cautions import Watch
from gravel.language import tree
from gravel.plans.binder import Binder, SqlFragment
from gravel.plans.ledger import StepCount
from gravel.plans.model import Step
from gravel.plans.rows import TrackedRows
from gravel.plans.steps import BoundStep, Outcome, PlanColumn, RowAction
from gravel.plans.verbs.kind import StepKind


class ColumnsStep(StepKind):
    """`columns`: which go on, in which order, under which names."""

    def sql_fragments(self, step: Step) -> list[SqlFragment]:
        """`name` or `name AS new` for each."""
        return [
            SqlFragment(("columns", index), "named", text)
            for index, text in enumerate(step.columns or ())
        ]

    def columns_read(self, step: Step) -> list[str]:
        """None: what goes on unread needs no type."""
        return []

    def bind(self, binder: Binder) -> tuple[ColumnsAction, tuple[PlanColumn, ...], Watch]:
        """The columns found."""
        places, after = [], []
        for number, text in enumerate(binder.step.columns or ()):
            node = binder.node("columns", number)
            if node is None:
                continue
            if not isinstance(node.expression, tree.Name):
                binder.wrong(
                    f"columns names columns, and {text} is an expression",
                    "columns",
                    number,
                    hint="give it a name in a step with `set`",
                )
                continue
            index = binder.column(node.expression.text, "columns", number)
            if index is not None:
                plain = node.name_start == node.start
                places.append(index)
                after.append(
                    binder.columns[index]
                    if plain
                    else replace(binder.columns[index], name=node.name)
                )
        binder.fresh([column.name for column in after], "columns")
        # A declared type goes with its column.
        binder.declared = frozenset(
            column.name
            for place, column in zip(places, after, strict=True)
            if binder.columns[place].name in binder.declared
        )
        return ColumnsAction(tuple(places)), tuple(after), Watch([])


class ColumnsAction(RowAction, frozen=True):
    """Positions of the columns that go on, in their order."""

    places: tuple[int, ...]

    def apply(self, step: BoundStep, rows: TrackedRows) -> Outcome:
        """See RowAction."""
        rows.arrange(
            [rows.stored[place] for place in self.places],
            tuple(column.type for column in step.after),
        )
        return Outcome(rows, StepCount(rows_in=rows.count, rows_out=rows.count))
