"""What can be said of a value by itself: spaces, case, types that it fits, damage. One bit each, of
whole columns at once.

The bits depend on the value alone, so they are found once for a distinct value where a batch has
few of them, and travel with the distinct values: every count of rows by a bit is then a sum of
counts, whatever the batches were.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from gravel.engine.hashing import both_hashes, hashes
from gravel.kernels.arrays import to_arrow
from gravel.kernels.characters import BLANK, SPACES, ZERO_WIDTH
from gravel.kernels.native.source.texts import MARKS
from gravel.kernels.texts import mark_texts
from gravel.language.functions.buffers import HIGH, ByteSet, body, matches, maybe_padded, rows_with
from gravel.language.functions.casing import capitalize_words, tidy_spaces
from gravel.language.functions.damage import CONTROLS, FORMULA, MISDECODED, are_placeholders
from gravel.language.functions.spelling import match_key, shape
from gravel.language.types import Kind
from gravel.profiling import fits
from gravel.profiling.day_forms import DAYS, FORMS_OF, STYLES
from gravel.sources.type_inference import Fitting
from gravel.words import words

_NAMES = (
    *(name for name in MARKS if name != "doubtful"),
    "capitalised",
    "mixed",
    "placeholder",
    "total",
    "misdecoded",
    "replacement",
    "formula",
    "loses",
    "no_key",
    "number",
    "day",
    *(item.name for item in fits.TYPES),
    *DAYS,
    *STYLES,
)
BIT = {name: np.uint64(1 << at) for at, name in enumerate(_NAMES)}
_STYLED = np.uint64(sum(int(BIT[name]) for name in STYLES if name != "short"))
_DOUBTFUL = np.uint64(1 << MARKS.index("doubtful"))
_BOTH = BIT["upper"] | BIT["lower"]
DELIMITERS = {
    "list_semicolon": ";",
    "list_pipe": "|",
    "list_comma": ",",
    "list_slash": "/",
    "list_line": "\n",
}

_ODD, _SIGN = ByteSet(b"\t\n\x0b\x0c\r"), ByteSet(b"=+-@")
_CONTROL = ByteSet(bytes([*range(9), *range(14, 32), 127]))
_LONGEST_WORD = 40
_SUMS = words(
    "total totals totale totaal gesamt summe sum subtotal sub-total grand-total gesamtsumme"
    " zwischensumme"
) | {"grand total", "sub total", "total general"}
_TOTALS = pa.array(sorted(word + colon for word in _SUMS for colon in ("", ":", " :")))
ODD_SPACES = f"[{SPACES.replace(' ', '')}{ZERO_WIDTH}]"
INNER_RUN = "[^ ]  +[^ ]"
# U+FFFD, and what its three bytes look like when they were read as Windows-1252.
REPLACEMENT = r"\x{fffd}|ï¿½"


class Marked(Struct, frozen=True):
    """Of each value of an array: its bits (uint64), its number or day (float64, NaN for none), the
    hash that begins with its MATCH_KEY's, two hashes of its shape; and how many characters it
    has."""

    bits: np.ndarray
    number: np.ndarray
    first: np.ndarray
    shape: np.ndarray
    shape_second: np.ndarray
    characters: np.ndarray


def marked(array: pa.Array, fitting: Fitting, plain: np.ndarray) -> Marked:
    """The marks of a text array without NULLs; `fitting` is what all of its values fit, `plain` has
    a hash of each."""
    bits = np.zeros(len(array), np.uint64)
    _, data = body(array)
    plain_number = bool(fitting.kinds & {Kind.INTEGER, Kind.DECIMAL, Kind.DATE})

    def put(name: str, mask: np.ndarray) -> None:
        bits[mask] |= BIT[name]

    shapes = shape(array)
    shape_hash, shape_second = both_hashes(shapes)
    if plain_number:
        # Plain numbers and dates have no spaces, no case and nothing but digits and signs.
        number, characters = fits.put_plain(array, fitting, shapes, put), np.diff(body(array)[0])
    else:
        bits, doubtful, characters = _characters(array)
        _case(array, bits)
        _words(array, bits, put)
        _damage(array, doubtful, put)
        number = fits.put_fits(array, shapes, shape_hash, put)
    # The key of digits alone is the text itself.
    digits = plain_number and Kind.INTEGER in fitting.kinds and not (data == 45).any()
    return Marked(
        bits,
        number,
        plain if digits else _by_key(array, plain, put),
        shape_hash,
        shape_second,
        characters,
    )


def form_masks(bits: np.ndarray) -> Iterator[tuple[str, np.ndarray]]:
    """Which values are days by a template, for each that some value fits."""
    seen = np.bitwise_or.reduce(bits) if len(bits) else np.uint64(0)
    for day, forms in FORMS_OF.items():
        if not seen & BIT[day]:
            continue
        having = (bits & BIT[day]) != 0
        for form in forms:
            styled = np.uint64(sum(int(BIT[name]) for name in form.clock.styles))
            loose = having & ((bits & _STYLED) == styled)
            if not loose.any():
                continue
            yield form.loose, loose
            if form.loose != form.strict and not form.is_iso:
                strict = loose & ((bits & BIT["short"]) == 0)
                if strict.any():
                    yield form.strict, strict


def _characters(array: pa.Array) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """The marks that the characters of each text make, the texts that may be damaged (of those
    beyond ASCII all, where nothing tells better), and how many characters each has."""
    compiled = mark_texts(array)
    if compiled is not None:
        bits, characters = compiled
        doubtful = (bits & _DOUBTFUL) != 0
        return bits & ~_DOUBTFUL, doubtful, characters
    bits = np.zeros(len(array), np.uint64)
    high = rows_with(array, HIGH)

    def put(name: str, mask: np.ndarray) -> None:
        bits[mask] |= BIT[name]

    offsets, data = body(array)
    put("empty", np.diff(offsets) == 0)
    _spaces(array, data, high, put)
    upper = pc.not_equal(array, pc.ascii_lower(array)).to_numpy(zero_copy_only=False)
    lower = pc.not_equal(array, pc.ascii_upper(array)).to_numpy(zero_copy_only=False)
    if high.any():
        upper |= _among(array, high & ~upper, r"[\p{Lu}\p{Lt}]")
        lower |= _among(array, high & ~lower, r"\p{Ll}")
    put("upper", upper)
    put("lower", lower)
    for name, sign in DELIMITERS.items():
        put(name, rows_with(array, ByteSet(sign.encode())))
    return bits, high, pc.utf8_length(array).to_numpy()


def _by_key(array: pa.Array, plain: np.ndarray, put: Any) -> np.ndarray:
    """A hash of each value of which the upper 48 bits are those of its MATCH_KEY: sorted, spellings
    stand side by side."""
    keys = match_key(array)
    result = hashes(keys)
    none = np.zeros(len(array), bool)
    if keys.null_count:
        none = pc.is_null(keys).to_numpy(zero_copy_only=False)
        put("no_key", none)
    low = np.uint64(0xFFFF)
    return np.where(none, plain, (result & ~low) | (plain & low))


def _where(mask: np.ndarray, result: np.ndarray) -> np.ndarray:
    """A mask over all values from one over those of another mask."""
    output = np.zeros(len(mask), bool)
    output[np.flatnonzero(mask)[result]] = True
    return output


def _among(array: pa.Array, mask: np.ndarray, pattern: str) -> np.ndarray:
    """The values under a mask that match a pattern."""
    return _where(mask, matches(array.filter(to_arrow(mask)), pattern)) if mask.any() else mask


def _spaces(array: pa.Array, data: np.ndarray, high: np.ndarray, put: Any) -> None:
    """Marks of white space and control characters."""
    doubtful = maybe_padded(array)
    blank = _among(array, doubtful, f"^{BLANK}+$")
    put("blank", blank)
    put("padded", _among(array, doubtful & ~blank, f"^{BLANK}|{BLANK}$"))
    none = np.zeros(len(array), bool)
    odd = control = runs = none
    if len(data) and (int(data.min()) < 32 or int(data.max()) > 126):
        odd, control = rows_with(array, _ODD), rows_with(array, _CONTROL)
        odd |= _among(array, high & ~odd, ODD_SPACES)
        control |= _among(array, high & ~control, CONTROLS)
        put("odd", odd)
        put("lines", _among(array, odd, "[\\n\\r]"))
        put("control", control)
    offsets, data = body(array)
    space = data == 32
    if space.any():
        filled = np.diff(offsets) > 0
        put("leading", space[np.minimum(offsets[:-1], len(data) - 1)] & filled & ~blank)
        put("trailing", space[np.maximum(offsets[1:] - 1, 0)] & filled & ~blank)
        double = np.flatnonzero(space[1:] & space[:-1])
        if len(double):
            runs = none.copy()
            runs[np.searchsorted(offsets, double, side="right") - 1] = True
            put("runs", _among(array, runs, INNER_RUN))
    untidy = (doubtful | odd | runs | high) & ~blank
    if not untidy.any():
        return
    subset = to_arrow(untidy)
    before = array.filter(subset)
    after = tidy_spaces(before)
    put("untidy", _where(untidy, pc.not_equal(before, after).to_numpy(zero_copy_only=False)))
    lines = matches(before, "[\\n\\r]") if odd.any() else np.zeros(len(before), bool)
    trimmed = pc.if_else(to_arrow(lines), before, pc.utf8_trim(before, " "))
    put("ends", _where(untidy, pc.not_equal(before, trimmed).to_numpy(zero_copy_only=False)))
    put("inner", _where(untidy, pc.not_equal(trimmed, after).to_numpy(zero_copy_only=False)))


def _case(array: pa.Array, bits: np.ndarray) -> None:
    """Of texts in both cases, those that are as CAPITALIZE_WORDS would have them are capitalised;
    the others are mixed."""
    both = (bits & _BOTH) == _BOTH
    if not both.any():
        return
    subset = array.filter(to_arrow(both))
    alike = pc.equal(subset, capitalize_words(subset)).to_numpy(zero_copy_only=False)
    bits[both] &= ~_BOTH
    bits[both] |= np.where(alike, BIT["capitalised"], BIT["mixed"])


def _words(array: pa.Array, bits: np.ndarray, put: Any) -> None:
    """Words that stand for nothing, and those for a sum, whatever the spaces around them."""
    lengths = np.diff(body(array)[0])
    short = (lengths > 0) & (lengths <= _LONGEST_WORD)
    untidy = (bits & BIT["untidy"]) != 0
    for mask, tidy in ((short & ~untidy, _same), (untidy, tidy_spaces)):
        if mask.any():
            subset = array if mask.all() else array.filter(to_arrow(mask))
            tidied = tidy(subset)
            put("placeholder", _where(mask, are_placeholders(tidied)))
            totals = pc.is_in(pc.ascii_lower(tidied), _TOTALS).to_numpy(zero_copy_only=False)
            put("total", _where(mask, totals))


def _same(array: pa.Array) -> pa.Array:
    return array


def _damage(array: pa.Array, doubtful: np.ndarray, put: Any) -> None:
    if doubtful.any():
        put("misdecoded", _among(array, doubtful, MISDECODED))
        put("replacement", _among(array, doubtful, REPLACEMENT))
    offsets, data = body(array)
    if len(data):
        sign = _SIGN.table[data[np.minimum(offsets[:-1], len(data) - 1)]] & (np.diff(offsets) > 0)
        put("formula", _among(array, sign, FORMULA))
