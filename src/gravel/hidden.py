"""Passwords of database URLs, kept out of every text that is shown or written.

A call or a plan that comes in has each password replaced by a mark; only a driver, and a value that was meant as such a text, gets it
back. So no message, page, record or reason can hold one, whoever writes it.
"""

from __future__ import annotations

import re

_PASSWORD = re.compile(r"([a-z][a-z0-9]*(?:\+[a-z0-9_]+)?://[^\s:@/?#\"']*):([^\s/?#\"']+)@", re.IGNORECASE)
_MARK = re.compile("⟨secret([0-9]*)⟩")
_known: list[str] = []


def without(text: str) -> str:
    """A text with a mark in place of each password of a URL in it."""

    def mark(found: re.Match[str]) -> str:
        secret = restored(found[2])
        if secret not in _known:
            _known.append(secret)
        at = _known.index(secret)
        return f"{found[1]}:⟨secret{at + 1 if at else ''}⟩@"

    return _PASSWORD.sub(mark, text) if "://" in text else text


def restored(text: str) -> str:
    """A text with its passwords again, for a driver, or for a value that is compared with data."""

    def secret(found: re.Match[str]) -> str:
        at = int(found[1] or 1) - 1
        return _known[at] if at < len(_known) else found[0]

    return _MARK.sub(secret, text) if "⟨" in text else text


def removed(text: str) -> str:
    """A text whose URLs have neither password nor mark, as it is signed."""
    return _PASSWORD.sub(r"\1@", text)


def unmarked(text: str) -> str:
    """A text without marks, as it is written into a plan; passwords that stand there already stay."""
    return re.sub(f":{_MARK.pattern}@", "@", text)
