"""Expressions of one command bound to a table: only the columns they read are given types, in one
pass."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from functools import partial

import numpy as np

from gravel.engine.arrow_values import has_type, is_finest, is_list, plain_type, type_of
from gravel.engine.evaluate import run
from gravel.engine.frame import Frame
from gravel.language import nodes, parse, tree
from gravel.language.bind import refuse_unknown_functions
from gravel.language.coercion import name_of_type
from gravel.language.diagnostics import Diagnostic
from gravel.language.functions.casts import to_text
from gravel.language.scope import Given, Scope, find_column
from gravel.language.types import BOOLEAN, TEXT, Target, Type
from gravel.language.writing import quoted
from gravel.sources.source import Batch, Source, scan
from gravel.words import number_of


def columns_named(
    syntax: Iterable[tuple[object, str]], columns: Sequence[str], others: Sequence[str] = ()
) -> list[int]:
    """Positions of the table's columns that some syntax trees name (each with its text); names in
    `others` are passed over. Raises Diagnostic at an unknown one."""
    result = set()
    for node, text in syntax:
        refuse_unknown_functions(node, text)
        for name in sorted(parse.column_names(node), key=lambda item: item.start):
            if name.text not in others:
                result.add(find_column(name, (*columns, *others), text))
    return sorted(index for index in result if index < len(columns))


def scope_of(table: Source, wanted: Sequence[int], context: Given | None = None) -> Scope:
    """The table's columns as a scope, with types for the wanted ones (TEXT stands for the
    others)."""
    known = table.types(wanted)
    types = tuple(known.get(index, TEXT) for index in range(len(table.columns)))
    declared = frozenset(getattr(table, "declared", ()))
    note_types(table, known)
    return Scope(tuple(table.columns), types, declared, context or Given())


def note_types(table: Source, read: Mapping[int, Type]) -> None:
    """Note which of the columns that expressions read, given with what they are read as, are of
    types that the language has not."""
    for index, kind in read.items():
        field = table.fields.get(index)
        declared = getattr(table, "declared", {}).get(table.columns[index])
        if field is None or declared is not None or (is_finest(field.type) and kind != TEXT):
            continue
        if not has_type(field.type):
            note = (
                f"{field.name} is {field.type}: the language has no such type, and reads its text"
            )
            if is_list(field.type):
                item = type_of(plain_type(field.type.value_type))
                note += f"; CAST({quoted(field.name)} AS {item} ARRAY) makes an array of it"
            if note not in table.notes:
                table.notes.append(note)


@contextmanager
def explaining(table: Source, scope: Scope) -> Iterator[None]:
    """Binding whose mistakes of type are told with how many rows of the table the proposed cast
    would not fit."""
    try:
        yield
    except Diagnostic as problem:
        if problem.fix is not None:
            operand, target = problem.fix
            _count_mismatches(table, scope, operand, target, problem)
        raise


def _count_mismatches(
    table: Source, scope: Scope, operand: nodes.Expression, target: Target, problem: Diagnostic
) -> None:
    fits = nodes.BoundCast(BOOLEAN, operand.start, operand.end, operand, target, "FITS")
    read = reads([operand], len(table.columns))
    if not read:
        return
    rows, bad, first, example = 0, 0, 0, ""

    work = partial(_unfit, scope.types, operand, fits)
    for count, mismatches, row, text in scan(table, work, read):
        rows, bad = rows + count, bad + mismatches
        if mismatches and not first:
            first, example = row, text
    name = name_of_type(target.type)
    if not bad:
        problem.detail = f"every one of {number_of(rows)} fits {name}, NULLs apart"
        return
    problem.detail = (
        f"{bad:,} of {rows:,} rows {'does' if bad == 1 else 'do'} not fit {name}, such as"
        f" {example[:40]!r} in row {first:,}"
    )
    if "CAST(" in problem.hint:
        problem.hint += "; CAST_OR_NULL makes NULL of what does not fit"


def _unfit(
    types: Sequence[Type], operand: nodes.Expression, fits: nodes.Expression, batch: Batch
) -> tuple[int, int, int, str]:
    """The rows of a batch, those whose operand does not fit, the first of them and its text."""
    frame = Frame(batch.count, batch.columns, types)
    where = np.flatnonzero(run(fits, frame).false(batch.count))
    if not len(where):
        return batch.count, 0, 0, ""
    value = to_text(run(operand, frame).values, operand.type)[int(where[0])].as_py()
    return batch.count, len(where), int(batch.rows[where[0]]), value


_SORTED = re.compile(r"(.+?)((?:\s+(?:ASC|DESC))?(?:\s+NULLS\s+(?:FIRST|LAST))?)", re.IGNORECASE)


def with_quotes(text: str, columns: Sequence[str]) -> str:
    """A list of expressions, or of sort keys, in SQL: names of columns that stand there as they are
    called, as `berth no` or `group`, are put in quotes."""
    if text in columns:
        return quoted(text)
    parts = [_SORTED.fullmatch(part.strip()) for part in text.split(",")]
    keys = [quoted(part[1]) + part[2] for part in parts if part and part[1] in columns]
    return ", ".join(keys) if len(keys) == len(parts) else text


def split_list(text: str, columns: Sequence[str]) -> list[int]:
    """Positions of the columns in a list of names, `a, "b c"`. Raises Diagnostic."""
    results, text = [], with_quotes(text, columns)
    for node in parse.expression_list(text):
        if not isinstance(node, tree.Name):
            raise Diagnostic("a column name is needed here", text, node.start, node.end)
        results.append(find_column(node, columns, text))
    return results


def names_in(texts: Iterable[str], columns: Sequence[str]) -> list[str]:
    """The columns that texts name: each one, as it is called, or several with commas between
    them; in double quotes as well."""
    names = [
        name.strip() for text in texts for name in ([text] if text in columns else text.split(","))
    ]
    return [
        name[1:-1] if re.fullmatch('".+"', name) and name not in columns else name for name in names
    ]


def expressions_in(texts: Iterable[str], columns: Sequence[str]) -> list[str]:
    """The expressions of texts that are lists of them. Raises Diagnostic."""
    return [
        text[node.start : node.end]
        for text in (with_quotes(text, columns) for text in texts)
        for node in parse.expression_list(text)
    ]


def reads(expressions: Iterable[nodes.Expression], limit: int) -> list[int]:
    """Positions of the table's columns that bound expressions read, those below `limit`."""
    return sorted(
        {
            column.index
            for expression in expressions
            for column in nodes.columns_read(expression)
            if column.index < limit
        }
    )
