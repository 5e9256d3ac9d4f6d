"""Records that are signed, and runs that are run again: what the system's own ssh-keygen says of
the one, what another file says of the other."""

from __future__ import annotations

import json
import shutil
import subprocess
from pathlib import Path
from typing import Any

import pytest

from conftest import write

SIGNER = "ines@harbour.example"
PLAN = """table = "boats.csv"
write = "{target}"
[params]
floor = 2.0
code = "'072'"
[[step]]
set = {{ fee = "fee * :floor", berth = "COALESCE(berth, :code)" }}
[[step]]
keep_rows = "since >= :since"
"""


@pytest.fixture(autouse=True)
def boats(folder: Path) -> None:
    write(
        "boats.csv", "id,fee,berth,since\n1,2.50,A-1,2024-05-01\n2,3,,2023-01-01\n3,4,,2024-06-01\n"
    )


def key(name: str, *more: str) -> str:
    """A key made by the system's own program, whose line of signers goes into a file beside it."""
    if shutil.which("ssh-keygen") is None:
        pytest.skip("ssh-keygen is not installed")
    subprocess.run(
        ["ssh-keygen", "-q", "-f", name, *(more or ("-t", "ed25519", "-N", ""))], check=True
    )
    write(f"{name}.signers", f"{SIGNER} {Path(f'{name}.pub').read_text()}")
    return name


def theirs(signers: str, record: str) -> bool:
    """Whether ssh-keygen takes a record's signature."""
    command = [
        "ssh-keygen",
        "-Y",
        "verify",
        "-f",
        signers,
        "-I",
        SIGNER,
        "-n",
        "gravel-record",
        "-s",
        f"{record}.sig",
    ]
    with open(record, "rb") as file:
        return subprocess.run(command, stdin=file, capture_output=True).returncode == 0


def test_a_signature_is_what_openssh_takes_and_finds_what_was_edited(gravel: Any) -> None:
    mine, other = key("mine"), key("other")
    write("p.toml", PLAN.format(target="out.csv"))
    gravel("clean", "p.toml", "--param", "since=DATE '2024-01-01'", "--sign", mine, status=0)
    record, verified = "out.record.json", ("verify", "out.record.json", "--format", "json")
    assert theirs("mine.signers", record)
    assert (
        json.loads(gravel(*verified, "--signers", "mine.signers", status=0).out)["status"] == "same"
    )
    wrong = json.loads(gravel(*verified, "--signers", "other.signers", status=1).out)
    assert [one["now"] for one in wrong["findings"]] == ["by a key that is not listed"]
    assert not theirs("other.signers", record)
    public = Path("mine.pub").read_text()
    for line, good in (
        (f'{SIGNER} namespaces="gravel-*,other" {public}', True),
        (f'{SIGNER} namespaces="git" {public}', False),
        (f'{SIGNER} valid-before="20200101" {public}', False),
        (f'{SIGNER} valid-after="20200101",valid-before="21000101Z" {public}', True),
    ):
        write("some.signers", f"# who may\n\n{line}")
        assert theirs("some.signers", record) is good, line
        gravel(*verified, "--signers", "some.signers", status=0 if good else 1)
    write("bad.signers", f"{SIGNER} nonsense\n")
    assert "bad.signers:1" in gravel(*verified, "--signers", "bad.signers", status=2).err
    # Figures edited together with their file: a record alone says that all is well.
    told = json.loads(Path(record).read_text())
    edited = Path("out.csv").read_bytes().replace(b"1,5,", b"1,9,")
    assert edited != Path("out.csv").read_bytes()
    write("out.csv", edited)
    import hashlib

    told["output"]["sha256"] = hashlib.sha256(edited).hexdigest()
    write(record, json.dumps(told, indent=1, ensure_ascii=False) + "\n")
    said = gravel("verify", record, status=0)
    assert "only a signature" in said.err or "--signers FILE" in said.err
    found = json.loads(gravel(*verified, "--signers", "mine.signers", status=1).out)["findings"]
    assert [one["now"] for one in found] == ["not of these bytes"]
    again = json.loads(gravel(*verified, "--rerun", status=1).out)["findings"]
    assert [one["what"] for one in again] == ["run again: SHA-256"]
    # A signature of another namespace is none of a record; a run without a key takes the old one away.
    Path(f"{record}.sig").unlink()
    subprocess.run(["ssh-keygen", "-q", "-Y", "sign", "-f", mine, "-n", "file", record], check=True)
    found = json.loads(gravel(*verified, "--signers", "mine.signers", status=1).out)["findings"]
    assert found[0]["now"].startswith("not one of a record: file")
    gravel("clean", "p.toml", "--param", "since=DATE '2024-01-01'", "--replace", status=0)
    assert not Path(f"{record}.sig").exists()
    assert other


def test_keys_that_do_not_sign_are_told_before_anything_is_written(gravel: Any) -> None:
    import datetime

    from gravel.ledger.signature import SigningKey, signer_of
    from gravel.problems import CallProblem

    write("p.toml", PLAN.format(target="out.csv"))
    rsa = key("rsa", "-t", "rsa", "-b", "2048", "-N", "")
    locked = key("locked", "-t", "ed25519", "-N", "a word")
    for name, status, words in (
        (rsa, 2, "is not an Ed25519 key"),
        (locked, 2, "there is no terminal to ask for it"),
        ("boats.csv", 2, "is not a private key of OpenSSH's"),
        ("none", 3, "cannot be read"),
    ):
        told = gravel(
            "clean", "p.toml", "--param", "since=DATE '2024-01-01'", "--sign", name, status=status
        )
        assert words in told.err
    assert (
        "this run writes none"
        in gravel("clean", "p.toml", "--dry-run", "--sign", locked, status=2).err
    )
    assert not Path("out.csv").exists()
    with pytest.raises(CallProblem, match="passphrase is wrong"):
        SigningKey(Path(locked), lambda: "another")
    text = SigningKey(Path(locked), lambda: "a word").sign(b"a record")
    now = datetime.datetime.now(datetime.UTC)
    assert signer_of(text, b"a record", Path("locked.signers"), now) == SIGNER


@pytest.mark.parametrize(
    "target", ["out.csv", "out.parquet", "out.jsonl", "out.csv.gz", "base.db#boats"]
)
def test_a_run_is_run_again_from_its_record(folder: Path, gravel: Any, target: str) -> None:
    write("p.toml", PLAN.format(target=target))
    gravel(
        "clean", "p.toml", "--param", "since=DATE '2024-01-01'", "--today", "2024-07-01", status=0
    )
    (record,) = folder.glob("*.record.json")
    told: Any = json.loads(record.read_text())
    assert told["parameters"] == {"floor": "2e0", "code": "'072'", "since": "DATE '2024-01-01'"}
    Path("p.toml").rename("gone.toml")  # the record has the plan's text
    rerun = ("verify", str(record), "--rerun", "--format", "json")
    found = json.loads(gravel(*rerun, status=1).out)
    assert [one["what"] for one in found["findings"]] == ["p.toml: the file"]
    assert sum(one.startswith("run again") for one in found["checked"]) >= 3
    write("boats.csv", Path("boats.csv").read_text().replace("2.50", "2.75"))
    found = json.loads(gravel(*rerun, status=1).out)
    assert {one["what"] for one in found["findings"]} >= {"boats.csv: SHA-256"}
    assert any(one["what"].startswith("run again: ") for one in found["findings"])


def test_a_change_in_place_is_not_run_again(folder: Path, gravel: Any) -> None:
    import sqlite3

    with sqlite3.connect("base.db") as base:
        base.execute("CREATE TABLE boats (id INTEGER PRIMARY KEY, name TEXT)")
        base.execute("INSERT INTO boats VALUES (1, ' Skua ')")
    base.close()
    write(
        "p.toml",
        'table = "base.db#boats"\nwrite = "in place"\n[[step]]\nset = { name = "TRIM(name)" }\n',
    )
    signed = key("mine")
    gravel("clean", "p.toml", "--sign", signed, status=0)
    (record,) = folder.glob("*.record.json")
    assert theirs("mine.signers", record.name)
    gravel("verify", record.name, "--signers", "mine.signers", status=0)
    assert "its input is its output" in gravel("verify", record.name, "--rerun", status=2).err
