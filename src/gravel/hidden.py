"""Passwords of database URLs, kept out of every text that is shown or written.

A call or a plan that comes in has each password replaced by a mark; only a driver, and a value that
was meant as such a text, gets it back. So no message, page, record or reason can hold one, whoever
writes it.
"""

from __future__ import annotations

import re

_PASSWORD = re.compile(
    r"([a-z][a-z0-9]*(?:\+[a-z0-9_]+)?://[^\s:@/?#\"']*):([^\s/?#\"']+)@", re.IGNORECASE
)
_OPTION = re.compile(
    r"((?:[?&;]|\b)(?:password|passwd|pwd|passphrase|sslpassword|ssl_passphrase)=)([^\s&#;\"']+)",
    re.IGNORECASE,
)
_MARK = re.compile("⟨secret([0-9]*)⟩")
_URL = re.compile(r"[a-z][a-z0-9]*(?:\+[a-z0-9_]+)?://[^\s\"']*", re.IGNORECASE)
_known: list[str] = []


def without(text: str) -> str:
    """A text with a mark in place of each password of a URL in it."""

    def mark(text: str) -> str:
        secret = restored(text)
        if secret not in _known:
            _known.append(secret)
        position = _known.index(secret)
        return f"⟨secret{position + 1 if position else ''}⟩"

    def of_url(result: re.Match[str]) -> str:
        url = _PASSWORD.sub(lambda item: f"{item[1]}:{mark(item[2])}@", result[0])
        return _OPTION.sub(lambda item: f"{item[1]}{mark(item[2])}", url)

    return _URL.sub(of_url, text) if "://" in text else text


def restored(text: str) -> str:
    """A text with its passwords again, for a driver, or for a value that is compared with data."""

    def secret(result: re.Match[str]) -> str:
        index = int(result[1] or 1) - 1
        return _known[index] if index < len(_known) else result[0]

    return _MARK.sub(secret, text) if "⟨" in text else text


def removed(text: str) -> str:
    """A text whose URLs have neither password nor mark, as it is recorded."""
    return _URL.sub(lambda result: _OPTION.sub(r"\1", _PASSWORD.sub(r"\1@", result[0])), text)


def unmarked(text: str) -> str:
    """A text without marks, as it is written into a plan; passwords that stand there already
    stay."""
    return re.sub(f"[?&;]?[a-z_]+={_MARK.pattern}", "", re.sub(f":{_MARK.pattern}@", "@", text))
