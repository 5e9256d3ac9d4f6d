"""What may go wrong outside: a full disk, a closed pipe, an interrupt, a kill. The target is the old one or the new one."""

from __future__ import annotations

import hashlib
import json
import os
import random
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from conftest import PROGRAM, program, write
from gravel.problems import Problem

PLAN = 'table = "b.csv"\nwrite = "o.csv"\n[[step]]\nset = { name = "UPPER(name)" }\n'


def test_version_and_help_start_quickly_and_say_how_to_begin(folder: Path) -> None:
    assert program("--version", cwd=folder).stdout.startswith("gravel ")
    told = program("--help", cwd=folder).stdout
    for command in ("demo", "count", "look", "profile", "try", "clean", "functions"):
        assert command in told
    loaded = subprocess.run(
        [sys.executable, "-X", "importtime", "-m", "gravel", "--version"],
        cwd=folder,
        text=True,
        capture_output=True,
        check=True,
    ).stderr
    assert "typer" not in loaded
    assert "numpy" not in loaded


def test_misspelt_commands_and_options_get_the_nearest_name(folder: Path) -> None:
    ran = program("loook", cwd=folder)
    assert (ran.returncode, "did you mean gravel look?" in ran.stderr) == (2, True)
    ran = program("look", "x.csv", "--wher", "a = 1", cwd=folder)
    assert (ran.returncode, "--where" in ran.stderr, "Traceback" in ran.stderr) == (2, True, False)


@pytest.mark.skipif(not Path("/dev/full").exists(), reason="this system has no /dev/full")
def test_a_full_disk_is_an_error_and_leaves_nothing(folder: Path) -> None:
    write("b.csv", "id,name\n" + "".join(f"{n},gull\n" for n in range(5000)))
    write("p.toml", PLAN.replace("o.csv", "/dev/full"))
    ran = program("clean", "p.toml", cwd=folder)
    assert (ran.returncode, "no space left" in ran.stderr, "Traceback" in ran.stderr) == (
        3,
        True,
        False,
    )
    write("p.toml", PLAN.replace("o.csv", "/dev/full") + '[[step]]\ndrop_rows = "id < 9"\n')
    assert program("clean", "p.toml", cwd=folder).returncode == 3
    assert not list(Path("/dev").glob("full-*"))
    with open("/dev/full", "wb") as full:
        ran = subprocess.run(
            [*PROGRAM, "look", "b.csv", "--rows", "all"],
            cwd=folder,
            stdout=full,
            stderr=subprocess.PIPE,
            text=True,
            check=False,
        )
    assert (ran.returncode, "cannot be written" in ran.stderr, "Traceback" in ran.stderr) == (
        3,
        True,
        False,
    )
    assert sorted(path.name for path in folder.iterdir()) == ["b.csv", "p.toml"]


def test_a_table_of_more_columns_than_files_may_be_open(folder: Path) -> None:
    """As many as can be are allowed; beyond that it is told, with a hint."""
    names = [f"c{number}" for number in range(300)]
    write(
        "w.csv",
        ",".join(names)
        + "\n"
        + "".join(",".join(f"{row}-{name}" for name in names) + "\n" for row in range(1000)),
    )
    query = [
        *PROGRAM,
        "query",
        "SELECT * FROM 'w.csv' ORDER BY c7 DESC LIMIT 2",
        "--memory",
        "1MB",
        "--format",
        "csv",
    ]
    for limit, status in (("-Sn 256", 0), ("-n 256", 3)):
        ran = subprocess.run(
            ["sh", "-c", f'ulimit {limit} && exec "$@"', "sh", *query],
            cwd=folder,
            capture_output=True,
            text=True,
            check=False,
        )
        assert ran.returncode == status, ran.stderr
    assert "too many open files\nhint: " in ran.stderr
    assert "ulimit -n" in ran.stderr


def test_a_device_takes_the_rows_and_those_left_behind_go_beside_the_plan(folder: Path) -> None:
    write("b.csv", "id,name\n1,gull\n2,tern\n")
    write("p.toml", PLAN.replace("o.csv", "/dev/null") + '[[step]]\ndrop_rows = "id = 1"\n')
    ran = program("clean", "p.toml", "--format", "json", cwd=folder)
    assert (ran.returncode, '"rejects": "p-rejects.csv"' in ran.stdout) == (0, True)
    assert Path("p-rejects.csv").read_text().splitlines()[1].startswith("1,1,2,dropped")
    assert sorted(path.name for path in folder.iterdir()) == ["b.csv", "p-rejects.csv", "p.toml"]
    assert not list(Path("/dev").glob("null-*"))


def test_a_reader_that_closes_the_pipe_early_is_no_error(folder: Path) -> None:
    write("b.csv", "id,name\n" + "".join(f"{n},gull\n" for n in range(50_000)))
    ran = subprocess.run(
        f"{' '.join(PROGRAM)} look b.csv --rows all --format csv | head -2; echo ${{PIPESTATUS[0]}}",
        shell=True, executable="/bin/bash", cwd=folder, text=True, capture_output=True, check=False,
    )  # fmt: skip
    assert ran.stdout == "gravel_row,id,name\n1,0,gull\n0\n"
    assert "Traceback" not in ran.stderr


def test_standard_input_is_a_table(folder: Path) -> None:
    ran = program("count", "-", cwd=folder, input="a,b\n1,2\n")
    assert (ran.returncode, "standard input" in ran.stdout) == (0, True)


STARTER = """import importlib, json, os, signal, sys, tempfile
for line in sys.stdin:
    left, fault, folder, tempfile.tempdir, modules, arguments = json.loads(line)
    for name in modules:
        importlib.import_module(name)
    child = os.fork()
    if child:
        print(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]), flush=True)
        continue
    os.chdir(folder)
    written = os.open(tempfile.tempdir + "/told", os.O_WRONLY | os.O_CREAT, 0o600)
    os.dup2(written, 1)
    os.dup2(written, 2)
    def counted(call):
        def made(*arguments, **options):
            global left
            left -= 1
            if not left and fault == "kill":
                os.kill(os.getpid(), signal.SIGKILL)
            if not left:
                raise OSError(5, "Input/output error") if fault == "error" else KeyboardInterrupt
            return call(*arguments, **options)
        return made
    for name in ("fsync", "replace", "chmod", "unlink", "link"):
        setattr(os, name, counted(getattr(os, name)))
    from gravel.cli.main import run
    status = run(arguments)
    print("calls", left, *(name for name in sys.modules if name.startswith(("gravel.", "pyarrow."))), flush=True)
    sys.exit(status)
"""


@pytest.fixture
def ended_at(folder: Path) -> Iterator[Callable[..., int]]:
    """The program, ended at its nth call that changes what the disk holds: killed, by an error of that call, by an interrupt; how
    many such calls were left. It is forked from a process that has loaded what the first run needed."""
    # A folder of its own for what is temporary: a run clears away what killed ones of other tests have left, and that counts.
    temporary = folder.with_name(folder.name + "-tmp")
    modules: list[str] = []
    # Machine code that is kept at the first run is not kept again at the next, and would count.
    starter = subprocess.Popen(
        [sys.executable, "-c", STARTER],
        env={**os.environ, "GRAVEL_NATIVE": "0"},
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    )

    def end(call: int, fault: str, *arguments: str) -> int:
        shutil.rmtree(temporary, ignore_errors=True)
        temporary.mkdir()
        assert starter.stdin is not None
        assert starter.stdout is not None
        print(
            json.dumps([call, fault, str(folder), str(temporary), modules, arguments]),
            file=starter.stdin,
            flush=True,
        )
        status = int(starter.stdout.readline())
        told = (temporary / "told").read_text()
        assert "Traceback" not in told
        if status == -signal.SIGKILL:
            return -1
        if fault != "kill" and call < 10_000:
            assert status in (0, 3, 130), told  # a folder that cannot be synced is no error
            return -1
        assert status == 0, told
        left, *modules[:] = told.rpartition("calls ")[2].split()
        return call - int(left)

    yield end
    starter.communicate()


@pytest.mark.parametrize(
    ("target", "fault"),
    [(target, "kill") for target in ("o.csv", "o.parquet", "h.db#t", "postgresql")]
    + [("o.csv", "error"), ("o.parquet", "interrupt")],
)
def test_an_end_at_any_step_of_a_publication_loses_nothing(
    target: str, fault: str, folder: Path, gravel: Any, ended_at: Any, request: Any
) -> None:
    """For every call at a run's end: afterwards the target is the old one or the new one, and the next run needs no hand."""
    from gravel.sources.opening import open_table
    from gravel.sources.source import scan

    if target == "postgresql":
        target = f"{request.getfixturevalue('postgresql')}#public.published"

    def rows() -> int | None:
        try:
            return sum(scan(open_table(target), lambda batch: batch.count, []))
        except Problem:
            return None

    record = Path("p.record.json" if "#" in target else "o.record.json")
    left = Path("p-rejects.csv" if "#" in target else "o-rejects.csv")
    more = "replace = true" if "#" in target else ""
    step = '[[step]]\ndrop_rows = "fee = 1"\n'
    write("p.toml", f'table = "b.csv"\nwrite = "{target}"\nkey = ["id"]\n{more}\n{step}')
    old, new = (
        "".join(f"{n},{n % 8}\n" for n in range(80)),
        "".join(f"{n},{n % 5}\n" for n in range(100)),
    )

    write("b.csv", "id,fee\n" + old)
    gravel("clean", "p.toml")
    write("b.csv", "id,fee\n" + new)
    before = {path.name: path.read_bytes() for path in folder.iterdir()}

    def start() -> None:
        for path in folder.iterdir():
            path.unlink()
        for name, content in before.items():
            write(name, content)
        if "://" in target:  # the table is on the server, and not among the files
            write("b.csv", "id,fee\n" + old)
            gravel("clean", "p.toml")
            write("b.csv", "id,fee\n" + new)

    calls = ended_at(10_000, fault, "clean", "p.toml")
    assert calls > 6
    outcomes = set()
    for call in range(1, calls + 1):
        start()
        assert ended_at(call, fault, "clean", "p.toml") == -1
        # What is there now agrees with itself as soon as anything of ours has looked at it.
        gravel("verify", record, "--connect", "--format", "json", status=None)
        held, kept = rows(), len(left.read_text().splitlines()) - 1
        told = json.loads(record.read_text())
        outcomes.add((held, kept))
        if "#" in target:
            assert (held, kept) in {(70, 10), (70, 20), (80, 20)}, (
                call
            )  # rows are in the table until they are in their file
            assert told["output"]["rows"] == held, call
        else:
            signed = hashlib.sha256(Path(target).read_bytes()).hexdigest()
            assert (signed, kept) == (told["output"]["sha256"], told["rejects"]["rows"]), call
        gravel("clean", "p.toml", "--format", "json")
        assert (rows(), len(left.read_text().splitlines()) - 1) == (80, 20), call
        gravel("verify", record, "--connect", "--format", "json")
        assert not [path.name for path in folder.iterdir() if path.name.startswith(".")], call
    assert outcomes >= {(70, 10), (80, 20)}


def test_two_runs_on_one_target_do_not_meet(folder: Path) -> None:
    from gravel.sinks.atomic_file import TargetLock

    write("b.csv", "id,name\n1,gull\n")
    write("p.toml", PLAN)
    lock = TargetLock(folder / "o.csv", "o.csv")
    ran = program("clean", "p.toml", cwd=folder)
    assert (
        ran.returncode,
        "is being written by another run" in ran.stderr,
        f"process {os.getpid()}" in ran.stderr,
    ) == (3, True, True)
    lock.release()
    assert program("clean", "p.toml", cwd=folder).returncode == 0
    assert sorted(path.name for path in folder.iterdir()) == [
        "b.csv",
        "o.csv",
        "o.record.json",
        "p.toml",
    ]


def test_what_is_not_ours_is_replaced_only_when_asked(folder: Path, gravel: Any) -> None:
    write("b.csv", "id,name\n1,gull\n2,tern\n")
    write("p.toml", PLAN)
    write("o.csv", "somebody's work\n")
    assert "--replace" in gravel("clean", "p.toml", status=2).err
    assert Path("o.csv").read_text() == "somebody's work\n"
    gravel("clean", "p.toml", "--replace")
    gravel("clean", "p.toml")  # its record says that it is ours
    write("o.csv", "id,name\n1,fixed by hand\n")
    gravel("clean", "p.toml", status=2)
    write("o-rejects.csv", "notes of my own\n")
    gravel("clean", "p.toml", status=2)
    assert Path("o-rejects.csv").read_text() == "notes of my own\n"
    for target in (".bashrc", "p.toml", "key", "x.py"):
        write("q.toml", PLAN.replace("o.csv", target))
        before = Path(target).read_bytes() if Path(target).exists() else None
        gravel("clean", "q.toml", "--replace", status=2)
        assert (Path(target).read_bytes() if Path(target).exists() else None) == before
    write("o.html", "a page of somebody's")
    before = Path("o.csv").read_bytes()
    for call in (["query", "SELECT * FROM 'b.csv'", "--write", "o.csv"], ["check", "b.csv", "id = 1", "--set-aside", "o.csv"],
                 ["profile", "b.csv", "--report", "o.html"], ["compare", "b.csv", "b.csv", "--key", "id", "--differences", "o.csv"]):  # fmt: skip
        assert "is there already" in gravel(*call, status=2).err
        assert (Path("o.csv").read_bytes(), Path("o.html").read_text()) == (
            before,
            "a page of somebody's",
        )
    os.chmod("b.csv", 0o600)
    gravel("query", "SELECT * FROM 'b.csv'", "--write", "new.csv")
    outside = folder.parent / f"{folder.name}-elsewhere.csv"
    write("q.toml", PLAN.replace("o.csv", str(outside)))
    assert "not in the plan's folder" in " ".join(gravel("clean", "q.toml").err.split())
    (folder / "mine").mkdir()
    write("mine/boats.csv", "mine\n")
    gravel("demo", "mine", "--quiet", status=2)
    assert Path("mine/boats.csv").read_text() == "mine\n"


def test_the_last_resort_tells_where_and_shows_no_data(
    folder: Path, gravel: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    def broken(*_: object) -> None:
        raise KeyError("a value of the data")

    monkeypatch.setattr("gravel.inspecting.count.count_table", broken)
    write("b.csv", "id\n1\n")
    ran = gravel("count", "b.csv", status=70)
    place = Path(ran.err.split("happened is in ")[1].split(";")[0])
    told = place.read_text()
    place.unlink()
    assert "internal error (KeyError)" in ran.err
    assert "broken" in told
    assert "a value of the data" not in told + ran.err


def test_a_request_to_end_leaves_nothing_behind(folder: Path) -> None:
    write("b.csv", "id,name\n" + "".join(f"{n},gull {n % 97}\n" for n in range(400_000)))
    write("p.toml", PLAN)
    running = subprocess.Popen(
        [*PROGRAM, "clean", "p.toml"],
        cwd=folder,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        text=True,
    )
    while not list(folder.glob(".o.csv.gravel-*.csv")) and running.poll() is None:
        time.sleep(0.01)
    running.send_signal(signal.SIGTERM)
    _, err = running.communicate(timeout=120)
    assert running.returncode in (128 + signal.SIGTERM, 0), err
    if running.returncode:
        assert sorted(path.name for path in folder.iterdir()) == ["b.csv", "p.toml"]


AT_EACH_CALL = """
import os, signal, sys
from pathlib import Path
from gravel.sinks import atomic_file

def publish(folder, at):
    places = [folder / "o.csv", folder / "o.record.json"]
    for place in places:
        place.write_text("old")
    publication = atomic_file.Publication(places[0], "o.csv", places[1:])
    outputs = [atomic_file.Output(place, place.name) for place in places]
    for output in outputs:
        output.write(b"new")
        output.close()
    calls = 0
    real = {name: getattr(os, name) for name in ("replace", "fsync", "chmod")}
    def call(name, *arguments):
        nonlocal calls
        calls += 1
        if calls == at:
            signal.raise_signal(signal.SIGINT)
        return real[name](*arguments)
    for name in real:
        setattr(os, name, lambda *arguments, name=name: call(name, *arguments))
    ended = False
    try:
        publication.publish(outputs)
    except KeyboardInterrupt:
        ended = True
    for name in real:
        setattr(os, name, real[name])
    for output in outputs:
        output.discard()
    publication.close()
    assert ended == (calls >= at)
    assert {place.read_text() for place in places} == {"new"}
    assert sorted(folder.iterdir()) == places, list(folder.iterdir())
    return ended

at = 1
while publish(Path(sys.argv[1]), at):
    at += 1
assert at > 5
"""


def test_an_interrupt_while_files_are_put_in_place_waits_until_all_are(folder: Path) -> None:
    ran = subprocess.run([sys.executable, "-c", AT_EACH_CALL, str(folder)], capture_output=True)
    assert ran.returncode == 0, ran.stderr.decode()


def _stopped(folder: Path, sign: int, after: float) -> int:
    process = subprocess.Popen(
        [*PROGRAM, "clean", "p.toml"],
        cwd=folder,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        text=True,
    )
    time.sleep(after)
    process.send_signal(sign)
    _, err = process.communicate(timeout=120)
    # Python itself tells of an interrupt that meets it in a callback while modules are loaded; nothing can keep it from that.
    assert "Traceback" not in err or err.startswith("Exception ignored")
    return process.returncode


def test_a_run_that_is_interrupted_or_killed_leaves_the_old_target_or_the_new_one(
    folder: Path,
) -> None:
    rows = [f"{n},gull {n % 97}\n" for n in range(40_000)]
    write("b.csv", "id,name\n" + "".join(rows))
    write("p.toml", PLAN)
    new = "id,name\n" + "".join(rows).upper()
    write("p.toml", "replace = true\n" + PLAN)
    write("o.csv", "as it was\n")
    begun = time.monotonic()
    assert program("clean", "p.toml", cwd=folder).returncode == 0
    whole = time.monotonic() - begun
    assert Path("o.csv").read_text() == new
    dice = random.Random(os.getpid())
    for turn in range(6):
        write("o.csv", "as it was\n")
        interrupt = turn % 3 == 0
        before = set(folder.glob(".*gravel-*"))
        status = _stopped(
            folder, signal.SIGINT if interrupt else signal.SIGKILL, dice.uniform(0.5, 1.1) * whole
        )
        held = Path("o.csv").read_text()
        assert held in ("as it was\n", new)
        if interrupt and status == 130:
            assert set(folder.glob(".*gravel-*")) <= before
    # A stale file of a killed run is cleared by the next.
    assert program("clean", "p.toml", cwd=folder).returncode == 0
    assert sorted(path.name for path in folder.iterdir()) == [
        "b.csv",
        "o.csv",
        "o.record.json",
        "p.toml",
    ]
