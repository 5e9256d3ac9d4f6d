"""Signatures of records in OpenSSH's format, made with Ed25519 keys: `ssh-keygen -Y verify` checks
them without Gravel.

Source: OpenSSH's PROTOCOL.sshsig (the signature), PROTOCOL.key (the key, read by the cryptography
library), ssh-keygen(1), "ALLOWED SIGNERS" (who may sign)."""

from __future__ import annotations

import base64
import binascii
import datetime
import fnmatch
import hashlib
import re
import struct
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

from msgspec import Struct

from gravel.problems import CallProblem, TableProblem

NAMESPACE = "gravel-record"
_MAGIC, _KIND, _HASH = b"SSHSIG", b"ssh-ed25519", b"sha512"
_BEGIN, _END = "-----BEGIN SSH SIGNATURE-----", "-----END SSH SIGNATURE-----"
_OPTION = re.compile(r'([a-zA-Z-]+)(?:="((?:[^"\\]|\\.)*)")?')


class SignatureProblem(CallProblem):
    """A signature that is not of these bytes, or not by one who may."""


def signature_path(record: Path) -> Path:
    """Where the signature of a record stands."""
    return record.with_name(f"{record.name}.sig")


class SigningKey:
    """A private Ed25519 key of OpenSSH's. `passphrase` is asked where the file is encrypted. Raises
    TableProblem, CallProblem."""

    def __init__(self, path: Path, passphrase: Callable[[], str]) -> None:
        exceptions, serialization, ed25519 = _library()
        try:
            data = path.read_bytes()
        except OSError as error:
            raise TableProblem(
                f"the key {path} cannot be read: {(error.strerror or str(error)).lower()}"
            ) from None
        try:
            try:
                key = serialization.load_ssh_private_key(data, None)
            except TypeError:  # it is encrypted
                key = serialization.load_ssh_private_key(data, passphrase().encode())
        except exceptions.UnsupportedAlgorithm:
            raise CallProblem(
                f"{path} is encrypted, which needs the library bcrypt",
                hint="pip install 'gravel[sign]'",
            ) from None
        except ValueError as error:
            wrong = "corrupt" in str(error).lower() or "password" in str(error).lower()
            raise CallProblem(
                f"{path}: the passphrase is wrong, or the key is damaged"
                if wrong
                else f"{path} is not a private key of OpenSSH's",
                hint=""
                if wrong
                else "ssh-keygen -t ed25519 makes one; it is the file without .pub",
            ) from None
        if not isinstance(key, ed25519.Ed25519PrivateKey):
            raise CallProblem(
                f"{path} is not an Ed25519 key", hint="ssh-keygen -t ed25519 makes one"
            )
        self._key = key
        raw = serialization.Encoding.Raw, serialization.PublicFormat.Raw
        self._public = _string(_KIND) + _string(key.public_key().public_bytes(*raw))

    def sign(self, data: bytes) -> str:
        """The detached signature of some bytes, in ASCII."""
        signed = _string(_KIND) + _string(self._key.sign(_signed_data(data)))
        blob = _MAGIC + struct.pack(">I", 1) + _string(self._public)
        blob += _string(NAMESPACE.encode()) + _string(b"") + _string(_HASH) + _string(signed)
        text = base64.b64encode(blob).decode("ascii")
        lines = [text[start : start + 70] for start in range(0, len(text), 70)]
        return "\n".join([_BEGIN, *lines, _END]) + "\n"


class Signer(Struct, frozen=True):
    """A line of an allowed-signers file: who, with which public key, and when."""

    principals: str
    key: bytes
    namespaces: str = "*"
    after: datetime.datetime | None = None
    before: datetime.datetime | None = None

    def may_sign(self, now: datetime.datetime) -> bool:
        """Whether the key is good for records, at a time."""
        patterns = [pattern.strip() for pattern in self.namespaces.split(",")]
        if any(fnmatch.fnmatchcase(NAMESPACE, item[1:]) for item in patterns if item[:1] == "!"):
            return False
        return (
            any(fnmatch.fnmatchcase(NAMESPACE, item) for item in patterns if item[:1] != "!")
            and (self.after is None or now >= self.after)
            and (self.before is None or now <= self.before)
        )


def signer_of(signature: str, data: bytes, signers: Path, now: datetime.datetime) -> str:
    """Who signed some bytes, by an allowed-signers file: the line's principals. Raises
    SignatureProblem where it is not theirs or not of these bytes; CallProblem, TableProblem."""
    public, signed = _parsed(signature)
    if not _verifies(public, signed, data):
        raise SignatureProblem("not of these bytes")
    known = [signer for signer in _signers(signers) if signer.key == public]
    good = [signer for signer in known if signer.may_sign(now)]
    if not good:
        raise SignatureProblem(
            "by a key that is listed, but not for this namespace or this time"
            if known
            else "by a key that is not listed"
        )
    return good[0].principals


def _library() -> Any:
    try:
        from cryptography import exceptions
        from cryptography.hazmat.primitives import serialization
        from cryptography.hazmat.primitives.asymmetric import ed25519
    except ImportError:
        raise CallProblem(
            "signatures need the library cryptography", hint="pip install 'gravel[sign]'"
        ) from None
    return exceptions, serialization, ed25519


def _string(data: bytes) -> bytes:
    """A string as the SSH protocol has it (RFC 4251, section 5)."""
    return struct.pack(">I", len(data)) + data


def _signed_data(data: bytes) -> bytes:
    """What is signed of some bytes: their hash, with the namespace."""
    digest = hashlib.sha512(data).digest()
    return _MAGIC + _string(NAMESPACE.encode()) + _string(b"") + _string(_HASH) + _string(digest)


def _strings(data: bytes) -> Iterator[bytes]:
    while data:
        if len(data) < 4 or len(data) < 4 + (size := struct.unpack(">I", data[:4])[0]):
            raise ValueError
        yield data[4 : 4 + size]
        data = data[4 + size :]


def _parsed(signature: str) -> tuple[bytes, bytes]:
    """The public key and the signature itself. Raises SignatureProblem."""
    lines = signature.strip().splitlines()
    try:
        if not lines or (lines[0], lines[-1]) != (_BEGIN, _END):
            raise ValueError
        blob = base64.b64decode("".join(lines[1:-1]), validate=True)
        if blob[:6] != _MAGIC or struct.unpack(">I", blob[6:10])[0] != 1:
            raise ValueError
        public, namespace, _, digest, signed = _strings(blob[10:])
        kind, raw = _strings(signed)
    except (ValueError, struct.error, binascii.Error):
        raise SignatureProblem("not a signature of OpenSSH's") from None
    if namespace != NAMESPACE.encode() or digest != _HASH or kind != _KIND:
        raise SignatureProblem(
            f"not one of a record: {namespace.decode('ascii', 'replace')[:40]},"
            f" {kind.decode('ascii', 'replace')[:40]}"
        )
    return public, raw


def _verifies(public: bytes, signed: bytes, data: bytes) -> bool:
    exceptions, _, ed25519 = _library()
    try:
        kind, key = _strings(public)
        if kind != _KIND:
            return False
        ed25519.Ed25519PublicKey.from_public_bytes(key).verify(signed, _signed_data(data))
    except (exceptions.InvalidSignature, ValueError):
        return False
    return True


def _signers(path: Path) -> list[Signer]:
    """The lines of an allowed-signers file. Raises CallProblem, TableProblem."""
    try:
        text = path.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise TableProblem(
            f"{path} cannot be read: {(getattr(error, 'strerror', None) or str(error)).lower()}"
        ) from None
    results = []
    for number, line in enumerate(text.splitlines(), 1):
        parts = re.findall(r'(?:[^\s"]|"(?:[^"\\]|\\.)*")+', line)
        if not parts or parts[0].startswith("#"):
            continue
        place = 1 if len(parts) > 1 and re.match(r"(ssh|ecdsa|sk)-", parts[1]) else 2
        try:
            key = base64.b64decode(parts[place + 1], validate=True)
            options = _options(parts[1]) if place == 2 else {}
        except (IndexError, ValueError, binascii.Error):
            raise CallProblem(
                f"{path}:{number} is not a line of an allowed-signers file",
                hint="name@harbour.example ssh-ed25519 AAAA…",
            ) from None
        if parts[place] == _KIND.decode() and "cert-authority" not in options:
            results.append(
                Signer(
                    parts[0].strip('"'),
                    key,
                    options.get("namespaces", "*"),
                    _time(options.get("valid-after")),
                    _time(options.get("valid-before")),
                )
            )
    return results


def _options(text: str) -> dict[str, str]:
    """The options of a line. Raises ValueError for one that is not known: who sets it means to
    narrow what the key may sign."""
    results = {match[1].lower(): match[2] or "" for match in _OPTION.finditer(text)}
    if results.keys() - {"namespaces", "valid-after", "valid-before", "cert-authority"}:
        raise ValueError
    return results


def _time(text: str | None) -> datetime.datetime | None:
    """YYYYMMDD[HHMM[SS]], local time or with Z. Raises ValueError."""
    if text is None:
        return None
    plain = text.removesuffix("Z")
    form = {8: "%Y%m%d", 12: "%Y%m%d%H%M", 14: "%Y%m%d%H%M%S"}.get(len(plain), "")
    time = datetime.datetime.strptime(plain, form)
    return time.replace(tzinfo=datetime.UTC) if text.endswith("Z") else time.astimezone()
