"""Gravel as a library: tables, queries and plans from Python, with the results of the command line.

Every function may be called from several threads at once. Errors are the exceptions of
`gravel.problems` and `gravel.Diagnostic`, whose `message`, `place` and `hint` say what the command
line would.
"""

from __future__ import annotations

import datetime
import html
import tempfile
import threading
import weakref
from collections.abc import Callable, Mapping, Sequence
from contextlib import ExitStack
from functools import partial, wraps
from pathlib import Path
from typing import Any, ParamSpec, TypeVar

import pyarrow as pa
from msgspec.structs import replace

from gravel import spark
from gravel.comparing.compare import compare
from gravel.comparing.how import How
from gravel.duplicates.groups import duplicates
from gravel.engine.arrow_values import laid_out
from gravel.engine.mapped import Store
from gravel.engine.memory import default_memory, size_of
from gravel.figures import Figures
from gravel.inspecting.attempt import attempt
from gravel.inspecting.check import allowance, check, named_condition
from gravel.inspecting.chosen_rows import choose_rows
from gravel.inspecting.count import count_table
from gravel.inspecting.look import look
from gravel.language.errors import ErrorPolicy
from gravel.language.parameters import typed
from gravel.language.scope import Given
from gravel.language.writing import quoted
from gravel.ledger.signature import SigningKey
from gravel.plans.loading import read_plan
from gravel.plans.model import PlanFile
from gravel.plans.result import Run
from gravel.plans.run import clean
from gravel.plans.wish import Wish
from gravel.problems import CallProblem
from gravel.profiling.profile import profile
from gravel.querying.account import Account
from gravel.querying.context import QueryContext
from gravel.querying.members import members_of
from gravel.querying.relation import Relation, distinct_names
from gravel.querying.result import outcome_of
from gravel.querying.result_file import stored_columns
from gravel.querying.session import Session
from gravel.render.html import check as check_page
from gravel.render.html import clean as clean_page
from gravel.render.html import compare as compare_page
from gravel.render.html import duplicates as duplicates_page
from gravel.render.html import profile as profile_page
from gravel.render.html import tables as tables_page
from gravel.sinks.arrow import in_common
from gravel.sources.opening import open_table as open_source
from gravel.sources.read_options import ReadOptions, reading_of
from gravel.sources.source import Source, as_it_is, scan
from gravel.words import number_of

Params = ParamSpec("Params")
Found = TypeVar("Found")


def open_table(
    table: Any, *, text: str | Sequence[str] = (), engine: str | None = None, **reading: Any
) -> Table:
    """A table.

    `table` is a reference as the command line takes it (a file, `harbour.db#boats`, a server's
    URL), a path, an Arrow table, or anything with `__arrow_c_stream__` (a data frame, a reader).
    `text`: columns to keep as text whatever they hold. `engine`: the address of a Spark whose
    executors read it, a file. `reading`: the options of the command line by their names (delimiter,
    encoding, header, skip, comment, quote, null, empty, decimal, group, dates). Raises
    TableProblem, CallProblem.
    """
    if isinstance(table, Table):
        return table
    if isinstance(table, (str, Path)):
        asked = {
            name: list(value) if isinstance(value, tuple) else value
            for name, value in reading.items()
        }
        how = reading_of(asked, texts=_several(text))
        if engine is not None:
            return Table(spark.open_table(str(table), how, engine))
        return Table(open_source(str(table), how))
    if hasattr(table, "__arrow_c_stream__"):
        return _of_arrow(pa.table(table), _several(text))
    raise CallProblem(
        f"{table!r:.60} is not a table",
        hint="a file's name, an Arrow table, or what has __arrow_c_stream__",
    )


def _of_arrow(table: pa.Table, text: tuple[str, ...]) -> Table:
    """An Arrow table, kept in a file that lives as long as the Table does."""
    folder = tempfile.TemporaryDirectory(prefix="gravel-")
    path = Path(folder.name, "table.arrow")
    with pa.OSFile(str(path), "wb") as file, pa.ipc.new_file(file, table.schema) as writer:
        writer.write_table(table, max_chunksize=1 << 16)
    made = Table(open_source(str(path), ReadOptions(texts=text)))
    weakref.finalize(made, folder.cleanup)
    return made


def _one_at_a_time(method: Callable[Params, Found]) -> Callable[Params, Found]:
    """Let threads that share a table take turns."""

    @wraps(method)
    def turn(*args: Params.args, **kwargs: Params.kwargs) -> Found:
        table: Any = args[0]
        with table._lock:
            return method(*args, **kwargs)

    return turn


class Table:
    """A table that can be counted, looked at, profiled, checked, compared. Nothing here writes."""

    def __init__(self, source: Source) -> None:
        self.source = source
        self._lock = threading.RLock()  # a table is read by one call at a time

    @property
    def name(self) -> str:
        """What it was called."""
        return self.source.name

    @property
    def columns(self) -> tuple[str, ...]:
        """The names of its columns."""
        return self.source.columns

    @property
    def _elsewhere(self) -> bool:
        return self.source.engine.address is not None

    def _given(self, params: Mapping[str, Any] | None) -> Given:
        return _context(params, engine=self.source.engine.address)

    @_one_at_a_time
    def where(self, condition: str, *, params: Mapping[str, Any] | None = None) -> Table:
        """The rows for which a condition is true, as a table of its own; they keep their numbers
        and the types of their columns. Raises Diagnostic, TableProblem."""
        return Table(choose_rows(self.source, condition, self._given(params))[0])

    @_one_at_a_time
    def types(self) -> dict[str, str]:
        """The type of each column, as SQL writes it; those of a text file are found from all of
        its values."""
        outcome = self.source.types(list(range(len(self.columns))))
        return {self.columns[index]: str(kind) for index, kind in outcome.items()}

    def to_arrow(self) -> pa.Table:
        """All rows: a column that the table's file or database keeps as Arrow values as it is, of
        any Arrow type; others in their types, texts that do not fit a declared one NULL."""
        source = self.source
        settled = {*source.texts, *source.declared}
        kept = {
            index: field
            for index, field in source.fields.items()
            if source.columns[index] not in settled
        }
        others = [quoted(name) for index, name in enumerate(self.columns) if index not in kept]
        columns: dict[int, pa.ChunkedArray] = {}
        if others:
            result = query(f"SELECT {', '.join(others)} FROM t", tables={"t": self}).to_arrow()
            places = (index for index in range(len(self.columns)) if index not in kept)
            columns |= zip(places, result.columns, strict=True)
        if kept:
            columns |= self._as_stored(kept)
        whole = [columns[index] for index in range(len(self.columns))]
        return pa.table(whole, list(self.columns)).unify_dictionaries()

    @_one_at_a_time
    def _as_stored(self, fields: Mapping[int, pa.Field]) -> dict[int, pa.ChunkedArray]:
        """Columns as the store keeps them."""
        batches = list(scan(self.source, as_it_is, list(fields)))
        return {
            index: pa.chunked_array(
                [laid_out(batch.columns[index], field.type) for batch in batches], field.type
            )
            for index, field in fields.items()
        }

    @_one_at_a_time
    def count(
        self,
        *,
        key: str | Sequence[str] = (),
        distinct: str | Sequence[str] = (),
        totals: str | Sequence[str] = (),
        params: Mapping[str, Any] | None = None,
    ) -> Result:
        """Rows, columns, malformed records; whether `key` is one; distinct values and exact sums of
        expressions. Raises Diagnostic, TableProblem."""
        keys = [", ".join(_several(key))] if key else []
        outcome = count_table(
            self.source, _several(distinct), keys, _several(totals), self._given(params)
        )
        return Result(outcome, tables_page.write_count)

    @_one_at_a_time
    def look(
        self,
        *,
        where: str | None = None,
        show: str | Sequence[str] = (),
        columns: str | Sequence[str] = (),
        sort: str | None = None,
        rows: int | None = 20,
        params: Mapping[str, Any] | None = None,
    ) -> Result:
        """The first rows that meet a condition (`rows` None: all), with expressions beside them.
        Raises Diagnostic, CallProblem, TableProblem."""
        view = look(
            self.source,
            columns=", ".join(_several(columns)) or None,
            where=where,
            show=_several(show),
            sort=sort,
            rows=_number("rows", rows),
            given=self._given(params),
        )
        return Result(view, tables_page.write_view)

    @_one_at_a_time
    def profile(
        self,
        *,
        sample: int | None = None,
        memory: str | int | None = None,
        today: datetime.date | None = None,
    ) -> Result:
        """What is in each column, what is wrong with it, how to see it and how to fix it. Raises
        TableProblem."""
        day = today or datetime.date.today()
        room = _memory(memory, self._elsewhere)
        outcome = profile(self.source, today=day, memory=room, sample=_number("sample", sample, 1))
        return Result(
            outcome, lambda path, value: profile_page.write_page(path, value, self.source, day)
        )

    @_one_at_a_time
    def try_(self, *assignments: str, params: Mapping[str, Any] | None = None) -> Result:
        """What `column = EXPR`, or an expression of one column, would change, fill, empty and fail
        at. Raises Diagnostic, TableProblem."""
        outcome = attempt(self.source, assignments, self._given(params))
        return Result(outcome, tables_page.write_trial)

    @_one_at_a_time
    def check(
        self,
        *conditions: str,
        unknown_fails: bool = False,
        allow: int | str = 0,
        params: Mapping[str, Any] | None = None,
    ) -> Result:
        """Whether conditions (`name: EXPR`, or the expression alone) hold in every row, or with
        aggregates for the table as a whole. `allow`: failing rows to tolerate, or a share such as
        "0.1%". Raises Diagnostic, CallProblem, TableProblem, DataProblem."""
        try:
            allowed = allowance(allow)
        except ValueError as error:
            raise CallProblem(f"allow: {error}") from None
        outcome = check(
            self.source,
            [named_condition(text) for text in conditions],
            unknown_fails=unknown_fails,
            allowed=allowed,
            given=self._given(params),
        )
        return Result(
            outcome, lambda path, value: check_page.write_page(path, value, unknown_fails)
        )

    @_one_at_a_time
    def duplicates(
        self,
        *,
        on: str | Sequence[str] = (),
        key: str | Sequence[str] = (),
        level: str = "equal",
        null_equal: bool = False,
        groups: int | None = 10,
        memory: str | int | None = None,
        params: Mapping[str, Any] | None = None,
    ) -> Result:
        """Groups of rows that are equal in expressions (none: in all columns that are not of the
        key), exactly or at a looser match level. Raises Diagnostic, CallProblem, TableProblem."""
        outcome = duplicates(
            self.source,
            _several(on),
            key=_several(key),
            match_level=level,
            null_equal=null_equal,
            shown=_number("groups", groups),
            given=self._given(params),
            memory=_memory(memory, self._elsewhere),
        )
        return Result(outcome, duplicates_page.write_page)

    @_one_at_a_time
    def compare(
        self,
        other: Any,
        *,
        key: str | Sequence[str] = (),
        where: str | None = None,
        ignore_case: bool = False,
        ignore_spaces: bool = False,
        memory: str | int | None = None,
        params: Mapping[str, Any] | None = None,
    ) -> Result:
        """What differs between this table (before) and another one (after), matched by a key, else
        as many rows alike. Raises Diagnostic, CallProblem, TableProblem."""
        how = How(ignore_case=ignore_case, ignore_spaces=ignore_spaces, where=where)
        room = _memory(memory, self._elsewhere)
        after = open_table(other).source
        if after.engine.description != self.source.engine.description:
            raise CallProblem(
                f"{after.name} is read by another engine than {self.name}",
                hint="open both with the same engine",
            )
        outcome, _ = compare(self.source, after, _several(key), how, self._given(params), room)
        return Result(outcome, compare_page.write_page)

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        """The rows as an Arrow stream, so that other libraries take them without a copy."""
        return self.to_arrow().__arrow_c_stream__(requested_schema)

    def __repr__(self) -> str:
        return f"<gravel.Table {self.name}: {len(self.columns)} columns>"


class Result:
    """What a command found. Its figures are attributes, named as in the dataclass that it holds;
    `to_dict` gives them as the command's JSON does; notebooks show the command's page."""

    def __init__(self, value: Figures, page: Callable[[Path, Any], None]) -> None:
        self.value, self._page = value, page

    def __getattr__(self, name: str) -> Any:
        if name.startswith("_") or name == "value":
            raise AttributeError(name)
        return getattr(self.value, name)

    def to_dict(self) -> dict[str, Any]:
        """The figures as plain values, as `--format json` has them."""
        return self.value.to_dict()

    def _repr_html_(self) -> str:
        return _framed(lambda path: self._page(path, self.value))

    def __repr__(self) -> str:
        return f"<gravel.Result {self.value!r:.400}>"


def _framed(write: Callable[[Path], None]) -> str:
    """A page as a notebook shows it, in a frame of its own, as high as its rows need."""
    with tempfile.TemporaryDirectory(prefix="gravel-") as folder:
        path = Path(folder, "page.html")
        write(path)
        page = path.read_text("utf-8")
    height = min(40, 14 + 2 * page.count("<tr>"))
    text = html.escape(page, quote=True)
    return f'<iframe srcdoc="{text}" style="width:100%;height:{height}em;border:0"></iframe>'


class QueryResult:
    """The rows of a query, with the row counts of its operators and its cautions. `to_dict` gives
    them as the command's JSON does; notebooks show the first rows."""

    def __init__(self, relation: Relation, session: Session) -> None:
        self._relation, self._session = relation, session
        self._stored = stored_columns(relation, session.tables.kept)
        self.columns = relation.names
        self.row_count = relation.count
        self.account = tuple(session.account.stages)
        self.cautions = tuple(session.account.cautions)
        self.errors = tuple(session.account.faults)

    @property
    def types(self) -> tuple[str, ...]:
        """The type of each column, as SQL writes it."""
        return tuple(map(str, self._relation.types))

    def to_arrow(self) -> pa.Table:
        """The rows as an Arrow table; columns of one name are numbered. Those that stand as they
        are in the first table that has Arrow values are as it keeps them."""
        names, rows, stored = distinct_names(self.columns), self._relation.origin, self._stored
        values = [
            in_common(vector.values)
            if rows is None or place not in stored
            else laid_out(stored[place].part(vector.values, rows), stored[place].type)
            for place, vector in enumerate(self._relation.vectors)
        ]
        return pa.table(dict(zip(names, values, strict=True)))

    def rows(self) -> list[tuple[Any, ...]]:
        """The rows as tuples of Python values."""
        columns = [vector.values.to_pylist() for vector in self._relation.vectors]
        return list(zip(*columns, strict=True)) if columns else [()] * self.row_count

    def to_dict(self) -> dict[str, Any]:
        """The rows and the account as plain values, as `--format json` has them."""
        return outcome_of(self._relation, self._session, None).to_dict()

    def _repr_html_(self) -> str:
        return _framed(
            lambda path: tables_page.write_result(
                path, self._relation, self.account, self.cautions, self._session.account.remarks
            )
        )

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        """The rows as an Arrow stream."""
        return self.to_arrow().__arrow_c_stream__(requested_schema)

    def __repr__(self) -> str:
        return f"<gravel.QueryResult {number_of(self.row_count)}: {', '.join(self.columns)}>"


def query(
    text: str,
    *,
    tables: Mapping[str, Any] | None = None,
    params: Mapping[str, Any] | None = None,
    on_error: str | ErrorPolicy = ErrorPolicy.STOP,
    memory: str | int | None = None,
    engine: str | None = None,
) -> QueryResult:
    """The result of a SELECT. Its tables are files in quotes, or names that `tables` gives: each a
    Table, a reference, an Arrow table, or what has `__arrow_c_stream__`. `on_error`: rows with an
    error stop the query, become NULL ("null"), or are left out and told ("set aside"). `engine`:
    the address of a Spark whose executors read the tables in quotes. Raises Diagnostic,
    TableProblem, DataProblem."""
    try:
        policy = ErrorPolicy(on_error)
    except ValueError:
        raise CallProblem(f"on_error is {', '.join(ErrorPolicy)}, not {on_error!r}") from None
    opened = {name: open_table(table) for name, table in (tables or {}).items()}
    context = QueryContext(
        given=_context(params, engine=engine),
        engine=engine,
        references={name: table.name for name, table in opened.items()},
        opened={name.casefold(): table.source for name, table in opened.items()},
        as_stored=True,
    )
    room = Store(_memory(memory, engine is not None))
    session = Session(context, Account(policy, room))
    with ExitStack() as turns:
        for table in sorted(opened.values(), key=id):  # one order for all threads
            turns.enter_context(table._lock)
        return QueryResult(session.query(text), session)


class Plan:
    """A plan: where rows come from, the steps, where they go, what must hold."""

    def __init__(self, file: PlanFile) -> None:
        self.file = file

    @classmethod
    def load(cls, path: str | Path) -> Plan:
        """Read a plan's file. Raises TableProblem, and Problems with every mistake of its form."""
        return cls(read_plan(Path(path), str(path)))

    def run(
        self,
        *,
        dry: bool = False,
        memory: str | int | None = None,
        backup: str | None = None,
        sign: str | Path | None = None,
        engine: str | None = None,
        params: Mapping[str, Any] | None = None,
        today: datetime.date | None = None,
    ) -> Result:
        """Run it. Nothing is written unless every proof holds: look at `good`, `steps` and
        `proofs`. `dry` does everything except write; `engine`: the address of a Spark whose
        executors do the steps; `sign`: an OpenSSH Ed25519 key without a
        passphrase, which signs the record. Raises Problems, TableProblem, CallProblem."""
        key = None if sign is None else SigningKey(Path(sign), _no_passphrase)
        wish = Wish(
            dry=dry,
            memory=_memory(memory, engine is not None),
            backup=backup,
            engine=engine,
            sign=key,
        )
        context = _context(params) or Given()
        done: Run = clean(
            self.file, context if today is None else replace(context, today=today), wish
        )
        return Result(done, lambda path, value: clean_page.write_page(path, value, None, None))

    def __repr__(self) -> str:
        return f"<gravel.Plan {self.file.name}>"


def _no_passphrase() -> str:
    raise CallProblem(
        "the key has a passphrase, which only the terminal is asked for", hint="gravel clean --sign"
    )


def _several(names: str | Sequence[str]) -> tuple[str, ...]:
    """Names or expressions; one text stands for a list of one."""
    return (names,) if isinstance(names, str) else tuple(names)


def _number(name: str, value: int | None, least: int = 0) -> int | None:
    """A number of rows or groups; None is all. Raises CallProblem."""
    if value is not None and value < least:
        raise CallProblem(f"{name} is {least} or more, or None for all, not {value}")
    return value


def _memory(size: str | int | None, elsewhere: bool = False) -> int:
    """Bytes of memory that a call may take; `elsewhere`: another engine works. Raises
    CallProblem."""
    if size is None:
        return default_memory(elsewhere)
    try:
        return size_of(str(size))
    except ValueError as error:
        raise CallProblem(f"memory is {error}") from None


def _context(
    params: Mapping[str, Any] | None, today: datetime.date | None = None, engine: str | None = None
) -> Given:
    """What expressions are given: parameters as what they are in Python, and what decides
    subqueries, whose tables an engine may read. Raises CallProblem."""
    context = Given({name: typed(name, value) for name, value in (params or {}).items()})
    if today is not None:
        context = replace(context, today=today)
    return replace(context, members=partial(_members, context, engine))


def _members(context: Given, engine: str | None, node: Any, text: str) -> Any:
    return members_of(context, None, lambda *_: None, engine)(node, text)
