"""What of a column fits a type, and the words in it that stand for nothing."""

from __future__ import annotations

from gravel.kernels.rules import tidied
from gravel.language.writing import is_one_of, quoted, text_literal
from gravel.profiling.result import ColumnProfile, Fit

FEW = 0.1  # a tenth: what is rarer beside a rule that the rest keeps is an exception to it


def best_fit(fits: tuple[Fit, ...]) -> Fit | None:
    """The type that most values fit; of equal ones the first, INTEGER before DECIMAL. NaN alone
    makes no column one of doubles."""
    by_type = {fit.type: fit for fit in fits}
    mismatches = by_type["DECIMAL"].mismatches if "DECIMAL" in by_type else ()
    no_numbers = sum(item.rows for item in mismatches if _is_nan(item.value))

    def rows(fit: Fit) -> int:
        return fit.rows - (no_numbers if fit.type == "DOUBLE PRECISION" else 0)

    return max(
        (fit for fit in fits if rows(fit) > 0 and "YYYYMMDD" not in fit.type),
        key=rows,
        default=None,
    )


def _is_nan(value: str) -> bool:
    return value.strip(" ").lower() == "nan"


def unfit_words(column_profile: ColumnProfile, best: Fit | None) -> int:
    """Rows with a word for nothing that is not a value of the type: NaN is a DOUBLE."""
    doubles = best is not None and best.type == "DOUBLE PRECISION"
    return column_profile.placeholder_rows - sum(
        word.rows for word in column_profile.placeholders if doubles and _is_nan(word.value)
    )


def placeholder_condition(column_profile: ColumnProfile) -> str:
    if column_profile.all_placeholders:
        return f"IS_PLACEHOLDER({quoted(column_profile.name)})"
    return is_one_of(
        f"LOWER(TIDY_SPACES({quoted(column_profile.name)}))",
        map(
            text_literal,
            sorted({tidied(word.value).lower() for word in column_profile.placeholders}),
        ),
    )
