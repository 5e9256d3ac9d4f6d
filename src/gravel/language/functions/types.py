"""CAST, FITS and CAST_OR_NULL as the catalogue shows them; `casts` does the work."""

from __future__ import annotations

from gravel.language.functions.catalogue import describe

_ERRORS = ("22018", "22003", "22007", "22008", "22001")

describe(
    "CAST(x ANY) ANY",
    family="types",
    meaning=(
        "CAST(x AS type): x as a value of that type; plain spaces around a text are ignored; a text"
        " that does not fit is a row error. CAST(x AS type FORMAT 'template') reads and writes"
        " dates and times of another form: YYYY YY, MM, MON (Jan) MONTH (January), DD, DDD (of the"
        ' year), HH24 HH12 AM, MI, SS, FF1 to FF6, "T" (any text in double quotes);'
        " FM before a part: without zeros. An ARRAY of a type is read from JSON text"
    ),
    examples={
        "CAST(' 42 ' AS INTEGER)": "42",
        "CAST('9.257' AS DECIMAL(6,2))": "9.26",
        "CAST(DATE '2024-05-01' AS TEXT)": "'2024-05-01'",
        "CAST('true' AS BOOLEAN)": "TRUE",
        'CAST(\'["water", "power"]\' AS TEXT ARRAY)': "ARRAY['water', 'power']",
        "CAST('31.12.2024' AS DATE FORMAT 'DD.MM.YYYY')": "DATE '2024-12-31'",
        "CAST('3 Feb 2024' AS DATE FORMAT 'FMDD MON YYYY')": "DATE '2024-02-03'",
        "CAST(DATE '2024-05-01' AS TEXT FORMAT 'Month YYYY')": "'May 2024'",
    },
    errors=_ERRORS,
)
describe(
    "FITS(x ANY) BOOLEAN",
    family="types",
    meaning=(
        "FITS(x AS type): whether CAST gives a value; unknown for NULL, since a NULL is not a type"
        " mismatch"
    ),
    examples={
        "FITS('12,5' AS DECIMAL)": "FALSE",
        "FITS('12.5' AS DECIMAL)": "TRUE",
        "FITS(NULL AS DATE)": "NULL",
    },
)
describe(
    "CAST_OR_NULL(x ANY) ANY",
    family="types",
    meaning="CAST_OR_NULL(x AS type): the cast's value, NULL where it does not fit",
    examples={"CAST_OR_NULL('ca. 9' AS INTEGER)": "NULL", "CAST_OR_NULL('9' AS INTEGER)": "9"},
)
