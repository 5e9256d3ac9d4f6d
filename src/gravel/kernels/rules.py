"""What happens to one text, in plain Python: the reference of the compiled kernels, and what reads
the few texts that depend on more than a character at a time."""

from __future__ import annotations

import re
import unicodedata

from gravel.kernels.characters import WHITE, ZERO_WIDTH

# Letters that no decomposition takes apart, and their plain forms.
_PLAIN = str.maketrans({
    "ø": "o", "Ø": "O", "ł": "l", "Ł": "L", "đ": "d", "Đ": "D", "ð": "d", "Ð": "D", "þ": "th",
    "Þ": "TH", "ß": "ss", "ẞ": "SS",
    "æ": "ae", "Æ": "AE", "œ": "oe", "Œ": "OE", "ı": "i",
})  # fmt: skip
WORDS = re.compile(rf"[^{WHITE[1:-1]}\-]+")
_WHITE_RUN = re.compile(f"{WHITE}+")
_WITHOUT_ZERO_WIDTH = dict.fromkeys(map(ord, ZERO_WIDTH))
_LETTER = re.compile(r"[^\W\d_]")
_APOSTROPHE = re.compile(r"(?<![^\W\d_])([^\W\d_])(['’])([^\W\d_])")


def tidied(text: str) -> str:
    """The text without white space at its ends, runs of it inside as one space, and no zero width
    characters."""
    return _WHITE_RUN.sub(" ", text.translate(_WITHOUT_ZERO_WIDTH)).strip(" ")


def unaccented(text: str) -> str:
    """The text without the marks of Latin and Greek letters."""
    out: list[str] = []
    base = ""
    for char in unicodedata.normalize("NFD", text):
        if unicodedata.combining(char) and unicodedata.category(char) == "Mn":
            if base and _latin_or_greek(base):
                continue
        else:
            base = char
        out.append(char)
    return unicodedata.normalize("NFC", "".join(out).translate(_PLAIN))


def _latin_or_greek(char: str) -> bool:
    if char.isascii():
        return char.isalpha()
    return unicodedata.name(char, "").startswith(("LATIN ", "GREEK "))


def shape(text: str) -> str:
    """The text with capitals as A, other letters as a, decimal digits as 9; letters with their
    marks."""
    out: list[str] = []
    after_letter = False
    for char in text:
        if after_letter and unicodedata.category(char).startswith("M"):
            continue
        after_letter = char.isalpha()
        out.append(
            ("A" if char.isupper() or char.istitle() else "a")
            if after_letter
            else "9"
            if char.isdecimal()
            else char
        )
    return "".join(out)


def only_digits(text: str) -> str:
    """The decimal digits."""
    return "".join(char for char in text if char.isdecimal())


def only_letters(text: str) -> str:
    """The letters with their marks."""
    out: list[str] = []
    after_letter = False
    for char in text:
        mark = unicodedata.category(char).startswith("M")
        after_letter = char.isalpha() or (mark and after_letter)
        if after_letter:
            out.append(char)
    return "".join(out)


def key_characters(text: str) -> str:
    """The text folded as its MATCH_KEY has it, each character that is no letter, digit or mark as a
    space."""
    plain = unaccented(unicodedata.normalize("NFKC", text)).casefold()
    folded = unaccented(unicodedata.normalize("NFKC", plain))
    return "".join(
        char if char.isalnum() or unicodedata.category(char).startswith("M") else " "
        for char in folded
    )


def match_key(text: str) -> str | None:
    """One spelling for what people write in many; None where nothing is left."""
    return " ".join(key_characters(text).split()) or None


def capitalized(text: str) -> str:
    """The text with the first letter of each word raised, and that after the apostrophe of a single
    letter; all others are lowered."""

    def word(match: re.Match[str]) -> str:
        lowered = match.group().lower()
        first = _LETTER.search(lowered)
        if first and not (first.start() and lowered[first.start() - 1].isdigit()):
            index = first.start()
            lowered = lowered[:index] + titled(lowered[index]) + lowered[index + 1 :]
        return _APOSTROPHE.sub(lambda result: result[1] + result[2] + titled(result[3]), lowered)

    return WORDS.sub(word, text)


def titled(char: str) -> str:
    """A letter as the first of a word."""
    return char.title() if len(char.title()) == 1 else char.upper()
