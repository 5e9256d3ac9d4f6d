"""What a text that is not UTF-8 could be: how its words read in other encodings."""

from __future__ import annotations

import re
import unicodedata

_KNOWN = ("cp1252", "cp1250", "cp1251", "cp1253", "cp1254", "cp850", "mac_roman")
_WORD = re.compile(rb"[A-Za-z\x80-\xff]*[\x80-\xff][A-Za-z\x80-\xff]*")
_MOST = 1000  # words looked at
_LENGTH = 24  # of a word that is shown
_SIGNS = "€£¥°©®§–—…“”„‘’«»·•¿¡\xa0"  # which stand before, after and without letters


def readings(data: bytes) -> list[tuple[str, str]]:
    """Encodings that data could be in, the likeliest first, each with a word of the data as it
    reads there. Likely is where words are letters of one script, small, capital or capitalised;
    encodings in which that word reads alike, or in which fewer than half are so, are left out."""
    words = [match[0] for match, _ in zip(_WORD.finditer(data), range(_MOST), strict=False)]
    candidates = []
    for encoding in _KNOWN:
        try:
            texts = [word.decode(encoding) for word in words]
        except UnicodeDecodeError:
            continue
        likely = sum(map(_is_likely, texts)) / max(1, len(texts))
        if likely >= 0.5:
            candidates.append((likely, encoding, texts))
    candidates.sort(key=lambda item: -item[0])
    if not candidates:
        return []
    place = next(
        (
            place
            for place in range(len(words))
            if len({texts[place] for _, _, texts in candidates}) > 1
            and _is_likely(candidates[0][2][place])
        ),
        0,
    )
    results: dict[str, str] = {}
    for _, encoding, texts in candidates:
        results.setdefault(texts[place], encoding)
    return [(encoding, word[:_LENGTH]) for word, encoding in results.items()]


def _is_likely(word: str) -> bool:
    """Whether a word is letters that stand together, or signs."""
    core = word.strip(_SIGNS)
    letters = core.replace("’", "")
    if not letters:
        return True
    scripts = {unicodedata.name(sign, "?").split()[0] for sign in letters}
    cased = letters.islower() or letters.isupper() or letters.istitle()
    return letters.isalpha() and len(scripts) == 1 and cased
