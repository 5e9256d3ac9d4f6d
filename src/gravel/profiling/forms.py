"""Which well-known forms a column has: decided by its first values, then counted over all rows."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable

import numpy as np
import pyarrow as pa
from msgspec import Struct, field

from gravel.kernels.arrays import to_arrow
from gravel.language.functions.damage import PLACEHOLDERS
from gravel.language.functions.wellknown import FORMS, rows_of
from gravel.profiling.result import Form, ValueRows

# (share of the rows that must have the form, how many different values that must be at least):
# random digits or letters have some of the forms by chance.
_NEEDED = {
    "LUHN": (0.8, 5),
    "COUNTRY": (0.8, 12),
    "CURRENCY": (0.6, 1),
    "ISBN": (0.5, 2),
    "GTIN": (0.8, 5),
}
# What a text of each form has at least: the look that spares most columns the closer one.
_LOOKS: dict[str, Callable[[str], bool]] = {
    "E-MAIL": lambda text: "@" in text, "URL": lambda text: "://" in text,
    "UUID": lambda text: len(text) == 36,
    "IPV4": lambda text: text.count(".") == 3, "IPV6": lambda text: text.count(":") >= 2,
    "COUNTRY": lambda text: len(text) == 2,
    "CURRENCY": lambda text: len(text) == 3,
    "IBAN": lambda text: len(text) >= 15 and text[:2].isalpha(),
    "ISBN": lambda text: 10 <= len(text) <= 20 and text[:1].isdigit(),
    "GTIN": lambda text: len(text) in (8, 12, 13, 14) and text.isdigit(),
    "LUHN": lambda text: 12 <= len(text) <= 24 and text[:1].isdigit(),
    "JSON": lambda text: text[:1] in ("{", "["),
}  # fmt: skip
_MANY = 10_000
_GLANCE = 20


def forms_of(values: list[tuple[str, int]]) -> list[str]:
    """The forms that most rows of some values have; (value, rows) pairs, each value once."""
    subset = [
        (value, rows)
        for value, rows in values
        if value.strip() and value.strip().lower() not in PLACEHOLDERS
    ]
    if not subset:
        return []
    array = pa.array([value for value, _ in subset], pa.string())
    rows = np.array([count for _, count in subset])
    results = []
    for form in FORMS:
        share, least = _NEEDED.get(form, (0.5, 1))
        if not any(_LOOKS[form](value.strip(" ")) for value, _ in subset[:_GLANCE]):
            continue  # a form that most values have is among the first ones
        if form == "GTIN" and "ISBN" in results:
            continue  # each is one
        have = rows_of(array, form)
        if have.sum() >= least and rows[have].sum() >= share * rows.sum():
            results.append(form)
    return results


# Of a batch: rows with the form, known rows without it, and their values with rows.
FormPart = tuple[int, int, list[tuple[str, int]]]


class FormState(Struct):
    """Rows that have a form and that fail it, and the values that fail, batch by batch until there
    are many."""

    rows: int = 0
    fail: int = 0
    values: Counter[str] = field(default_factory=Counter)
    batches: list[list[tuple[str, int]]] = field(default_factory=list)

    def add(self, part: FormPart) -> None:
        """Take in a batch's counts, in the order of the table."""
        have, fail, values = part
        self.rows += have
        self.fail += fail
        self._keep(values)

    def merge(self, later: FormState) -> None:
        """Take in the state of the rows that follow."""
        self.rows += later.rows
        self.fail += later.fail
        for values in later.batches:
            self._keep(values)

    def _keep(self, values: list[tuple[str, int]]) -> None:
        if values and len(self.values) < _MANY:
            self.batches.append(values)
            self.values.update(dict(values))

    def result(self, form: str) -> Form:
        """The figures of the whole column."""
        ranked = sorted(self.values.items(), key=lambda item: (-item[1], item[0]))[:5]
        return Form(form, self.rows, self.fail, tuple(ValueRows(*item) for item in ranked))


def form_part(array: pa.Array, form: str) -> FormPart:
    """Of a batch of texts: rows with the form, known rows without it, and their values with
    rows."""
    coded = array.drop_null().dictionary_encode()
    counts = np.bincount(coded.indices.to_numpy(), minlength=len(coded.dictionary))
    have = rows_of(coded.dictionary, form)
    bad = np.flatnonzero(~have)[:_MANY]
    texts = coded.dictionary.take(to_arrow(bad)).to_pylist()
    return (
        int(counts[have].sum()),
        int(counts[~have].sum()),
        list(zip(texts, counts[bad].tolist(), strict=True)),
    )
