"""What `gravel query` tells."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from gravel.figures import Figures, Scalar
from gravel.inspecting.cautions import Caution
from gravel.inspecting.cells import json_value
from gravel.querying.account import RowFault, Stage
from gravel.querying.relation import Relation
from gravel.querying.result_file import texts
from gravel.querying.session import Session


@dataclass(frozen=True)
class ResultColumn(Figures):
    """A column of a result, its type as SQL writes it."""

    name: str
    type: str


@dataclass(frozen=True)
class QueryOutcome(Figures):
    """The rows of a query, how its tables were read, and the account of its operators. written:
    where the rows went, None where they are only shown."""

    columns: tuple[ResultColumn, ...]
    rows: tuple[tuple[Scalar, ...], ...]
    row_count: int
    tables: dict[str, dict[str, Any]]
    account: tuple[Stage, ...]
    cautions: tuple[Caution, ...]
    remarks: tuple[str, ...]
    errors: tuple[RowFault, ...]
    written: str | None


def outcome_of(relation: Relation, session: Session, written: str | None) -> QueryOutcome:
    """A result with the account of the session that it came from."""
    columns = [
        [json_value(cell, kind.kind) for cell in column]
        for column, kind in zip(texts(relation), relation.types, strict=True)
    ]
    return QueryOutcome(
        tuple(
            ResultColumn(name, str(kind))
            for name, kind in zip(relation.names, relation.types, strict=True)
        ),
        tuple(zip(*columns, strict=True)),
        relation.count,
        session.tables.read_as,
        tuple(session.account.stages),
        tuple(session.account.cautions),
        tuple(session.account.remarks),
        tuple(session.account.faults),
        written,
    )
