"""Aggregates as the catalogue shows them; they belong in queries and checks, and `querying` does
the work."""

from __future__ import annotations

from collections.abc import Mapping

from gravel.language.functions.catalogue import describe

_NUMBERS = "FROM (VALUES (1), (2), (10), (20)) AS v(x)"
_WORDS = "FROM (VALUES ('mail'), (NULL), ('crane')) AS v(x)"


def _aggregate(
    signature: str, meaning: str, examples: Mapping[str, str], errors: tuple[str, ...] = ()
) -> None:
    describe(signature, family="aggregates", meaning=meaning, examples=examples, errors=errors)


_aggregate(
    "COUNT(x ANY) INTEGER",
    "COUNT(*): rows; COUNT(x): rows in which x is known; COUNT(DISTINCT x): its different known"
    " values; every aggregate takes DISTINCT and FILTER (WHERE condition)",
    {
        "SELECT COUNT(*) FROM (VALUES (1), (NULL), (1)) AS v(x)": "3",
        "SELECT COUNT(x) FROM (VALUES (1), (NULL), (1)) AS v(x)": "2",
        "SELECT COUNT(DISTINCT x) FROM (VALUES (1), (NULL), (1)) AS v(x)": "1",
        "SELECT COUNT(*) FILTER (WHERE x > 1) FROM (VALUES (1), (2), (3)) AS v(x)": "2",
    },
)
_aggregate(
    "SUM(x NUMBER) NUMBER",
    "the sum of the known values, exact for INTEGER and DECIMAL; NULL where there is none",
    {
        "SELECT SUM(x) FROM (VALUES (1.25), (NULL), (2)) AS v(x)": "3.25",
        "SELECT SUM(x) FROM (VALUES (1)) AS v(x) WHERE x > 1": "NULL",
    },
    ("22003",),
)
_aggregate(
    "AVG(x NUMBER) NUMBER",
    "the mean of the known values, divided as / divides; NULL where there is none",
    {"SELECT AVG(x) FROM (VALUES (1), (NULL), (2)) AS v(x)": "1.5000000000000000"},
    ("22003",),
)
_aggregate(
    "MIN(x ANY) ANY",
    "the least known value, texts by code point",
    {"SELECT MIN(x) FROM (VALUES ('b'), (NULL), ('B')) AS v(x)": "'B'"},
)
_aggregate(
    "MAX(x ANY) ANY",
    "the greatest known value, texts by code point",
    {"SELECT MAX(x) FROM (VALUES (3), (NULL), (10)) AS v(x)": "10"},
)
for _name, _said, _result in (
    ("STDDEV_SAMP", "the sample's standard deviation (n - 1), NULL for a single value", "1"),
    ("STDDEV_POP", "the standard deviation of the whole (n)", "0.816496580927726"),
    ("VAR_SAMP", "the sample's variance (n - 1), NULL for a single value", "1"),
    ("VAR_POP", "the variance of the whole (n)", "0.6666666666666666"),
):
    _aggregate(
        f"{_name}(x NUMBER) DOUBLE",
        _said,
        {f"SELECT {_name}(x) FROM (VALUES (1), (2), (3)) AS v(x)": _result},
    )
_aggregate(
    "LISTAGG(x TEXT [, separator TEXT]) TEXT",
    "the known texts joined, in the order of WITHIN GROUP (ORDER BY …) or else of the rows",
    {f"SELECT LISTAGG(x, ';') WITHIN GROUP (ORDER BY x) {_WORDS}": ("'crane;mail'")},
)
_aggregate(
    "ANY_VALUE(x ANY) ANY",
    "a known value: that of the first row which has one",
    {"SELECT ANY_VALUE(x) FROM (VALUES (NULL), (7), (8)) AS v(x)": "7"},
)
_aggregate(
    "PERCENTILE_CONT(share NUMBER) DOUBLE",
    "WITHIN GROUP (ORDER BY x): the value at that share of the known ones, linear between"
    " neighbours",
    {f"SELECT PERCENTILE_CONT(0.5) WITHIN GROUP (ORDER BY x) {_NUMBERS}": ("6")},
)
_aggregate(
    "PERCENTILE_DISC(share NUMBER) ANY",
    "WITHIN GROUP (ORDER BY x): the first of the known values, in order, whose share is reached",
    {f"SELECT PERCENTILE_DISC(0.5) WITHIN GROUP (ORDER BY x) {_NUMBERS}": ("2")},
)
_aggregate(
    "GROUPING(x ANY) INTEGER",
    "with ROLLUP, CUBE and GROUPING SETS: 1 where x is NULL because the row is of all its values,"
    " else 0; of several a bit each",
    {f"SELECT MAX(g) FROM (SELECT GROUPING(x) AS g {_NUMBERS} GROUP BY ROLLUP (x)) AS q": ("1")},
)
_aggregate(
    "EVERY(x BOOLEAN) BOOLEAN",
    "whether the condition is true in every row in which it is known",
    {
        "SELECT EVERY(x > 1) FROM (VALUES (1), (NULL), (2)) AS v(x)": "FALSE",
        "SELECT EVERY(x > 0) FROM (VALUES (1), (NULL)) AS v(x)": "TRUE",
    },
)
_aggregate(
    "ARRAY_AGG(x ANY) ARRAY",
    "all values as an array, NULL too, in the order of the rows or of ARRAY_AGG(x ORDER BY …)",
    {"SELECT ARRAY_AGG(x ORDER BY x DESC) FROM (VALUES (1), (3), (2)) AS v(x)": "ARRAY[3, 2, 1]"},
)
_PAIRS = "(VALUES (1, 1), (3, 2), (2, 3), (NULL, 9)) AS v(y, x)"
for _name, _said, _result in (
    ("CORR", "the correlation coefficient", "0.5"),
    ("COVAR_POP", "the covariance of the whole", "0.3333333333333333"),
    ("COVAR_SAMP", "the sample's covariance", "0.5"),
    ("REGR_SLOPE", "the slope of the line of least squares", "0.5"),
    ("REGR_INTERCEPT", "where that line meets x = 0", "1"),
    ("REGR_R2", "the square of the correlation coefficient", "0.25"),
    ("REGR_COUNT", "the pairs", "3"),
    ("REGR_AVGX", "the mean of x", "2"),
    ("REGR_AVGY", "the mean of y", "2"),
    ("REGR_SXX", "the sum of squares of x about its mean", "2"),
    ("REGR_SYY", "the sum of squares of y about its mean", "2"),
    ("REGR_SXY", "the sum of products about the means", "1"),
):
    _aggregate(
        f"{_name}(y NUMBER, x NUMBER) {'INTEGER' if _name == 'REGR_COUNT' else 'DOUBLE'}",
        f"{_said}, of the rows in which both y (dependent) and x are known",
        {f"SELECT {_name}(y, x) FROM {_PAIRS}": _result},
    )
