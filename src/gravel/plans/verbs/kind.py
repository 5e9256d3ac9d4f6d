"""What a kind of step is: its SQL, the columns that it reads besides, and how it is bound."""

from __future__ import annotations

from abc import ABC, abstractmethod

from gravel.inspecting.cautions import Watch
from gravel.plans.binder import Binder, SqlFragment
from gravel.plans.model import Step
from gravel.plans.steps import PlanColumn, RowAction, TableAction


class StepKind(ABC):
    """A verb of the plan file."""

    @abstractmethod
    def sql_fragments(self, step: Step) -> list[SqlFragment]:
        """The texts of a step that are SQL."""

    @abstractmethod
    def columns_read(self, step: Step) -> list[str]:
        """The columns that a step reads without SQL, so that their types matter; `*` for all."""

    @abstractmethod
    def bind(self, binder: Binder) -> tuple[RowAction | TableAction, tuple[PlanColumn, ...], Watch]:
        """What applies the step to rows, the columns that it leaves, and the cautions to count;
        mistakes are told to the binder."""
