"""The JSON documents of the commands, a class each: `docs/schemas` is made from here. A document's
own name and version (`"gravel": "count/2"`) stands before these keys."""

from __future__ import annotations

from typing import Any, Literal, TypedDict

# A value as JSON has it: whole numbers up to 2^53, finite doubles, booleans and texts as such, all
# others as text.
Scalar = str | int | float | bool | None
Number = int | float | str | None


class CautionEntry(TypedDict):
    caution: str
    rows: int
    detail: str
    hint: str
    examples: list[str]


class BranchRows(TypedDict):
    when: str
    rows: int


CaseBranches = TypedDict(
    "CaseBranches", {"case": str, "branches": list[BranchRows], "else": int, "else_unknown": int}
)


class ErrorEntry(TypedDict):
    column: str | None
    sqlstate: str
    rows: int
    example: Scalar
    row: int


class ErrorKindEntry(TypedDict):
    sqlstate: str
    rows: int
    example: Scalar
    row: int


class ValueCount(TypedDict):
    value: Scalar
    rows: int


# -- count
class DistinctEntry(TypedDict):
    on: str
    distinct: int
    null_rows: int
    error_rows: int


class KeyEntry(TypedDict):
    columns: list[str]
    null_rows: int
    repeated_rows: int


class TotalEntry(TypedDict):
    total: str
    value: Number
    null_rows: int
    error_rows: int


class CountedTable(TypedDict):
    table: str
    rows: int
    columns: int
    malformed: int
    read: dict[str, Any]  # the options of reading, as settled
    store_key: list[str] | None
    not_null: list[str]
    distinct: list[DistinctEntry]
    keys: list[KeyEntry]
    totals: list[TotalEntry]


class CountDocument(TypedDict):
    tables: list[CountedTable]


# -- look
class ShownRow(TypedDict):
    row: int
    values: dict[str, Scalar | list[Any]]


class LookDocument(TypedDict):
    table: str
    rows: int
    matching: int
    unknown: int
    errors: int
    malformed: int
    read: dict[str, Any]  # the options of reading, as settled
    types: dict[str, str]
    shown: list[ShownRow]
    cautions: list[CautionEntry]
    branches: list[CaseBranches]
    remarks: list[str]


# -- try
class ChangeEntry(TypedDict):
    before: str | None
    after: str | None
    rows: int


class AssignmentEntry(TypedDict):
    column: str | None
    changed: int
    unchanged: int
    errors: int
    filled: int
    emptied: int
    changes: list[ChangeEntry]
    error_kinds: list[ErrorKindEntry]


class TryDocument(TypedDict):
    table: str
    rows: int
    malformed: int
    read: dict[str, Any]  # the options of reading, as settled
    assignments: list[AssignmentEntry]
    cautions: list[CautionEntry]
    branches: list[CaseBranches]
    remarks: list[str]


# -- check
class CheckExample(TypedDict):
    row: int | None
    outcome: str
    values: dict[str, str | None]
    sqlstate: str | None


class CheckEntry(TypedDict):
    name: str
    condition: str
    holds: int
    fails: int
    unknown: int
    errors: int
    allowed: int
    passed: bool
    whole_table: bool
    examples: list[CheckExample]


class CheckDocument(TypedDict):
    table: str
    rows: int
    malformed: int
    read: dict[str, Any]  # the options of reading, as settled
    checks: list[CheckEntry]
    rows_that_do_not_hold: int
    set_aside: str | None
    cautions: list[CautionEntry]
    remarks: list[str]


# -- plans: clean, try --step, the record
class StepCheckEntry(TypedDict):
    check: str
    rows: int
    false: int
    unknown: int
    errors: int
    bad: int
    first: list[int]


StepEntry = TypedDict(
    "StepEntry",
    {
        "step": int,
        "verb": str,
        "note": str,
        "in": int,
        "changed": int,
        "added": int,
        "dropped": int,
        "merged": int,
        "set_aside": int,
        "out": int,
        "dropped_false": int,
        "dropped_unknown": int,
        "failed": int,
        "changed_columns": dict[str, int],
        "new_columns": list[str],
        "gone_columns": list[str],
        "rows": str | None,
        "not_concerned": int,
        "notes": dict[str, int],
        "words": str | None,
        "conflicts": dict[str, int],
        "checks": list[StepCheckEntry],
        "totals": dict[str, Number],
    },
)


class ProofEntry(TypedDict):
    proof: str
    holds: bool
    detail: str


class StepErrorEntry(ErrorEntry):
    step: int


class StepCautionEntry(CautionEntry):
    step: int


class TableChanges(TypedDict):
    updated: int
    deleted: int
    inserted: int
    cells: dict[str, int]


class CleanDocument(TypedDict):
    status: Literal["good", "failed"]
    rows_in: int
    rows_out: int
    malformed: int
    read: dict[str, Any]  # the options of reading, as settled
    steps: list[StepEntry]
    proofs: list[ProofEntry]
    errors: list[StepErrorEntry]
    cautions: list[StepCautionEntry]
    changes: TableChanges | None
    conflict: str | None
    output: str | None
    rejects: str | None
    record: str | None
    cleared: list[str]


class PathExample(TypedDict):
    path: str
    before: str | None
    after: str | None


class LeftRow(TypedDict):
    path: str
    outcome: str
    reason: str | None
    sqlstate: str | None
    into: str | None


class StepDocument(TypedDict):
    plan: str
    table: str
    malformed: int
    read: dict[str, Any]  # the options of reading, as settled
    step: StepEntry
    changes: dict[str, list[PathExample]]
    samples: dict[str, list[PathExample]]
    left: list[LeftRow]
    errors: list[ErrorEntry]
    stops: str | None
    cautions: list[CautionEntry]


class ColumnChange(TypedDict):
    column: str
    before: str | None
    after: str | None
    kind: str


class TraceEvent(TypedDict):
    step: int
    verb: str
    outcome: str
    changes: list[ColumnChange]
    reason: str | None
    sqlstate: str | None
    read: dict[str, str | None]
    into: str | None
    paths: list[str]


class TracePath(TypedDict):
    path: str
    events: list[TraceEvent]
    ends: str
    output_row: int | None


class TraceRow(TypedDict):
    row: int
    paths: list[TracePath]


class TraceDocument(TypedDict):
    plan: str
    table: str
    read: dict[str, Any]
    matching: int | None
    rows: list[TraceRow]


class MismatchEntry(TypedDict):
    what: str
    then: str
    now: str


class VerifyDocument(TypedDict):
    status: Literal["same", "differs"]
    findings: list[MismatchEntry]
    checked: list[str]


# -- compare
class ComparedTable(TypedDict):
    table: str
    rows: int
    malformed: int
    read: dict[str, Any]  # the options of reading, as settled


class Sides(TypedDict):
    before: int
    after: int


class ComparedColumn(TypedDict):
    column: str
    equal: int
    changed: int
    filled: int
    emptied: int


class TypeChange(TypedDict):
    column: str
    before: str
    after: str


class CellExample(TypedDict):
    key: dict[str, str | None]
    column: str
    before: str | None
    after: str | None
    before_row: int
    after_row: int


class AloneRow(TypedDict):
    row: int
    key: dict[str, str | None]


class CompareDocument(TypedDict):
    before: ComparedTable
    after: ComparedTable
    key: list[str]
    both: int
    only_before: int
    only_after: int
    repeated_keys: Sides
    repeated_rows: Sides
    null_keys: Sides
    changed_rows: int
    columns: list[ComparedColumn]
    only_before_columns: list[str]
    only_after_columns: list[str]
    types: list[TypeChange]
    examples: list[CellExample]
    only_before_examples: list[AloneRow]
    only_after_examples: list[AloneRow]
    status: Literal["same", "differs"]


# -- duplicates
class DuplicateRow(TypedDict):
    row: int
    values: dict[str, str | None]


class DuplicateGroup(TypedDict):
    group: int
    size: int
    rows: list[DuplicateRow]
    differs: list[str]


class LevelValue(TypedDict):
    value: str | None
    rows: int


class LevelEntry(TypedDict):
    level: str
    expression: str
    groups: int
    extra_rows: int
    new_groups: int
    examples: list[list[LevelValue]]


class LeftOutColumn(TypedDict):
    column: str
    groups: int


class DeduplicationProposal(TypedDict):
    by: list[str]
    prefer: str | None
    fill: list[str]
    disagree: dict[str, int]
    rescued: dict[str, int]
    step: str


class DuplicatesDocument(TypedDict):
    table: str
    on: list[str]
    level: str | None
    key: list[str]
    rows: int
    groups: int
    rows_in_groups: int
    extra_rows: int
    largest: int
    null_rows: int
    error_rows: int
    malformed: int
    read: dict[str, Any]  # the options of reading, as settled
    shown: list[DuplicateGroup]
    levels: list[LevelEntry]
    left_out: list[LeftOutColumn]
    proposal: DeduplicationProposal | None


class NearPair(TypedDict):
    a: int
    b: int
    measure: int | float
    a_value: str
    b_value: str


class NearDocument(TypedDict):
    table: str
    near: str
    measure: str  # distance, similarity
    bound: int | float
    block: str | None
    proposed_block: bool
    rows: int
    values: int
    null_rows: int
    error_rows: int
    unblocked_rows: int
    blocks: int
    compared: int
    value_pairs: int
    pair_count: int
    pairs: list[NearPair]
    clusters: list[list[int]]
    missed: str
    malformed: int
    read: dict[str, Any]  # the options of reading, as settled


# -- query
class QueryColumn(TypedDict):
    name: str
    type: str


StageEntry = TypedDict(
    "StageEntry", {"stage": str, "in": int, "out": int, "detail": str, "inputs": list[int]}
)


class QueryError(TypedDict):
    stage: str
    expression: str
    sqlstate: str
    rows: int
    row: int | None
    first_rows: list[int]


class QueryDocument(TypedDict):
    columns: list[QueryColumn]
    rows: list[list[Any]]
    row_count: int
    tables: dict[str, dict[str, Any]]  # how each was read: its options, as settled
    account: list[StageEntry]
    cautions: list[CautionEntry]
    remarks: list[str]
    errors: list[QueryError]
    written: str | None


# -- functions
class FunctionExample(TypedDict):
    expression: str
    result: str


class FunctionError(TypedDict):
    sqlstate: str
    meaning: str


class FunctionEntry(TypedDict):
    name: str
    family: str
    signatures: list[str]
    meaning: str
    examples: list[FunctionExample]
    errors: list[FunctionError]


class FunctionsDocument(TypedDict):
    functions: list[FunctionEntry]


# -- profile
class SampleEntry(TypedDict):
    rows: int
    of: int


class NearKeyEntry(TypedDict):
    column: str
    rows: int
    nulls: int
    values: list[ValueCount] | None


class DependencyException(TypedDict):
    by: Scalar
    value: Scalar
    rows: int
    usual: Scalar


class DependencyEntry(TypedDict):
    by: str
    column: str
    rows: int
    exceptions: list[DependencyException] | None


class FindingEntry(TypedDict):
    finding: str
    level: str
    column: str | None
    rows: int
    share: float
    detail: str
    see: str | None
    fix: str | None
    safe: bool


class LengthFigures(TypedDict):
    min: int | None
    max: int | None
    mean: float | None
    shortest: str | None
    longest: str | None


class TopValue(TypedDict):
    value: Scalar
    rows: int
    share: float


class SpaceFigures(TypedDict):
    leading: int
    trailing: int
    runs: int
    odd: int
    control: int


class CaseFigures(TypedDict):
    upper: int
    lower: int
    capitalised: int
    mixed: int
    none: int


class FitEntry(TypedDict):
    type: str
    rows: int
    share: float | None
    mismatches: list[ValueCount]


class DayMonthOrder(TypedDict):
    day_first: str
    month_first: str
    rows: int
    only_day_first: int
    only_month_first: int


class ShapeEntry(TypedDict):
    shape: str
    rows: int
    example: str


class VariantGroup(TypedDict):
    key: str
    values: list[ValueCount]


class PieceFigures(TypedDict):
    min: int
    max: int
    mean: float


class ListFigures(TypedDict):
    delimiter: str
    rows: int
    pieces: PieceFigures
    empty: int
    padded: int
    repeated: int


class DamageFigures(TypedDict):
    misdecoded: int
    replacement: int
    formula: int


HistogramBar = TypedDict("HistogramBar", {"from": Number, "to": Number, "rows": int})


class NumberFigures(TypedDict):
    fit: int
    mean: Number
    stddev: Number
    q1: Number
    median: Number
    q3: Number
    zero: int
    negative: int
    outside: int
    far_out: int
    histogram: list[HistogramBar]


class DayGap(TypedDict):
    after: str
    before: str
    days: int


class YearRows(TypedDict):
    year: int
    rows: int


class DateFigures(TypedDict):
    fit: int
    min: str | None
    max: str | None
    future: int
    january_first: int
    month_first: int
    gaps: list[DayGap]
    years: list[YearRows]


class FormatEntry(TypedDict):
    format: str
    rows: int
    fail: int
    examples: list[ValueCount]


class ProfiledColumn(TypedDict):
    name: str
    type: str
    nulls: int
    null_share: float | None
    empty: int
    blank: int
    padded: int
    distinct: int
    min: Scalar
    max: Scalar
    length: LengthFigures
    top: list[TopValue]
    spaces: SpaceFigures
    case: CaseFigures
    fits: list[FitEntry]
    both_orders: list[DayMonthOrder]
    loses_in_cast: int
    shapes: list[ShapeEntry]
    distinct_shapes: int
    variants: list[VariantGroup]
    variant_groups: int
    placeholders: list[ValueCount]
    placeholder_rows: int
    damage: DamageFigures
    numbers: NumberFigures | None
    dates: DateFigures | None
    formats: list[FormatEntry]
    list: ListFigures | None


class ProfileDocument(TypedDict):
    table: str
    rows: int
    sample: SampleEntry | None
    malformed: int
    read: dict[str, Any]  # the options of reading, as settled
    repeated_rows: int | None
    keys: list[list[str]]
    almost_keys: list[NearKeyEntry]
    null_together: list[list[str]]
    functional_dependencies: list[DependencyEntry]
    searched_columns: int
    findings: list[FindingEntry]
    columns: list[ProfiledColumn]


DOCUMENTS: dict[str, tuple[type, ...]] = {
    "count": (CountDocument,),
    "look": (LookDocument,),
    "profile": (ProfileDocument,),
    "try": (TryDocument, StepDocument),
    "check": (CheckDocument,),
    "duplicates": (DuplicatesDocument, NearDocument),
    "query": (QueryDocument,),
    "clean": (CleanDocument,),
    "trace": (TraceDocument,),
    "compare": (CompareDocument,),
    "verify": (VerifyDocument,),
    "functions": (FunctionsDocument,),
}
