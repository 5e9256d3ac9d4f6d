"""What happens to texts on their way: wrong decodings, control characters, formulas, words where
nothing is known."""

from __future__ import annotations

import re

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.kernels.arrays import to_arrow
from gravel.language.functions.buffers import HIGH, by_value, matches, on_rows, rows_with, valid
from gravel.language.functions.casing import tidy_spaces
from gravel.language.functions.catalogue import function
from gravel.words import words

# What cp1252 or Latin-1 makes of the continuation bytes of UTF-8, 0x80 to 0xBF; after the leads
# that also begin words, only what no writer puts there.
_TAIL = r"\x{80}-\x{bf}€‚ƒ„…†‡ˆ‰Š‹ŒŽ‘’“”•–—˜™š›œžŸ"
_SURE_TAIL = r"\x{80}-\x{9f}¡-ª¬\x{ad}®-º¼-¾€‚ƒ…†‡ˆ‰Š‹ŒŽ•˜™š›œžŸ"
MISDECODED = rf"[ÂÃ][{_TAIL}]|[ÄÅÎÏÐÑ][{_SURE_TAIL}]|â[\x{{80}}-\x{{84}}€‚ƒ„][{_TAIL}]|ðŸ[{_TAIL}]"
CONTROLS = r"[\x00-\x08\x0e-\x1f\x7f-\x{84}\x{86}-\x{9f}]"
# A spreadsheet runs what begins with = or @name, or with a sign before a name, a bracket or a sum.
FORMULA = r"^(?:=.|@[A-Za-z]|[+-](?:[A-Za-z(=@]|[0-9.]+(?:[-+*/^][0-9.]+)+\z))"

# Words that people write where nothing is known; matched against LOWER(TIDY_SPACES(x)). The first
# ones are nothing else; the others are values elsewhere: Nan is a province, NA a country, "Missing"
# the title of a film.
SURE_PLACEHOLDERS = words(
    "n/a n.a. n.a n/k (null) <null> (none) <none> #n/a #null! - -- --- – — ? ?? ??? . .. ... / // "
    "(unknown) unbekannt (missing) (empty) (blank) unknown"
) | {"not known", "not available", "not applicable", "not given", "no data", "no value",
    "to be defined", "no answer"}  # fmt: skip
OTHER_PLACEHOLDERS = words(
    "na nk null none nil nan unk undefined undef missing empty blank tbd tba tbc xxx"
)
PLACEHOLDERS = SURE_PLACEHOLDERS | OTHER_PLACEHOLDERS
_PLACEHOLDERS = pa.array(sorted(PLACEHOLDERS))


def are_placeholders(tidy: pa.Array) -> np.ndarray:
    """Mask of the tidied texts that are words for nothing."""
    result: np.ndarray = pc.is_in(pc.ascii_lower(tidy), _PLACEHOLDERS).to_numpy(
        zero_copy_only=False
    )
    return result


def _truth(mask: np.ndarray, x: pa.Array) -> pa.Array:
    return to_arrow(mask, mask=~valid(x))


@function(
    "IS_PLACEHOLDER(x TEXT) BOOLEAN",
    meaning=(
        "whether x is a word that people write where nothing is known: n/a, -, ?, unknown, none,"
        " tbd and others, in any case"
    ),
    examples={
        "IS_PLACEHOLDER(' N/A')": "TRUE",
        "IS_PLACEHOLDER('unknown')": "TRUE",
        "IS_PLACEHOLDER('')": "FALSE",
    },
)
def is_placeholder(x: pa.Array) -> pa.Array:
    return _truth(are_placeholders(tidy_spaces(x)), x)


@function(
    "HAS_CONTROL_CHARACTERS(x TEXT) BOOLEAN",
    meaning="whether x holds a control character that is neither a tab nor a line break",
    examples={
        "HAS_CONTROL_CHARACTERS(U&'B\\00074')": "TRUE",
        "HAS_CONTROL_CHARACTERS('B4')": "FALSE",
    },
)
def has_control_characters(x: pa.Array) -> pa.Array:
    return _truth(matches(x, CONTROLS), x)


@function(
    "IS_FORMULA(x TEXT) BOOLEAN",
    meaning=(
        "whether a spreadsheet would run x as a formula: it begins with = or @, or with a sign"
        " before a name or a sum"
    ),
    examples={
        "IS_FORMULA('=SUM(B1)')": "TRUE",
        "IS_FORMULA('+1-268')": "TRUE",
        "IS_FORMULA('-5')": "FALSE",
    },
)
def is_formula(x: pa.Array) -> pa.Array:
    return _truth(matches(x, FORMULA), x)


@function(
    "IS_MISDECODED(x TEXT) BOOLEAN",
    meaning="whether x holds what UTF-8 looks like when it was read as Windows-1252 or Latin-1",
    examples={"IS_MISDECODED('MÃ¶we')": "TRUE", "IS_MISDECODED('Möwe')": "FALSE"},
)
def is_misdecoded(x: pa.Array) -> pa.Array:
    return _truth(matches(x, MISDECODED), x)


@function(
    "REDECODE(x TEXT) TEXT",
    meaning=(
        "x with what was UTF-8 read as Windows-1252 or Latin-1 read as UTF-8; what cannot have been"
        " that stays"
    ),
    examples={"REDECODE('MÃ¶we')": "'Möwe'", "REDECODE('Möwe')": "'Möwe'"},
)
def redecode(x: pa.Array) -> pa.Array:
    return on_rows(x, rows_with(x, HIGH), lambda subset: by_value(subset, _redecoded))


# Bytes that Windows-1252 leaves out are the control characters of Latin-1 in what programs make of
# them.
_LEFT_OUT = (0x81, 0x8D, 0x8F, 0x90, 0x9D)
_BYTES = {chr(byte): byte for byte in range(0x80, 0x100)} | {
    bytes([byte]).decode("cp1252"): byte for byte in range(0x80, 0xA0) if byte not in _LEFT_OUT
}
_RUNS = re.compile("[" + "".join(map(re.escape, _BYTES)) + "]{2,}")


def _redecoded(text: str) -> str:
    return _RUNS.sub(lambda run: _decoded(run[0]), text)


def _decoded(run: str) -> str:
    try:
        return bytes(_BYTES[char] for char in run).decode("utf-8")
    except UnicodeDecodeError:
        return run
