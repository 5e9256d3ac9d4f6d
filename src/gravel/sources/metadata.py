"""Metadata beside a text file, as the W3C's CSV on the Web has it: read for how the file is
written and what its columns hold, and written.

Source: W3C Recommendations "Metadata Vocabulary for Tabular Data" and "Model for Tabular Data and
Metadata on the Web" (2015)."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

import pyarrow.compute as pc
from msgspec.structs import replace

from gravel.language.types import BOOLEAN, DATE, DOUBLE, INTEGER, TIMESTAMP, Kind, Type
from gravel.problems import TableProblem
from gravel.sources.dialect import NO_QUOTE, Dialect
from gravel.sources.read_options import ReadOptions
from gravel.sources.source import Batch, Source, scan
from gravel.words import words

CONTEXT = "http://www.w3.org/ns/csvw"
_INTEGERS = words(
    "integer int long short byte nonNegativeInteger positiveInteger nonPositiveInteger"
    " negativeInteger unsignedInt unsignedLong unsignedShort unsignedByte"
)
_DECLARED: dict[str, Type] = {
    **dict.fromkeys(_INTEGERS, INTEGER),
    **dict.fromkeys(("double", "float", "number"), DOUBLE),
    "boolean": BOOLEAN,
    "date": DATE,
    **dict.fromkeys(("dateTime", "datetime"), TIMESTAMP),
}
_BASES = {
    Kind.INTEGER: "integer",
    Kind.DECIMAL: "decimal",
    Kind.DOUBLE: "double",
    Kind.BOOLEAN: "boolean",
    Kind.DATE: "date",
    Kind.TIMESTAMP: "dateTime",
    Kind.TIME: "time",
}
_TRUTHS = ("true|false", "TRUE|FALSE", "True|False")
_MOMENT = "yyyy-MM-dd HH:mm:ss.SSSSSS"  # with up to six digits of a second (UTS 35)
_USED = words("delimiter quoteChar header headerRowCount skipRows commentPrefix encoding")
_OPTION = {"nulls": "null", "texts": "text", "empty_null": "empty"}  # options by their fields
_PLAIN = {"doubleQuote": True, "skipBlankRows": False, "skipColumns": 0, "trim": False}


def metadata_path(path: Path) -> Path:
    """Where the metadata of a file stands."""
    return path.parent / f"{path.name}-metadata.json"


def with_metadata(path: Path, asked: ReadOptions) -> tuple[ReadOptions, list[str]]:
    """What is asked for, and where nothing is, what the metadata beside a file says; with notes.
    Raises TableProblem for metadata that is none."""
    place = metadata_path(path)
    if asked.own or not place.is_file():
        return asked, []
    try:
        document = json.loads(place.read_text("utf-8-sig"))
        if not isinstance(document, dict) or CONTEXT not in json.dumps(document.get("@context")):
            return asked, []
        stated, unused = _reading(document)
    except (OSError, ValueError, TypeError, AttributeError, KeyError) as error:
        raise TableProblem(
            f"{place.name} is not metadata of a table: {str(error)[:80]}",
            hint="correct it, or take it away",
        ) from None
    plain = ReadOptions()
    used = {
        name: getattr(stated, name)
        for name in ReadOptions.__struct_fields__
        if getattr(stated, name) != getattr(plain, name)
        and getattr(asked, name) == getattr(plain, name)
        and _OPTION.get(name, name) not in asked.stated
    }
    if "decimal" in asked.stated:
        used.pop("group", None)  # the two are one notation
    notes = [f"read as {place.name} says"] if used else []
    if unused:
        notes.append(f"{place.name} says more, which is not used: {', '.join(unused)}")
    return replace(asked, **used), notes


def _reading(document: dict[str, Any]) -> tuple[ReadOptions, list[str]]:
    dialect = document.get("dialect") or {}
    schema = document.get("tableSchema") or {}
    unused = sorted(
        name
        for name, value in dialect.items()
        if name not in _USED and not name.startswith("@") and _PLAIN.get(name, value) != value
    )
    rows = dialect.get("headerRowCount", 1)
    header = None if "header" not in dialect and "headerRowCount" not in dialect else 1
    if dialect.get("header") is False or rows == 0:
        header = 0
    if rows > 1:
        unused.append("headerRowCount")
    nulls = set(_listed(document.get("null")))
    texts, dates, numbers = [], [], set()
    declared: dict[str, Type] = {}
    for column in schema.get("columns") or []:
        name = column.get("name") or (_listed(column.get("titles")) or [""])[0]
        nulls |= set(_listed(column.get("null")))
        datatype = column.get("datatype", "string")
        if isinstance(datatype, str):
            datatype = {"base": datatype}
        base, form = datatype.get("base", "string"), datatype.get("format")
        if base == "string":
            texts.append(name)
        elif isinstance(form, dict):
            numbers.add((form.get("decimalChar", "."), form.get("groupChar", "")))
        elif base in ("dateTime", "datetime") and form == _MOMENT:
            declared[name] = TIMESTAMP
        elif base in ("date", "dateTime", "datetime") and form and (day := _template(form)):
            dates.append(day)
        elif base in _DECLARED and (not form or (base == "boolean" and form in _TRUTHS)):
            declared[name] = _DECLARED[base]
        elif form:
            unused.append(f"the format of {name}")
    for part in ("foreignKeys", "rowTitles", "aboutUrl"):
        unused += [part] if part in schema else []
    if header == 0 and schema.get("columns"):
        unused.append("the names of its columns")
    decimal, group = next(iter(numbers), (".", ""))
    quote = dialect.get("quoteChar", '"')
    reading = ReadOptions(
        delimiter=dialect.get("delimiter"),
        encoding=dialect.get("encoding"),
        header=header,
        skip=int(dialect.get("skipRows", 0)),
        nulls=tuple(sorted(nulls - {""})),
        comment=str(dialect.get("commentPrefix") or "") if "commentPrefix" in dialect else "",
        quote=NO_QUOTE
        if quote is None
        else quote
        if isinstance(quote, str) and len(quote) == 1
        else '"',
        decimal=decimal,
        group=group,
        dates=tuple(dict.fromkeys(dates)),
        texts=tuple(texts),
        declared=declared,
    )
    return reading, unused


def _listed(value: Any) -> list[str]:
    if isinstance(value, dict):  # titles by language
        value = next(iter(value.values()), None)
    return [] if value is None else [value] if isinstance(value, str) else list(value)


def _template(form: str) -> str:
    """A date's format (UTS 35: dd.MM.yyyy) as a template; '' for one with other letters."""
    signs = {"yyyy": "YYYY", "yy": "YY", "MM": "MM", "M": "FMMM", "dd": "DD", "d": "FMDD"}
    parts = re.findall(r"([A-Za-z])(\1*)|([^A-Za-z]+)", form)
    words = [first + rest if first else other for first, rest, other in parts]
    if any(word[0].isalpha() and word not in signs for word in words) or form == "yyyy-MM-dd":
        return ""
    return "".join(signs.get(word, word) for word in words)


def _form(template: str) -> str:
    """A template as a date's format of UTS 35."""
    for ours, theirs in (
        ("FMDD", "d"),
        ("FMMM", "M"),
        ("DD", "dd"),
        ("YYYY", "yyyy"),
        ("YY", "yy"),
    ):
        template = template.replace(ours, theirs)
    return template


def written_forms(table: Source, types: dict[int, Type]) -> dict[int, str]:
    """How the timestamps and the truth values of a table's columns are written: what stands between
    day and time, 'T' or ' '; 'true|false', 'TRUE|FALSE' or 'True|False'; '' for several ways.
    Raises TableProblem."""
    kinds = (Kind.TIMESTAMP, Kind.BOOLEAN)
    wanted = [place for place, kind in types.items() if kind.kind in kinds]
    seen: dict[int, set[str]] = {place: set() for place in wanted}
    for batch in scan(table, Batch.texts, wanted) if wanted else ():
        for place in wanted:
            texts = batch.columns[place]
            if types[place].kind is Kind.TIMESTAMP:
                texts = pc.utf8_slice_codeunits(texts, 10, 11)
            seen[place] |= {text for text in pc.unique(texts).to_pylist() if text}
    return {
        place: _truth(forms)
        if types[place].kind is Kind.BOOLEAN
        else min(forms)
        if len(forms) == 1
        else ""
        for place, forms in seen.items()
    }


def _truth(values: set[str]) -> str:
    """The form that has all truth values of a column; '' where none has."""
    return next((form for form in _TRUTHS if values <= {*form.split("|")}), "")


def metadata_of(
    file: str,
    columns: dict[str, Type],
    dialect: Dialect,
    reading: ReadOptions,
    forms: dict[str, str],
) -> str:
    """The metadata of a text file, as JSON: its dialect as it was settled, its columns with their
    types. `forms`: how timestamps and truth values are written, by columns; see `written_forms`."""
    described: dict[str, Any] = {
        "delimiter": dialect.delimiter,
        "encoding": dialect.encoding,
        "header": reading.header != 0,
        "quoteChar": None if dialect.quote == NO_QUOTE else dialect.quote,
    }
    if reading.header == 0:
        described["headerRowCount"] = 0
    skipped = reading.skip + max(0, (reading.header or 1) - 1)
    described |= {"skipRows": skipped} if skipped else {}
    described |= {"commentPrefix": reading.comment} if reading.comment else {}
    schema = []
    for name, kind in columns.items():
        base = _BASES.get(kind.kind, "string")
        datatype: Any = base
        if base in ("integer", "decimal", "double") and (reading.decimal != "." or reading.group):
            form = {"decimalChar": reading.decimal}
            form |= {"groupChar": reading.group} if reading.group else {}
            datatype = {"base": base, "format": form}
        if base == "boolean" and (truth := forms.get(name, _TRUTHS[0])) != _TRUTHS[0]:
            datatype = {"base": base, "format": truth} if truth else "string"
        if base == "dateTime" and (sign := forms.get(name, " ")) != "T":
            # The standard's own form has a T; both in one column are no form.
            datatype = {"base": base, "format": _MOMENT} if sign else "string"
        if base == "date" and reading.dates:
            datatype = {"base": base, "format": _form(reading.dates[0])}
        schema.append({"name": re.sub(r"\W", "_", name), "titles": name, "datatype": datatype})
    document = {
        "@context": CONTEXT,
        "url": file,
        "dialect": described,
        "null": ["", *reading.nulls],
        "tableSchema": {"columns": schema},
    }
    return json.dumps(document, indent=2, ensure_ascii=False) + "\n"
