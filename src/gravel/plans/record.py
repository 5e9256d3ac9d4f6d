"""The record of a run: what was read, done and written, to be verified later and elsewhere.
docs/record.md has its schema."""

from __future__ import annotations

import datetime
import hashlib
import json
import os
import tomllib
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from msgspec.structs import replace

from gravel.figures import Figures, Unlisted, figure
from gravel.hidden import removed
from gravel.language.type_names import named_type
from gravel.language.types import TEXT
from gravel.ledger.checksum import FileChecksum, signature_of
from gravel.ledger.fingerprint import content_of, kept_type
from gravel.ledger.signature import SignatureProblem, signature_path, signer_of
from gravel.plans.steps import record_path
from gravel.problems import CallProblem, TableProblem, nearest
from gravel.sinks.atomic_file import Output, recover
from gravel.sources.jsonl import NoObjects
from gravel.sources.metadata import metadata_of, metadata_path, written_forms
from gravel.sources.opening import CATALOGUE, files_named, open_table
from gravel.sources.read_options import ReadOptions, reading_of
from gravel.sources.source import scan
from gravel.version import __version__

if TYPE_CHECKING:
    from gravel.plans.execution import Execution
    from gravel.plans.placing import Placed
    from gravel.plans.result import Run
    from gravel.plans.steps import BoundPlan

KIND = "record/2"


def record_of(
    done: Run, signatures: dict[str, FileChecksum], contents: dict[str, str], others: list[Path]
) -> dict[str, Any]:
    """A run as its record has it; paths are relative to the output's folder. `contents`: of input
    and output where they are tables of a database, which no size and hash of a file tells apart.
    `others`: the files of further tables that the plan read.
    """
    plan = done.bound
    to = plan.destination
    folder = plan.target.parent
    text = removed(plan.file.text)

    def table_of(
        path: Path | None, server: str, part: str, content: str, **more: Any
    ) -> dict[str, Any]:
        relative = (
            None if path is None else Path(os.path.relpath(path.resolve(), folder)).as_posix()
        )
        where: dict[str, Any] = (
            {"path": None, "server": server} if relative is None else {"path": relative}
        )
        return {**where, "part": part, "content": content, **more}

    def file(path: Path, signature: FileChecksum, **more: Any) -> dict[str, Any]:
        relative = Path(os.path.relpath(path.resolve(), folder)).as_posix()
        return {"path": relative, "bytes": signature.bytes, "sha256": signature.sha256, **more}

    table = plan.table
    dialect = table.dialect
    plain = {"delimiter": dialect.delimiter, "encoding": dialect.encoding, "empty": "text"}
    reading = {**plain, **table.read_as}
    reading.pop("text", None)
    counts = {"table": plan.table_name, "rows": done.rows_in, "malformed": len(done.malformed)}
    if contents["input"]:
        source = table_of(
            None if table.server else table.origin,
            table.server,
            table.part,
            contents["input"],
            **counts,
        )
        if to.kind == "in place":
            source["changed"] = True  # by this run
    else:
        signed = (
            signatures["input"]
            if table.origin == table.path
            else signature_of(table.origin, table.name)
        )
        source = file(table.origin, signed, **counts)
    # Of several files each is signed by itself.
    several = table.sources if table.sources[0] is not table and not table.server else []
    every = [
        file(item.origin, signature_of(item.origin, item.name), table=item.name) for item in several
    ]
    order = (
        sorted(plan.columns, key=lambda item: table.columns.index(item.name))
        if to.kind == "in place"
        else plan.columns
    )
    columns = [{"name": column.name, "type": str(column.type)} for column in order]
    left = None
    if "left" in signatures:
        reading_left = {"delimiter": dialect.delimiter}
        left = file(plan.rejects, signatures["left"], rows=done.left_rows, reading=reading_left)
        if to.left_table:
            left = {"part": to.left_table, "rows": done.left_rows}
    dialect = plan.dialect
    if to.database:
        server = "" if to.file is not None else to.shown.partition("#")[0]
        output = table_of(
            to.file,
            server,
            to.table,
            contents["output"],
            rows=done.rows_out,
            columns=columns,
            reading=None,
        )
        if done.changes is not None:
            output["changes"] = done.changes.to_dict()
    else:
        output = file(
            plan.target,
            signatures["output"],
            rows=done.rows_out,
            columns=columns,
            reading={"delimiter": plan.reading.delimiter},
        )
    described = {}
    if "metadata" in signatures:
        described["metadata"] = file(metadata_path(plan.target), signatures["metadata"])
    beside = [path for path in others if to.file is None or path.resolve() != to.file.resolve()]
    plan_path = Path(os.path.relpath(plan.file.path.resolve(), folder)).as_posix()
    return {
        "gravel": KIND,
        "version": __version__,
        "status": "good",
        "begun": done.begun.isoformat(timespec="seconds"),
        "ended": done.ended.isoformat(timespec="seconds"),
        "plan": {
            "path": plan_path,
            "sha256": hashlib.sha256(text.encode()).hexdigest(),
            "text": text,
        },
        "engine": table.engine.description,
        "today": done.today.isoformat(),
        "parameters": done.parameters,
        "inputs": [
            *(every or [{**source, "reading": reading}]),
            *(file(path, signature_of(path, str(path)), table=path.name) for path in beside),
        ],
        "output": output,
        "rejects": left,
        **described,
        "totals": [total.text for total in plan.totals],
        "steps": [line.to_dict() for line in done.steps],
        "proofs": [proof.to_dict() for proof in done.proofs],
        "cautions": [
            {
                "step": line.step,
                "caution": item.caution,
                "rows": item.rows,
                "detail": item.detail,
                "hint": item.hint,
            }
            for line in done.steps
            for item in line.cautions
        ],
    }


def written(target: Path, text: str, beside: Path) -> Output:
    """A text in a file beside its place, not yet renamed; a new one takes the mode of the file that
    it is of. Raises TableProblem."""
    output = Output(target, target.name, like=beside)
    output.write(text.encode())
    output.close()
    return output


def record_run(done: Run, execution: Execution, placed: Placed | None) -> list[Output]:
    """The fourth phase of a run: its record beside its place, and the record's signature if that is
    asked for, to be published with the result; a device has none, since it cannot be opened
    again."""
    flow, output, left = execution.flow, execution.output, execution.rejects.file
    if output.special or flow.signing is None:
        return []
    file = placed.output if placed is not None and placed.output is not None else output
    signatures = {"input": flow.signing.signature(), "output": file.signing.signature()}
    if left is not None:
        signatures["left"] = left.signing.signature()
    contents = {
        "input": "" if flow.content is None else flow.content.value,
        "output": "" if placed is None else placed.content,
    }
    plan, description = flow.plan, ""
    if plan.file.model.metadata:
        description = _metadata(plan)
        whole = description.encode()
        sha256 = hashlib.sha256(whole).hexdigest()
        signatures["metadata"] = FileChecksum(len(whole), sha256)
    text = json.dumps(
        record_of(done, signatures, contents, list(plan.others)), indent=1, ensure_ascii=False
    )
    target = record_path(flow.plan.target)
    results = [written(target, f"{text}\n", file.target)]
    if description:
        place = metadata_path(flow.plan.target)
        results.insert(0, written(place, description, file.target))
    if execution.wish.sign is not None:
        signature = execution.wish.sign.sign(f"{text}\n".encode())
        results.append(written(signature_path(target), signature, file.target))
    return results


def _metadata(plan: BoundPlan) -> str:
    """The metadata of a plan's output. A column that no step touched has the type that its values
    are seen to have."""
    types = {column.name: column.type for column in plan.columns}
    untouched = {
        column.name: column.source
        for column in plan.columns
        if column.source is not None and not column.touched
    }
    seen_types = plan.table.types(
        [source for name, source in untouched.items() if types[name] == TEXT]
    )
    types |= {name: seen_types.get(source, types[name]) for name, source in untouched.items()}
    written = written_forms(plan.table, {source: types[name] for name, source in untouched.items()})
    forms = {name: written[source] for name, source in untouched.items() if source in written}
    dialect = replace(plan.dialect, encoding="utf-8", quote='"')
    return metadata_of(plan.target.name, types, dialect, ReadOptions(), forms)


@dataclass(frozen=True)
class RecordMismatch(Figures):
    """Something that a record tells: what, as it was then, as it is now."""

    what: str
    then: str
    now: str


@dataclass(frozen=True)
class Verified(Figures):
    """What `gravel verify` tells: everything that was looked at, and what of it differs; servers
    that were not asked."""

    record: Unlisted[str]
    compared: Unlisted[tuple[RecordMismatch, ...]]
    not_asked: Unlisted[tuple[str, ...]] = ()
    signed: Unlisted[bool] = False  # a signature stands beside the record

    @property
    @figure
    def status(self) -> Literal["same", "differs"]:
        """Whether all is as it was."""
        return "differs" if self.findings else "same"

    @property
    @figure
    def findings(self) -> tuple[RecordMismatch, ...]:
        """What is not as it was."""
        return tuple(item for item in self.compared if item.then != item.now)

    @property
    @figure
    def checked(self) -> tuple[str, ...]:
        """What was looked at."""
        return tuple(item.what for item in self.compared)


def read_record(path: Path) -> dict[str, Any]:
    """A record. Raises TableProblem where it cannot be read, CallProblem where it is none."""
    try:
        result = json.loads(path.read_text("utf-8"))
    except FileNotFoundError:
        beside = (
            [item.name for item in path.parent.glob("*.record.json")]
            if path.parent.is_dir()
            else []
        )
        near = nearest(path.name, beside)
        raise TableProblem(
            f"there is no record {path}",
            hint=f"did you mean {near}?" if near else "gravel clean PLAN makes one",
        ) from None
    except (OSError, UnicodeDecodeError) as error:
        raise TableProblem(
            f"{path} cannot be read: {(getattr(error, 'strerror', None) or str(error)).lower()}"
        ) from None
    except json.JSONDecodeError as error:
        raise CallProblem(
            f"{path} is not a record: {error.msg.lower()}",
            place=f"{path}:{error.lineno}",
            hint="gravel clean PLAN writes one beside each output",
        ) from None
    parts = ("plan", "inputs", "output", "steps", "proofs")
    if (
        not isinstance(result, dict)
        or result.get("gravel") != KIND
        or any(part not in result for part in parts)
    ):
        raise CallProblem(
            f"{path} is not a record of this kind ({KIND})",
            hint="gravel clean writes one beside each output",
        )
    return result


def pending_path(record: Path) -> Path:
    """Where a record waits while its database commits."""
    return record.with_name(f".{record.name}.pending")


def waits(file: Output) -> None:
    """Let a record or its signature wait beside its place. Raises TableProblem."""
    file.move(pending_path(file.target))


def settle_pending(record: Path, connect: bool) -> bool:
    """A record that waits for a commit of which its run did not live to hear: it takes its place if
    the database's table holds what it says, and goes if not; whether there was one. A server is
    asked only with `connect`."""
    pending = pending_path(record)
    if not pending.is_file():
        return False
    try:
        item = read_record(pending)["output"]
        if item.get("server") and not connect:
            return False
        base = item["server"] if item["path"] is None else record.parent / item["path"]
        table = open_table(f"{base}#{item['part']}")
        stands = _content(item, table).value == item["content"]
    except TableProblem:
        return False  # it cannot be asked now
    except (CallProblem, KeyError, TypeError, AttributeError, ValueError):
        stands = False
    signature = signature_path(record)
    if stands:
        os.replace(pending, record)
        if pending_path(signature).is_file():
            os.replace(pending_path(signature), signature)
        else:
            signature.unlink(missing_ok=True)  # it was of the record before
    else:
        pending.unlink()
        pending_path(signature).unlink(missing_ok=True)
    return True


def _content(value: dict[str, Any], table: Any) -> Any:
    """What a table holds now, its columns taken for the types that a record has of them."""
    kinds = [TEXT] * len(table.columns)
    if "columns" in value:
        types = {
            column["name"]: kept_type(named_type(column["type"]).type)
            for column in value["columns"]
        }
        kinds = [types.get(column, TEXT) for column in table.columns]
    return content_of(table, kinds)


def _put_in_place(record: Path, result: dict[str, Any]) -> bool:
    """Finish what a killed run was about to put in place beside a record, whether there was
    such."""
    try:
        target = (record.parent / result["output"]["path"]).resolve()
        left = result.get("rejects") or {}
        ending = target.suffix if target.suffix in (".csv", ".tsv") else ".csv"
        stem = record.name.removesuffix(".record.json").removesuffix(".csv")
        places = [
            record,
            *(
                target.with_name(f"{item}-rejects{ending}")
                for item in {target.stem, stem, target.name.split(".")[0]}
            ),
        ]
        places += [(record.parent / left["path"]).resolve()] if left.get("path") else []
    except (KeyError, TypeError, AttributeError, ValueError):
        return False
    return recover(target, places)


def verify(path: Path, connect: bool = False, signers: Path | None = None) -> Verified:
    """Open again what a record names, and count it again; servers are asked only with `connect`,
    since a record may come from anybody. `signers`: an allowed-signers file, one of whose keys must
    have signed the record. Raises TableProblem, CallProblem for what is not a record."""
    folder = path.resolve().parent
    settled = settle_pending(path.resolve(), connect)
    result = read_record(path)
    if _put_in_place(path.resolve(), result) or settled:
        result = read_record(path)
    checked: list[RecordMismatch] = [] if signers is None else [_signature(path, signers)]
    try:
        _verify(result, folder, checked, connect)
    except (KeyError, TypeError, AttributeError, ValueError) as error:
        raise CallProblem(f"{path} is not a whole record: {type(error).__name__} {error}") from None
    servers = {
        item["server"]
        for item in (*result["inputs"], result["output"])
        if item.get("content") and not _is_asked(item, connect)
    }
    return Verified(
        str(path), tuple(checked), tuple(sorted(servers)), signature_path(path).is_file()
    )


def _is_asked(item: dict[str, Any], connect: bool) -> bool:
    """Whether a table of a record is opened: of a server if that is wished, of Spark's catalogue
    where the plan is run again."""
    server = item.get("server")
    return not server or (connect and server != CATALOGUE.rstrip(":"))


def _signature(path: Path, signers: Path) -> RecordMismatch:
    """Whether the record's bytes are signed by one of the signers."""
    what, then = f"{path.name}: its signature", f"by one of {signers.name}"
    try:
        signature = signature_path(path).read_text("ascii")
    except (OSError, UnicodeDecodeError):
        return RecordMismatch(what, then, "not there")
    try:
        who = signer_of(signature, path.read_bytes(), signers, datetime.datetime.now(datetime.UTC))
    except SignatureProblem as problem:
        return RecordMismatch(what, then, problem.message)
    return RecordMismatch(f"{what}, by {who}", then, then)


def _verify(
    result: dict[str, Any], folder: Path, checked: list[RecordMismatch], connect: bool
) -> None:
    plan = result["plan"]
    text_hash = hashlib.sha256(plan["text"].encode()).hexdigest()
    checked.append(
        RecordMismatch("the plan's text in the record: SHA-256", plan["sha256"], text_hash)
    )
    plan_path = folder / plan["path"]
    if plan_path.is_file():
        now = hashlib.sha256(removed(plan_path.read_text("utf-8-sig")).encode()).hexdigest()
        checked.append(RecordMismatch(f"{plan['path']}: SHA-256", plan["sha256"], now))
    else:
        checked.append(RecordMismatch(f"{plan['path']}: the file", "there", "not there"))
    for item in result["inputs"]:
        if item.get("content"):
            if _is_asked(item, connect):
                _stored(item, folder, checked, must=False)
        elif not item.get("server"):
            _file(item, folder, checked)
    _added(result, folder, checked)
    if not result["output"].get("content"):
        _file(result["output"], folder, checked, own=True)
    elif _is_asked(result["output"], connect):
        _stored(result["output"], folder, checked)
    if result.get("rejects") and result["rejects"].get("path"):
        _file(result["rejects"], folder, checked, result["output"]["reading"], own=True)
    if result.get("metadata"):
        _file(result["metadata"], folder, checked)
    wrong = []
    for step in result["steps"]:
        if step["out"] != step["in"] + step["added"] - step["dropped"] - step["merged"] - step[
            "set_aside"
        ] - step.get("failed", 0):
            wrong.append(str(step["step"]))
    checked.append(
        RecordMismatch(
            "every step of the ledger balances",
            "yes",
            f"not step {', '.join(wrong)}" if wrong else "yes",
        )
    )
    steps = result["steps"]
    checked.append(
        RecordMismatch(
            "the output's rows in the ledger",
            f"{result['output']['rows']:,}",
            f"{steps[-1]['out']:,}",
        )
    )
    for proof in result["proofs"]:
        if not proof["holds"]:
            checked.append(RecordMismatch(f"proof: {proof['proof']}", "holds", "does not"))


def _added(result: dict[str, Any], folder: Path, checked: list[RecordMismatch]) -> None:
    """Files that the plan's folder or pattern has now and had not when it was run."""
    reference = str(tomllib.loads(result["plan"]["text"]).get("table", "-"))
    known = {(folder / item["path"]).resolve() for item in result["inputs"] if item.get("path")}
    with suppress(TableProblem):  # of the files that were there each is told
        now = files_named(reference, (folder / result["plan"]["path"]).parent)
        for path in now:
            if path.resolve() not in known and path.stat().st_size:
                name = Path(os.path.relpath(path.resolve(), folder)).as_posix()
                checked.append(RecordMismatch(f"{name}: the file", "not there", "there"))


def _stored(
    item: dict[str, Any], folder: Path, checked: list[RecordMismatch], must: bool = True
) -> None:
    """A table of a database as the record says beside what it is. One that this run has changed is
    told by the output. `must`: a server that cannot be reached is a problem, and not passed
    over."""
    if item.get("changed"):
        return
    name = f"{item.get('server') or item['path']}#{item['part']}"
    if item["path"] is not None and not (folder / item["path"]).is_file():
        checked.append(RecordMismatch(f"{item['path']}: the file", "there", "not there"))
        return
    try:
        table = open_table(
            f"{item['server'] if item['path'] is None else folder / item['path']}#{item['part']}"
        )
    except CallProblem:
        checked.append(RecordMismatch(f"{name}: the table", "there", "not there"))
        return
    except TableProblem:
        if must:
            raise
        return
    if "columns" in item:
        then = [column["name"] for column in item["columns"]]
        checked.append(
            RecordMismatch(f"{name}: columns", ", ".join(then), ", ".join(table.columns))
        )
    now = _content(item, table)
    checked.append(RecordMismatch(f"{name}: rows", f"{item['rows']:,}", f"{now.rows:,}"))
    checked.append(RecordMismatch(f"{name}: content", item["content"], now.value))


def _file(
    value: dict[str, Any],
    folder: Path,
    checked: list[RecordMismatch],
    reading: dict[str, Any] | None = None,
    own: bool = False,
) -> None:
    """A file as the record says beside what it is, and its rows counted again."""
    path, name = folder / value["path"], value["path"]
    if not path.is_file():
        checked.append(RecordMismatch(f"{name}: the file", "there", "not there"))
        return
    now = signature_of(path, name)
    checked.append(RecordMismatch(f"{name}: bytes", f"{value['bytes']:,}", f"{now.bytes:,}"))
    checked.append(RecordMismatch(f"{name}: SHA-256", value["sha256"], now.sha256))
    how = value.get("reading") or reading
    if how is None or "rows" not in value:
        return
    try:
        reference = f"{path}#{value['part']}" if value.get("part") else str(path)
        table = open_table(reference, reading_of(how, own=own))
        rows = bad = 0
        for count, malformed in scan(table, lambda batch: (batch.count, len(batch.malformed)), []):
            rows, bad = rows + count, bad + malformed
        checked.append(RecordMismatch(f"{name}: rows", f"{value['rows']:,}", f"{rows:,}"))
        checked.append(
            RecordMismatch(
                f"{name}: malformed records", f"{value.get('malformed', 0):,}", f"{bad:,}"
            )
        )
        if "columns" in value:
            then = ", ".join(column["name"] for column in value["columns"])
            checked.append(RecordMismatch(f"{name}: columns", then, ", ".join(table.columns)))
    except NoObjects:
        checked.append(RecordMismatch(f"{name}: rows", f"{value['rows']:,}", "0"))
    except TableProblem as problem:
        checked.append(RecordMismatch(f"{name}: rows", f"{value['rows']:,}", problem.message))
