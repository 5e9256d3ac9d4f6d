"""What may go wrong outside: a full disk, a closed pipe, an interrupt, a kill. The target is the old one or the new one."""

from __future__ import annotations

import os
import random
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from conftest import PROGRAM, program, write

PLAN = 'table = "b.csv"\nwrite = "o.csv"\n[[step]]\nset = { name = "UPPER(name)" }\n'


def test_version_and_help_start_quickly_and_say_how_to_begin(folder: Path) -> None:
    assert program("--version", cwd=folder).stdout.startswith("gravel ")
    told = program("--help", cwd=folder).stdout
    for command in ("demo", "count", "look", "profile", "try", "clean", "functions"):
        assert command in told
    loaded = subprocess.run(
        [sys.executable, "-X", "importtime", "-m", "gravel", "--version"], cwd=folder, text=True, capture_output=True, check=True
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
    assert (ran.returncode, "no space left" in ran.stderr, "Traceback" in ran.stderr) == (3, True, False)
    write("p.toml", PLAN.replace("o.csv", "/dev/full") + '[[step]]\ndrop_rows = "id < 9"\n')
    assert program("clean", "p.toml", cwd=folder).returncode == 3
    assert not list(Path("/dev").glob("full-*"))
    with open("/dev/full", "wb") as full:
        ran = subprocess.run(
            [*PROGRAM, "look", "b.csv", "--rows", "all"], cwd=folder, stdout=full, stderr=subprocess.PIPE, text=True, check=False
        )
    assert (ran.returncode, "cannot be written" in ran.stderr, "Traceback" in ran.stderr) == (3, True, False)
    assert sorted(path.name for path in folder.iterdir()) == ["b.csv", "p.toml"]


def test_a_device_takes_the_rows_and_those_left_behind_go_beside_the_plan(folder: Path) -> None:
    write("b.csv", "id,name\n1,gull\n2,tern\n")
    write("p.toml", PLAN.replace("o.csv", "/dev/null") + '[[step]]\ndrop_rows = "id = 1"\n')
    ran = program("clean", "p.toml", "--format", "json", cwd=folder)
    assert (ran.returncode, '"left_behind": "p-left-behind.csv"' in ran.stdout) == (0, True)
    assert Path("p-left-behind.csv").read_text().splitlines()[1].startswith("1,1,2,dropped")
    assert sorted(path.name for path in folder.iterdir()) == ["b.csv", "p-left-behind.csv", "p.toml"]
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


def _stopped(folder: Path, sign: int, after: float) -> tuple[int, int]:
    process = subprocess.Popen([*PROGRAM, "clean", "p.toml"], cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)
    time.sleep(after)
    process.send_signal(sign)
    _, err = process.communicate(timeout=120)
    # Python itself tells of an interrupt that meets it in a callback while modules are loaded; nothing can keep it from that.
    assert "Traceback" not in err or err.startswith("Exception ignored")
    return process.returncode, process.pid


def test_a_run_that_is_interrupted_or_killed_leaves_the_old_target_or_the_new_one(folder: Path) -> None:
    rows = [f"{n},gull {n % 97}\n" for n in range(120_000)]
    write("b.csv", "id,name\n" + "".join(rows))
    write("p.toml", PLAN)
    new = "id,name\n" + "".join(rows).upper()
    write("o.csv", "as it was\n")
    begun = time.monotonic()
    assert program("clean", "p.toml", cwd=folder).returncode == 0
    whole = time.monotonic() - begun
    assert Path("o.csv").read_text() == new
    dice = random.Random(os.getpid())
    for turn in range(50):
        write("o.csv", "as it was\n")
        interrupt = turn % 3 == 0
        status, number = _stopped(folder, signal.SIGINT if interrupt else signal.SIGKILL, dice.uniform(0.5, 1.1) * whole)
        held = Path("o.csv").read_text()
        assert held in ("as it was\n", new)
        if interrupt and status == 130:
            assert not list(folder.glob(f".*-{number}*"))
    # A stale file of a killed run is cleared by the next.
    assert program("clean", "p.toml", cwd=folder).returncode == 0
    assert sorted(path.name for path in folder.iterdir()) == ["b.csv", "o.csv", "o.record.json", "p.toml"]
