"""The engine of Spark: the JSON of `--engine` is that of this machine byte for byte, whatever is killed meanwhile; what does
not run there is refused by name. Left out where pyspark or Java is not installed."""

from __future__ import annotations

import compileall
import os
import shutil
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
import pytest

import gravel
from conftest import PROGRAM, Ran, write
from gravel.spark.tasks import Reference
from test_engines import CASES, MISTAKES, plan_of, set_aside, written

pyspark = pytest.importorskip(
    "pyspark", reason="pyspark is not installed: pip install 'gravel[spark]'"
)
if shutil.which("java") is None:
    pytest.skip("Java is not installed", allow_module_level=True)
os.environ["SPARK_LOCAL_IP"] = "127.0.0.1"
os.environ["JAVA_TOOL_OPTIONS"] = "-XX:+UseSerialGC -XX:TieredStopAtLevel=1"
HERE = "local[2]"


CUT_OTHERWISE = [
    (case, ranges) for case in ("profile of text", "count", "duplicates") for ranges in (1, 16)
]


@pytest.mark.parametrize(("case", "ranges"), [*((case, 2) for case in CASES), *CUT_OTHERWISE])
def test_what_spark_says_is_what_is_said_here(
    tables: Path,
    gravel: Callable[..., Ran],
    monkeypatch: pytest.MonkeyPatch,
    case: str,
    ranges: int,
) -> None:
    monkeypatch.setattr("gravel.spark.engine.RANGES", ranges)
    monkeypatch.setattr("gravel.spark.engine._BYTES_OF_RANGE", 1)  # so many for any table
    monkeypatch.setattr("gravel.spark.engine._PART", 200_000)  # of their figures too
    monkeypatch.setattr("gravel.sources.csv.splitter.BLOCK", 100_000)  # several splits
    words = [word.replace("\0", " ") for word in CASES[case].split(" ")]
    here, aside = gravel(*words, "--format", "json", status=None), set_aside()
    assert here.status < 2 or case in MISTAKES, here.err
    there = gravel(*words, "--format", "json", "--engine", HERE, status=None)
    assert (there, set_aside()) == (here, aside)


@pytest.mark.parametrize(
    "case", ["text", "several files", "Parquet", "a query", "a proof that fails"]
)
def test_what_a_plan_writes_there_is_what_it_writes_here(
    tables: Path, gravel: Callable[..., Ran], monkeypatch: pytest.MonkeyPatch, case: str
) -> None:
    monkeypatch.setattr("gravel.sources.csv.splitter.BLOCK", 100_000)
    monkeypatch.setattr("gravel.spark.engine._AT_ONCE", 5)
    monkeypatch.setattr("gravel.spark.engine._BYTES_OF_RANGE", 200_000)  # two ranges and more
    plan_of(case)
    for words in (
        ("clean", "plan.toml"),
        ("trace", "plan.toml", "--where", "fee > 990"),
        ("look", "plan.toml", "--after", "3"),
    ):
        here, files = gravel(*words, "--format", "json", status=None), written(tables)
        there = gravel(*words, "--format", "json", "--engine", HERE, status=None)
        if Path("clean.record.json").exists():
            said = Path("clean.record.json").read_text("utf-8")
            assert f'"engine": "Spark {pyspark.__version__}, Python 3.' in said
            again = gravel("verify", "clean.record.json", "--rerun", "--engine", HERE).out
            assert "run again: SHA-256" in again
            assert "everything matches the record" in again
        assert (there, written(tables)) == (here, files)


def test_tables_of_any_size_are_compared(
    folder: Path, gravel: Callable[..., Ran], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("gravel.spark.engine._BYTES_OF_RANGE", 1000)
    for name, rows in (("small.csv", 90), ("large.csv", 3000)):
        write(
            name, "id,name\n" + "".join(f"{number},Tern {number % 80}\n" for number in range(rows))
        )
    words = ("compare", "small.csv", "large.csv", "--key", "id", "--format", "json")
    assert gravel(*words, "--engine", HERE, status=1) == gravel(*words, status=1)


def test_a_table_without_a_row_and_a_mistake_are_told_as_here(
    folder: Path, gravel: Callable[..., Ran]
) -> None:
    write("empty.csv", "a,b\n")
    write("bad.csv", b"a,b\n1,\xff\n")
    for words in (
        ["profile", "empty.csv"],
        ["count", "empty.csv", "--distinct", "a"],
        ["check", "bad.csv", "b = 'x'"],
    ):
        assert gravel(*words, "--engine", HERE, status=None) == gravel(*words, status=None), words


REFUSED = {
    "query SELECT~*~FROM~'boats.jsonl'": "it is not CSV, Parquet or Arrow IPC",
    "verify boats.record.json": "--engine says where the plan runs again, with --rerun",
    "check boats.csv fee~IN~(SELECT~boat_id~FROM~'boats.jsonl')": "it is not CSV, Parquet or Arrow IPC",
    "count boats.jsonl": "it is not CSV, Parquet or Arrow IPC",
    "count boats.csv --decimal ,": "its numbers or days are converted as it is opened",
}


def test_what_does_not_run_there_is_refused_by_name(
    folder: Path, gravel: Callable[..., Ran], monkeypatch: pytest.MonkeyPatch
) -> None:
    write("boats.csv", "boat_id,fee\n1,2\n")
    write("boats.jsonl", '{"boat_id": 1}\n')
    for command, message in REFUSED.items():
        words = [word.replace("~", " ") for word in command.split(" ")]
        assert message in gravel(*words, "--engine", HERE, status=2).err, command
    assert (
        "'there' is not an engine"
        in gravel("count", "boats.csv", "--engine", "there", status=2).err
    )
    monkeypatch.setenv("GRAVEL_ENGINE", HERE)
    assert gravel("query", "SELECT COUNT(*) AS n FROM 'boats.csv'").out.split() == ["n", "1"]
    assert "hint: pip install" not in gravel("count", "boats.csv").err
    monkeypatch.delattr("gravel.spark.engine")
    monkeypatch.setitem(sys.modules, "gravel.spark.engine", None)
    assert "hint: pip install 'gravel[spark]'" in gravel("count", "boats.csv", status=2).err


def test_a_file_written_anew_is_read_anew(folder: Path, gravel: Callable[..., Ran]) -> None:
    for name in "abc":
        write(
            "boats.csv",
            "id,name\n" + "".join(f"{number},{name}{number % 7}\n" for number in range(500)),
        )
        pq.write_table(
            pa.table({"name": [f"{name}{number % 7}" for number in range(500)]}), "boats.parquet"
        )
        for command in (
            ["profile", "boats.csv"],
            ["check", "boats.parquet", f"name LIKE '{name}%'"],
        ):
            words = (*command, "--format", "json")
            assert gravel(*words, "--engine", HERE) == gravel(*words), (name, words)


def test_executors_that_see_another_file_are_told(
    folder: Path, gravel: Callable[..., Ran], monkeypatch: pytest.MonkeyPatch
) -> None:
    write("boats.csv", "id\n1\n")
    (folder / "there").mkdir()
    reference = Reference
    monkeypatch.setattr(
        "gravel.spark.engine.Reference",
        lambda name, _, *more: reference(name, str(folder / "there"), *more),
    )
    write("there/boats.csv", "id\n1\n2\n")
    told = gravel("count", "boats.csv", "--engine", HERE, status=3).err
    assert "the executors have another boats.csv: 7 bytes there, 5 here" in told
    assert (
        "this process has Spark at local[2]"
        in gravel("count", "boats.csv", "--engine", "local[1]", status=2).err
    )


def test_a_table_opened_in_python_is_read_there(tables: Path) -> None:
    import gravel
    from gravel.problems import CallProblem

    here, there = gravel.open_table("boats.csv"), gravel.open_table("boats.csv", engine=HERE)
    assert there.count(key="boat_id").to_dict() == here.count(key="boat_id").to_dict()
    assert (
        there.check("fee > 10", "COUNT(DISTINCT mail) > 3").to_dict()
        == here.check("fee > 10", "COUNT(DISTINCT mail) > 3").to_dict()
    )
    assert (
        there.look(where="fee > 900", rows=3).to_dict()
        == here.look(where="fee > 900", rows=3).to_dict()
    )
    assert there.compare(there, key="mail").to_dict() == here.compare(here, key="mail").to_dict()
    with pytest.raises(CallProblem, match="read by another engine"):
        here.compare(there)
    assert (
        there.look(sort="fee DESC", rows=5).to_dict()
        == here.look(sort="fee DESC", rows=5).to_dict()
    )
    assert there.to_arrow() == here.to_arrow()
    check = "fee IN (SELECT fee FROM 'boats.csv' WHERE fee > 100)"
    assert there.check(check).to_dict() == here.check(check).to_dict()
    text = "SELECT b.mail, COUNT(*) FROM b JOIN 'boats.parquet' USING (boat_id) GROUP BY b.mail"
    of_both = gravel.query(text, tables={"b": there}, engine=HERE).to_arrow()
    assert of_both == gravel.query(text, tables={"b": here}).to_arrow()


def test_two_large_tables_are_joined_on_the_executors(
    tables: Path, gravel: Callable[..., Ran], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("gravel.querying.scanning._LARGE", 0)
    joined = "FROM 'boats.csv' AS b FULL JOIN 'part-b.csv' AS p ON p.boat_id = b.boat_id + 5900"
    for text, came in (
        (f"SELECT b.name, p.mail {joined} WHERE p.fee > 900 OR b.boat_id IS NULL", "4,410 rows"),
        (f"SELECT b.name, COUNT(p.fee) {joined} GROUP BY b.name HAVING COUNT(*) > 9", "groups"),
        (f"SELECT COUNT(*), LISTAGG(p.name, ' ') {joined} WHERE b.fee > 500", "1 group"),
    ):
        here = gravel("query", text, "--format", "json").out
        assert gravel("query", text, "--format", "json", "--engine", HERE).out == here
        assert came in gravel("query", text, "--explain", "--engine", HERE).out


def test_text_that_would_have_to_be_sent_is_refused(
    folder: Path, gravel: Callable[..., Ran], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("gravel.spark.engine._MOST_SENT", 100_000)
    write("old.csv", ("name\n" + "Møwe\n" * 40_000).encode("latin-1"))
    refused = gravel("count", "old.csv", "--encoding", "latin-1", "--engine", HERE, status=2).err
    assert "it is not UTF-8, or has quotes out of place" in refused


def test_another_version_on_the_executors_is_told(
    folder: Path, gravel: Callable[..., Ran], monkeypatch: pytest.MonkeyPatch
) -> None:
    from gravel.problems import TableProblem
    from gravel.spark import session

    mine = session.versions() | {"pyarrow": "0.1"}
    monkeypatch.setattr(session, "versions", lambda: mine)
    with pytest.raises(
        TableProblem, match=rf"the executors have pyarrow {pa.__version__}, and here it is 0.1"
    ):
        session._refuse_others(session.open_session(HERE))


def test_a_task_that_is_run_again_gives_the_same_bytes(
    tables: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from gravel.engine.engine import OfBatch
    from gravel.inspecting.count import _rows_of
    from gravel.profiling.state import TableState
    from gravel.sources.opening import open_table
    from gravel.sources.read_options import ReadOptions
    from gravel.spark.tasks import MapTask, Reference, run_map
    from gravel.spark.travel import packed

    monkeypatch.setattr("gravel.sources.csv.splitter.BLOCK", 100_000)
    table = open_table("boats.csv")
    splits = tuple(table.outline(split) for split in table.pieces())
    assert len(splits) > 3
    where = Reference("boats.csv", str(tables), ReadOptions(), (table.state,))
    numbers = pa.record_batch([pa.array(range(len(splits)))], ["id"])
    for task in (
        MapTask(where, splits, state=TableState(len(table.columns), frozenset(), 4_000), ranges=4),
        MapTask(where, splits, work=OfBatch(_rows_of, ())),
    ):
        first, again = (
            [batch.to_pydict() for batch in run_map(packed(task), [numbers])] for _ in "12"
        )
        assert first == again
        assert len(first) >= len(splits)


def test_the_package_works_from_the_archive_that_goes_to_executors(folder: Path) -> None:
    from gravel.spark.session import _archive

    compileall.compile_file(gravel.__file__, quiet=1)
    said = (
        "import gravel; from gravel.kernels.native import machine; from gravel.language import parse, tables\n"
        "tables._from_grammar = None\n"  # nothing is made anew
        "print(gravel.__file__, machine.description(), parse.expression('1 + a').name)"
    )
    command = [sys.executable, "-c", said]
    done = subprocess.run(
        command,
        env=os.environ | {"PYTHONPATH": str(_archive.__wrapped__())},
        capture_output=True,
        text=True,
        check=True,
    )
    place, _, rest = done.stdout.partition(" ")
    assert ".zip" in place
    assert place.endswith(".pyc")  # as it was compiled here
    assert rest.rstrip().endswith("+")
    assert "compiled" in rest or os.environ.get("GRAVEL_NATIVE") == "0"


# -- a real cluster


def processes(place: Path, word: str) -> list[int]:
    """The processes of a cluster, which run in its folder, whose command lines have a word."""
    found = []
    for process in Path("/proc").glob("[0-9]*"):
        try:
            if word.encode() in (process / "cmdline").read_bytes() and Path(
                os.readlink(process / "cwd")
            ).is_relative_to(place):
                found.append(int(process.name))
        except OSError:
            continue  # it has ended
    return found


def wait_for(state: Callable[[], Any], running: subprocess.Popen[bytes] | None = None) -> Any:
    """What a state comes to, once it is there."""
    while not (value := state()):
        assert running is None or running.poll() is None, "it ended before"
        time.sleep(0.02)
    return value


@pytest.fixture(scope="module")
def cluster(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[str, Path]]:
    """The address of a master with two workers on loopback, and the folder of their files."""
    place = tmp_path_factory.mktemp("cluster")
    home = Path(pyspark.__file__).parent
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    address = f"spark://127.0.0.1:{port}"
    surroundings = os.environ | {
        "SPARK_HOME": str(home),
        "SPARK_WORKER_DIR": str(place),
        "SPARK_LOCAL_DIRS": str(place),
    }
    started = []

    def start(name: str, *arguments: str) -> Path:
        log = place / f"{len(started)}.log"
        words = [str(home / "bin" / "spark-class"), f"org.apache.spark.deploy.{name}", *arguments]
        with open(log, "wb") as file:
            started.append(
                subprocess.Popen(
                    words, env=surroundings, stdout=file, stderr=file, start_new_session=True
                )
            )
        return log

    try:
        log = start("master.Master", "-h", "127.0.0.1", "-p", str(port), "--webui-port", "0")
        wait_for(lambda: "I have been elected leader" in log.read_text("utf-8"), started[-1])
        for _ in range(2):
            log = start("worker.Worker", "-c", "1", "-m", "1500M", address)
            wait_for(
                lambda log=log: "Successfully registered" in log.read_text("utf-8"), started[-1]
            )
        yield address, place
    finally:
        for process in started:
            os.killpg(process.pid, signal.SIGKILL)
            process.wait()


VICTIMS = {
    "the Python workers": lambda place: processes(place, "pyspark.daemon"),
    "an executor after a map stage": lambda place: (
        list(place.rglob("shuffle_*.data")) and processes(place, "ExecutorBackend")[:1]
    ),
}


@pytest.mark.parametrize("victim", VICTIMS)
def test_whoever_is_killed_the_figures_are_right(
    cluster: tuple[str, Path], tables: Path, gravel: Callable[..., Ran], victim: str
) -> None:
    address, place = cluster
    for old in place.rglob("shuffle_*.data"):
        old.unlink()
    here = gravel("profile", "boats.csv", "--format", "json")
    command = [*PROGRAM, "profile", "boats.csv", "--format", "json", "--engine", address]
    with open("out", "wb") as out, open("err", "wb") as err:
        running = subprocess.Popen(command, stdout=out, stderr=err)
        try:
            killed = wait_for(lambda: VICTIMS[victim](place), running)
            for process in killed:
                os.kill(process, signal.SIGKILL)
            assert running.wait() == 0, Path("err").read_text("utf-8")
        finally:
            running.kill()
    assert Path("out").read_text("utf-8") == here.out


@pytest.mark.parametrize("victim", ["Python workers", "driver"])
def test_whoever_is_killed_a_target_is_the_old_one_or_the_new_one(
    cluster: tuple[str, Path], folder: Path, gravel: Callable[..., Ran], victim: str
) -> None:
    address, place = cluster
    with open("boats.csv", "w", encoding="utf-8") as file:
        file.write("id,name\n")
        file.writelines(f"{number},Møwe {number % 977}\n" for number in range(400_000))
    write(
        "plan.toml",
        'table = "boats.csv"\nwrite = "clean.csv"\n[[step]]\nset = { name = "UPPER(name)" }\n'
        '[[step]]\ndeduplicate = { by = ["id % 399990"] }\n[[step]]\nsort = ["name DESC"]\n',
    )
    gravel("clean", "plan.toml")
    expected = written(folder)
    write("clean.csv", "id,name\n0,old\n")
    command = [*PROGRAM, "clean", "plan.toml", "--replace", "--engine", address]
    with open("err", "wb") as err:
        running = subprocess.Popen(command, stdout=err, stderr=err, start_new_session=True)
        try:
            if victim == "driver":  # in the middle of the rows that it writes
                wait_for(
                    lambda: any(p.stat().st_size > 1 << 20 for p in folder.glob(".clean*")), running
                )
                os.killpg(running.pid, signal.SIGKILL)
                running.wait()
                assert Path("clean.csv").read_text("utf-8") == "id,name\n0,old\n"
                assert "cleared" in gravel(*command[len(PROGRAM) : -2]).err
            else:
                for process in wait_for(lambda: processes(place, "pyspark.daemon"), running):
                    os.kill(process, signal.SIGKILL)
                assert running.wait() == 0, Path("err").read_text("utf-8")
        finally:
            running.kill()
    assert written(folder) == expected


def test_a_table_of_the_catalogue_is_read_from_a_snapshot(
    tables: Path, gravel: Callable[..., Ran], monkeypatch: pytest.MonkeyPatch
) -> None:
    """The same table as a file is the reference: rows, and values of kinds that Spark has of its own."""
    from gravel.spark.session import open_session

    session = open_session(HERE)
    rows = pq.read_table("boats.parquet")
    session.read.parquet(str(tables / "boats.parquet")).createOrReplaceTempView("boats")
    session.sql(
        "CREATE OR REPLACE TEMP VIEW kinds AS SELECT DATE'1500-01-01' AS day, TIMESTAMP'1800-01-01 00:00:00Z' AS"
        " moment, TIMESTAMP_NTZ'2024-05-01 10:00:00.123456' AS local, CAST(1.5 AS DECIMAL(5, 2)) AS fee,"
        " INTERVAL '1 02' DAY TO HOUR AS stay, PARSE_JSON('{\"a\": 1}') AS more, CAST(3 AS TINYINT) AS small"
    )
    there = ("--engine", HERE)
    compared = gravel("compare", "spark:boats", "boats.parquet", "--key", "boat_id", *there).out
    assert f"all {rows.num_rows:,} rows in both are equal\n\nno difference" in compared
    text = "SELECT boats.paid, COUNT(*) AS n FROM '{}' WHERE fee > 9 GROUP BY boats.paid"
    of_file = gravel("query", text.format("boats.parquet")).out
    assert gravel("query", text.format("spark:boats"), *there).out == of_file
    seen = gravel("look", "spark:kinds", "--format", "csv", *there)
    assert seen.out == (
        "gravel_row,day,moment,local,fee,stay,more,small\n1,1500-01-01,1800-01-01 00:00:00+00,"
        '2024-05-01 10:00:00.123456,1.50,INTERVAL \'1 02\' DAY TO HOUR,"{""a"":1}",3\n'
    )
    assert "stay is read as its text: it is interval day to hour" in seen.err
    write(
        "p.toml",
        'table = "spark:boats"\nwrite = "o.parquet"\n[[step]]\nset = { mail = "UPPER(mail)" }\n',
    )
    assert "holds  every row of the store is accounted for" in gravel("clean", "p.toml", *there).out
    assert pq.read_schema("o.parquet").types == rows.schema.types
    assert "spark was not asked" in gravel("verify", "o.record.json", "--connect").err
    again = gravel("verify", "o.record.json", "--rerun", "--connect", *there).out
    assert "same  run again: SHA-256" in again
    assert not list(tables.glob(".gravel-*"))
    # What cannot be read, or written, is told.
    for words, message in {
        "count spark:boat": "did you mean spark:boats?",
        "count spark:a.b.c.d": "cannot be read",
    }.items():
        assert message in gravel(*words.split(), *there, status=3).err, words
    assert "which only Spark reads" in gravel("count", "spark:boats", status=2).err
    for target in ('"spark:boats"', '"o.csv"\nrejects = "spark:rest"'):
        write("p.toml", f'table = "boats.csv"\nwrite = {target}\n')
        assert "cannot be written" in gravel("clean", "p.toml", *there, status=2).err
    monkeypatch.setattr("gravel.spark.catalogue.tempfile.mkdtemp", lambda **_: str(tables / "x"))
    (tables / "x").mkdir()
    monkeypatch.setattr("gravel.spark.catalogue.pq.read_metadata", lambda _: pa.table({}))
    told = gravel("count", "spark:boats", *there, status=3).err
    assert f"has {rows.num_rows:,} rows by Spark's count, and 0 came here" in told
