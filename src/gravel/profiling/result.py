"""What a profile tells: frozen results that the terminal, the JSON and the HTML report all read.
Counts are rows unless said otherwise."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Annotated, Any

from gravel.figures import Double, Figures, Inline, NumberOf, Scalar, Unlisted, figure, figure_as
from gravel.inspecting.cells import json_value
from gravel.language.types import Type
from gravel.language.writing import is_one_of, quoted, text_literal
from gravel.sources.source import Chosen, Malformed


@dataclass(frozen=True)
class Lengths(Figures):
    """Least, greatest and mean length in characters of the known values, and the values that have
    the first two (the least by code point where several do); None where there is none."""

    min: int | None
    max: int | None
    mean: float | None
    shortest: str | None = None
    longest: str | None = None


@dataclass(frozen=True)
class Spaces(Figures):
    """Rows that begin or end with a plain space, have a run of plain spaces inside, white space
    other than the plain space (zero width characters too), control characters (but tab and line
    breaks). Blank values are in the last two only. untidy: what TIDY_SPACES would change, blank
    values apart; ends: single lines among them with a plain space at an end; inner: those that it
    would change further than that. lines: several lines."""

    leading: int = 0
    trailing: int = 0
    runs: int = 0
    odd: int = 0
    control: int = 0
    untidy: Unlisted[int] = 0
    ends: Unlisted[int] = 0
    inner: Unlisted[int] = 0
    lines: Unlisted[int] = 0


@dataclass(frozen=True)
class LetterCaseCounts(Figures):
    """Known values: capitals only, small letters only, as CAPITALIZE_WORDS writes them, otherwise
    mixed, no letter that has a case."""

    upper: int = 0
    lower: int = 0
    capitalised: int = 0
    mixed: int = 0
    none: int = 0


@dataclass(frozen=True)
class ValueRows(Figures):
    """A value and the rows that hold it; row: the first of them, where that is known."""

    value: str
    rows: int
    row: Unlisted[int] = 0


@dataclass(frozen=True)
class TopValue(Figures):
    """A frequent value, the rows that hold it, and their share of all rows."""

    value: Scalar
    rows: int
    share: float


@dataclass(frozen=True)
class Spelling(Figures):
    """A MATCH_KEY that several values share, and those values, the most frequent first."""

    key: str
    values: tuple[ValueRows, ...]


@dataclass(frozen=True)
class Fit(Figures):
    """Rows that FITS(x AS type) is true for, of those `known`, and the most frequent values that it
    is false for."""

    type: str
    rows: int
    mismatches: tuple[ValueRows, ...]
    known: Unlisted[int]

    @property
    @figure
    def share(self) -> float | None:
        """The share of the known values."""
        return self.rows / self.known if self.known else None


@dataclass(frozen=True)
class Orders(Figures):
    """Dates that fit a template with the day first and the same with the month first: rows that fit
    both, only the one, only the other."""

    day_first: str
    month_first: str
    rows: int
    only_day_first: int
    only_month_first: int

    @property
    def settled(self) -> bool:
        """Whether the values that fit one alone show which of the two it is."""
        return bool(self.only_day_first) != bool(self.only_month_first)


@dataclass(frozen=True)
class ValueShape(Figures):
    """A SHAPE, its rows, the value of the first of them, and that row."""

    shape: str
    rows: int
    example: str
    row: Unlisted[int] = 0


@dataclass(frozen=True)
class PieceCounts(Figures):
    """How many pieces the lists of a column have."""

    min: int
    max: int
    mean: float


@dataclass(frozen=True)
class ListInField(Figures):
    """A delimiter that looks like one, as it is mostly written. Over the values that hold it: rows;
    pieces, blank ones counted; rows with an empty piece, with other spaces around a piece than the
    delimiter has, with one that repeats another (both trimmed, blank ones apart).
    """

    delimiter: str
    rows: int
    pieces: PieceCounts
    empty: int
    padded: int
    repeated: int


@dataclass(frozen=True)
class Damage(Figures):
    """Rows with what UTF-8 read as another encoding looks like, with U+FFFD, and that a spreadsheet
    would run as a formula."""

    misdecoded: int = 0
    replacement: int = 0
    formula: int = 0


@dataclass(frozen=True)
class Bin(Figures):
    """A bar of a histogram: low <= value < high, the last one with its high end."""

    low: Annotated[Double, "from"]
    high: Annotated[Double, "to"]
    rows: int


@dataclass(frozen=True)
class Numbers(Figures):
    """Of the values that are finite numbers. stddev is the sample's (n - 1); quartiles as
    PERCENTILE_CONT (linear between neighbours); outside: more than 1.5 times the quartile range
    beyond a quartile; far_out: few, far beyond and apart from the rest (see spread). far_low and
    far_high: the least and greatest values that are not outliers, None where none is beyond;
    far_reach: quartile ranges from the quartile to the first of them; far_gap: the share of its
    distance to the median that is empty before it; far_row: the row, where only one is outliers.
    distinct_negative: different negative values; near_zero: positive ones no farther from zero than
    the least one.
    """

    fit: int
    mean: Double
    stddev: Double | None
    q1: Double
    median: Double
    q3: Double
    zero: int
    negative: int
    outside: int
    far_out: int
    histogram: tuple[Bin, ...]
    far_low: Unlisted[str | None] = None
    far_high: Unlisted[str | None] = None
    far_reach: Unlisted[float] = 0.0
    far_gap: Unlisted[float] = 0.0
    far_row: Unlisted[int] = 0
    distinct_negative: Unlisted[int] = 0
    least_positive: Unlisted[float | None] = None
    near_zero: Unlisted[int] = 0


@dataclass(frozen=True)
class Gap(Figures):
    """Two neighbouring days of a column that are unusually far apart."""

    after: str
    before: str
    days: int


@dataclass(frozen=True)
class YearRows(Figures):
    """The rows of a year."""

    year: int
    rows: int


@dataclass(frozen=True)
class Dates(Figures):
    """Of the values that are days: first and last, rows after today, rows on a 1 January, on the
    first of any month, gaps (the five longest among those of more than ten times the median step
    between neighbouring days), rows by year."""

    fit: int
    min: str
    max: str
    future: int
    january_first: int
    month_first: int
    gaps: tuple[Gap, ...]
    years: tuple[YearRows, ...] = ()


@dataclass(frozen=True)
class Form(Figures):
    """A well-known form that most known values have, the rows that have it, those that fail it,
    with examples."""

    format: str
    rows: int
    fail: int
    examples: tuple[ValueRows, ...]


@dataclass(frozen=True)
class ColumnProfile(Figures):
    """What a column holds. empty: ''; blank: not empty, only white space; padded: white space at an
    end of a value that is not blank; distinct: different values, NULL apart; min, max: texts by
    code point, others by value. loses_in_cast: texts whose cast to a number would lose a leading
    zero or plus. placeholders: the most frequent words that stand where nothing is known (not those
    that are values in such a column), of placeholder_rows in all; all_placeholders: whether any
    such word counts. spelling_groups: MATCH_KEYs that several values share, of which `spellings`
    has those that most rows are spread over; each has its values, the most frequent first.
    all_values: all different values, where they are few. rows: the table's; told: how many of the
    most frequent values are among the figures, None for all of them."""

    name: str
    type: Unlisted[Type]
    rows: Unlisted[int]
    nulls: int
    empty: int
    blank: int
    padded: int
    distinct: int
    min: Unlisted[str | None]
    max: Unlisted[str | None]
    length: Lengths
    top: Unlisted[tuple[tuple[str, int], ...]]
    spaces: Spaces
    case: LetterCaseCounts
    fits: tuple[Fit, ...]
    both_orders: tuple[Orders, ...]
    loses_in_cast: int
    shapes: tuple[ValueShape, ...]
    distinct_shapes: int
    variants: tuple[Spelling, ...]
    variant_groups: int
    placeholders: tuple[ValueRows, ...]
    placeholder_rows: int
    list: ListInField | None
    damage: Damage
    numbers: Numbers | None
    dates: Dates | None
    formats: tuple[Form, ...]
    all_placeholders: Unlisted[bool] = True
    all_values: Unlisted[tuple[ValueRows, ...]] = ()
    told: Unlisted[int | None] = 5

    @property
    @figure_as("type")
    def type_name(self) -> str:
        """Its type, without a precision."""
        return self.type.kind.value

    @property
    @figure
    def null_share(self) -> float | None:
        """The share of rows that have NULL."""
        return self.nulls / self.rows if self.rows else None

    @property
    @figure_as("min")
    def least(self) -> Scalar:
        """The least value."""
        return self._value(self.min)

    @property
    @figure_as("max")
    def greatest(self) -> Scalar:
        """The greatest value."""
        return self._value(self.max)

    @property
    @figure_as("top")
    def frequent(self) -> tuple[TopValue, ...]:
        """The most frequent values."""
        return tuple(
            TopValue(self._value(value), count, count / self.rows)
            for value, count in self.top[: self.told]
        )

    def _value(self, text: str | None) -> Scalar:
        value: Scalar = json_value(text, self.type.kind)
        return value


@dataclass(frozen=True)
class AlmostKey(Figures):
    """A column of which nearly every row has a value of its own. rows: those with NULL or a value
    that another row has too; values: the repeated ones with their rows, None where they are too
    many to tell."""

    column: str
    rows: int
    nulls: int
    values: tuple[ValueRows, ...] | None


@dataclass(frozen=True)
class DependencyException(Figures):
    """Rows with a value of `by`, but not the usual value of the column that it determines."""

    by: str
    value: str
    rows: int
    usual: str


@dataclass(frozen=True)
class Determined(Figures):
    """A column that another one determines but for some rows, NULLs in either apart. exceptions:
    None where they are too many to tell."""

    by: str
    column: str
    rows: int
    exceptions: tuple[DependencyException, ...] | None


@dataclass(frozen=True)
class StrayRows(Figures):
    """Rows that are none of the table's data. kind: "header" (the names of the columns again),
    "second header" (the first row, of units or of the rest of the names), "total" or "footer" (a
    text below the data); column: the one whose `values` tell them from all others; examples: what
    they hold that no data would; empty: columns that are NULL in one, and seldom otherwise. Of
    totals: sums: columns in which one is the sum of all other rows; certain: whether more than the
    word says so."""

    kind: str
    column: str
    values: tuple[ValueRows, ...]
    examples: tuple[str, ...]
    empty: tuple[str, ...] = ()
    sums: tuple[str, ...] = ()
    certain: bool = True

    @property
    def where(self) -> str:
        """The condition that is true for these rows, and unknown or false for the others."""
        values = (text_literal(item.value) for item in self.values)
        result = is_one_of(quoted(self.column), values)
        if self.kind == "footer":
            result += "".join(f" AND {quoted(column)} IS NULL" for column in self.empty)
        return result

    @property
    def leave_out(self) -> str:
        """The condition of a step that leaves them out, known in every row."""
        return f"({self.where}) IS TRUE"


@dataclass(frozen=True)
class KeptRule(Figures):
    """A rule between columns that the first rows suggest, and how many rows keep it. kind: "order"
    (the first day is not after the other), "sum" or "product" of all columns but the last, which is
    the last, "span" (the days from the first column to the second, which is the last). broken: the
    condition of the rows that do not keep it."""

    kind: str
    columns: tuple[str, ...]
    holds: int
    fails: int
    broken: Unlisted[str] = ""

    @property
    @figure
    def rule(self) -> str:
        """The rule as it may be read."""
        *others, last = self.columns
        if self.kind == "order":
            return f"{others[0]} <= {last}"
        return f"{last} = {self.computed}"

    @property
    def computed(self) -> str:
        """What the last column is; of many terms the middle is left out."""
        *others, _ = self.columns
        if self.kind == "span":
            return f"{others[1]} - {others[0]}"
        short = others if len(others) < 5 else [*others[:2], "…", others[-1]]
        return (" * " if self.kind == "product" else " + ").join(short)


@dataclass(frozen=True)
class TableFacts(Figures):
    """What is said of the table as a whole. empty_rows: every column is NULL. repeated_rows: rows
    equal to an earlier one in every column.
    keys: columns, then pairs of columns, that every row has a combination of its own of, without
    NULL. null_together: groups of columns that are NULL in the same rows. mismatches: by
    column, the type that a store declares, the values that do not match it, one of them.
    """

    empty_rows: int
    repeated_rows: int
    keys: tuple[tuple[str, ...], ...]
    almost_keys: tuple[AlmostKey, ...]
    null_together: tuple[tuple[str, ...], ...]
    functional_dependencies: tuple[Determined, ...]
    # columns that pairs and dependencies were looked for among
    searched_columns: int
    mismatches: Unlisted[dict[str, tuple[str, int, str]]] = field(default_factory=dict)
    # rows so poor in values that some must be equal
    repeated_by_chance: Unlisted[bool] = False
    # columns of bytes: nothing is said of their texts
    binary: Unlisted[frozenset[str]] = frozenset()
    stray: Unlisted[tuple[StrayRows, ...]] = ()
    rules: tuple[KeptRule, ...] = ()


@dataclass(frozen=True)
class Finding(Figures):
    """Something to act on. finding: its kind; level: wrong, suspect or note; where: the condition
    that is true for exactly these rows, or ''; fix: an assignment as `try` takes it, or ''; safe:
    the fix changes how a value is written, or leaves out what holds none, not what the table says;
    leave_out: the condition of a step that leaves the rows out, where that fixes them, or ''; see:
    the command that shows the rows; of: all rows of the table."""

    finding: str
    level: str
    column: str | None
    rows: int
    detail: str
    where: Unlisted[str] = ""
    fix: Unlisted[str] = ""
    safe: bool = False
    leave_out: Unlisted[str] = ""
    weight: Unlisted[float] = 0.0
    of: Unlisted[int] = 0
    see: str | None = None

    @property
    @figure
    def share(self) -> float:
        """The share of all rows."""
        return self.rows / self.of

    @property
    @figure
    def drop_rows(self) -> str | None:
        """The step drop_rows of a plan that fixes them, None if none does."""
        return self.leave_out or None

    @property
    @figure_as("fix")
    def assignment(self) -> str | None:
        """What fixes them, None if nothing does."""
        return self.fix or None


@dataclass(frozen=True)
class SampleInfo(Figures):
    """How many rows of how many were looked at."""

    rows: int
    of: int


@dataclass(frozen=True)
class Profile(Figures):
    """A table's rows and columns, and what was found. `rows` are those looked at: all but for a
    sample."""

    table: str
    rows: int
    facts: Inline[TableFacts]
    findings: tuple[Finding, ...]
    columns: tuple[ColumnProfile, ...]
    malformed: NumberOf[Malformed]
    notes: Unlisted[tuple[str, ...]]
    read: dict[str, Any]  # how its text was read
    sample: SampleInfo | None = None
    where: Chosen | None = None

    def of_column(self, name: str) -> Profile:
        """The same of one column, with all of its most frequent values that are known."""
        return replace(
            self,
            columns=tuple(replace(item, told=None) for item in self.columns if item.name == name),
            findings=tuple(item for item in self.findings if item.column == name),
        )
