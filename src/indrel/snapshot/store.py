"""Writing and reading snapshots (DuckDB, one file).

A snapshot may come from a stranger: it is data. It is opened without access to any other file, with the
settings locked, and refused unless it holds just the tables that are known here.
"""

from __future__ import annotations

import atexit
import json
import logging
import os
import shutil
import sys
import tempfile
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from functools import cache
from pathlib import Path
from types import TracebackType
from typing import Any, BinaryIO, NamedTuple, Self

import duckdb

from indrel.ground.errors import AuditCutShort, IndrelError, SnapshotError
from indrel.ground.files import HEAD, begins_snapshot
from indrel.ground.sqltext import quoted, quoted_list
from indrel.snapshot.faults import explained
from indrel.snapshot.schema import DECIDED, OWN, TABLES, VERSION, arrow, create_statements

_CONFIG: dict[str, Any] = {
    "python_enable_replacements": False,
    "autoinstall_known_extensions": False,
    "autoload_known_extensions": False,
    "allow_unsigned_extensions": False,
    "threads": max(2, min(4, os.cpu_count() or 2)),
    "preserve_insertion_order": True,
}
MEMORY = "320MB"
NAME_OF_DATABASE = "snap"
HOME = f"{NAME_OF_DATABASE}.main"
_LOOK = f"SET search_path = 'system.main,{HOME}'"
"""Where names are looked for: a macro of a file has never the place of a function, whatever it is called."""

COUNTING_MEMORY = "512MB"
WRITING_MEMORY = "96MB"
"""What the database may hold while facts are gathered: they are written as they come."""

_CLAIM = ".new"
"""Ending of the file that holds a name until the snapshot itself is there."""

_BESIDE = ("", ".wal", ".wal.checkpoint", ".wal.recovery", ".tmp")
"""Endings of the files that the database itself keeps beside a snapshot."""

ROOM = 32 << 20
"""Octets that have to be free beside a snapshot's own size before decided rows are written to it."""

_PATIENCE = 3.0
"""Seconds to wait while another process keeps what it decided."""

log = logging.getLogger("indrel")

FEW_ROWS = 200
"""Rows that are given to the database as lists."""

_spare: dict[int, duckdb.DuckDBPyConnection] = {}
"""At most one database in memory that nothing uses any more, by the process that began it: a forked one has none of its
threads. To begin another takes as long as ten small questions."""


@cache
def _scratch(process: int) -> Path:
    """Where the databases of a process spill to; it goes with the process, which may end without closing them."""
    folder = Path(tempfile.gettempdir()) / f"indrel-{process}"
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    return folder


def _connect(path: Path | None = None, memory: str | None = None) -> duckdb.DuckDBPyConnection:
    """A database in memory; with a path it can reach no file but that one, and its settings can't be changed."""
    scratch, limit = _scratch(os.getpid()), memory or MEMORY
    con = _spare.pop(os.getpid(), None)
    if con is not None:
        con.execute(f"SET memory_limit = {quoted(limit)}")
    else:
        con = duckdb.connect(":memory:", config={**_CONFIG, "memory_limit": limit, "temp_directory": str(scratch)})
    if path is not None:
        con.execute(f"SET allowed_paths = [{quoted_list(f'{path}{ending}' for ending in _BESIDE)}]")
        con.execute(f"SET allowed_directories = [{quoted(str(scratch))}]")
        con.execute("SET enable_external_access = false")
        con.execute("SET lock_configuration = true")
    return con


def _let_go(con: duckdb.DuckDBPyConnection) -> None:
    """Close what an unlocked database holds of a file; another snapshot may then be opened with it."""
    if os.getpid() in _spare:
        con.close()
        return
    con.execute(f"USE memory; DETACH {NAME_OF_DATABASE}")
    _spare[os.getpid()] = con


def _attach(con: duckdb.DuckDBPyConnection, path: Path, read_only: bool, patience: float = _PATIENCE) -> None:
    until = time.monotonic() + patience
    while True:
        try:
            con.execute(
                f"ATTACH {quoted(str(path))} AS {NAME_OF_DATABASE} (TYPE duckdb{', READ_ONLY' if read_only else ''})"
            )
            con.execute(_LOOK)
            return
        except duckdb.Error as error:
            if "conflicting lock" not in str(error).lower() and "being used by another" not in str(error).lower():
                raise _refused(error, path) from error
            if time.monotonic() > until:
                raise SnapshotError(f"{path} is being written by another process: wait until it has ended") from error
            time.sleep(0.05)


def _refused(error: duckdb.Error, path: Path) -> IndrelError:
    """What to say where the database failed at a file: the machine's fault, or the file's."""
    meant = explained(error)
    return meant if isinstance(meant, AuditCutShort) else _unusable(path)


def _unusable(path: Path) -> SnapshotError:
    """What to say of a file that the database cannot open: one of its own that is damaged, or something else."""
    try:
        with path.open("rb") as file:
            ours = begins_snapshot(file.read(HEAD))
    except OSError as error:
        verb = "read" if path.exists() else "written"
        return SnapshotError(f"{path} cannot be {verb}: {error.strerror}")
    if ours:
        return SnapshotError(f"{path} is damaged: audit again, or take another snapshot")
    return SnapshotError(f"{path} is not a snapshot of Indrel: give a file that `indrel audit` wrote")


def _check_tables(con: duckdb.DuckDBPyConnection, path: Path) -> dict[str, dict[str, str]]:
    """The tables of a file by name; raises SnapshotError where it holds anything but plain tables.

    Views and generated columns would run as questions are asked; none is ever made by an audit. Macros are not
    looked for, which would take as long as a small question does: none is ever called.
    """
    here = f"database_name = '{NAME_OF_DATABASE}' AND NOT internal"
    try:
        others = con.execute(
            f"""SELECT (SELECT count(*) FROM duckdb_views() WHERE {here})
            + (SELECT count(*) FROM duckdb_types() WHERE {here})
            + (SELECT count(*) FROM duckdb_schemas() WHERE {here} AND schema_name <> 'main')
            + (SELECT count(*) FROM duckdb_sequences() WHERE database_name = '{NAME_OF_DATABASE}')"""
        ).fetchall()[0][0]
        columns = con.execute(
            f"""SELECT table_name, column_name, data_type, column_default FROM duckdb_columns() WHERE {here}
            ORDER BY table_name, column_index"""
        ).fetchall()
    except duckdb.Error as error:
        raise _refused(error, path) from error
    found: dict[str, dict[str, str]] = {}
    for table, column, kind, default in columns:
        found.setdefault(table, {})[column] = kind
        others += default is not None
    if not found and not others:
        raise SnapshotError(f"{path} holds nothing: its audit was ended as it began; run the audit without --resume")
    if others or "meta" not in found:
        raise _foreign(path)
    return found


def _foreign(path: Path) -> SnapshotError:
    return SnapshotError(f"{path} is a database, but not a snapshot of Indrel")


def _check_version(con: duckdb.DuckDBPyConnection, path: Path) -> dict[str, Any]:
    tables = _check_tables(con, path)
    try:
        meta = {name: json.loads(value) for name, value in con.execute("SELECT name, value FROM meta").fetchall()}
        version = int(meta["schema"])
    except duckdb.Error as error:
        raise _refused(error, path) if explained(error) else _foreign(path) from error
    except (KeyError, ValueError, TypeError) as error:
        raise _foreign(path) from error
    if version != VERSION:
        which = "an older" if version < VERSION else "a newer"
        raise SnapshotError(
            f"{path} was made by {which} Indrel (snapshot format {version}, this one reads {VERSION}): audit again"
        )
    if tables != {**TABLES, **DECIDED}:
        raise SnapshotError(f"{path} is not a snapshot of Indrel: its tables are not those of format {VERSION}")
    return meta


def claimed(path: Path) -> bool:
    """Whether a new snapshot may have this name: no file has it, and no other audit that is about to make one."""
    claim = Path(f"{path}{_CLAIM}")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        claim.touch(exist_ok=False)
    except FileExistsError:
        return False
    except OSError as error:
        raise SnapshotError(f"{path} cannot be written: {error.strerror}") from error
    if path.exists():
        claim.unlink(missing_ok=True)
        return False
    return True


def _make_room(path: Path) -> None:
    """Take an older snapshot out of the way: never a file that is not one of ours, nor one that is being written."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        if path.is_dir():
            raise SnapshotError(f"{path} is a folder: name a file to keep the snapshot in")
        if path.exists():
            with path.open("r+b") as file:
                if not begins_snapshot(file.read(HEAD)):
                    raise SnapshotError(f"{path} exists and is not a snapshot: it was left as it is, name another file")
                if not _lock(file):
                    raise SnapshotError(f"{path} is being written by another process: name another file, or wait")
                path.unlink()
        Path(f"{path}.wal").unlink(missing_ok=True)
    except OSError as error:
        raise SnapshotError(f"{path} cannot be written: {error.strerror}") from error


def _lock(file: BinaryIO) -> bool:
    """Whether no other process holds the file, as the database does while it writes or reads."""
    try:
        import fcntl
    except ImportError:  # elsewhere a file that is open cannot be removed
        return True
    try:
        fcntl.lockf(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return False
    return True


class Masked(NamedTuple):
    """A column of numbers as an array, and which of them are null."""

    values: Any
    absent: Any


Columns = Sequence[Any]
"""A batch of rows as columns: arrays, lists or `Masked`, in the order of the table's own."""


class Refused(NamedTuple):
    """A row that could not be written, and why."""

    table: str
    row: Sequence[Any]
    why: str


class _Batch(NamedTuple):
    table: str
    rows: list[Sequence[Any]]
    columns: list[Columns]


_OF_A_ROW = (ValueError, TypeError, OverflowError, duckdb.DataError, duckdb.NotSupportedError, duckdb.ProgrammingError)
"""What the database and the array library raise at a value that does not fit its column."""


class SnapshotWriter:
    """Takes facts in batches; `commit` makes all that was added since the last one lasting.

    A snapshot that is killed between commits opens as it was at the last commit. Whatever was decided of
    facts that are written to again is forgotten.
    """

    def __init__(self, path: Path, resume: bool = False) -> None:
        self.path = path
        if resume and not path.exists():
            raise SnapshotError(
                f"{path} does not exist: there is nothing to go on from, run the audit without --resume"
            )
        if not resume:
            _make_room(path)
        self.con = _connect()
        self.con.execute(f"SET memory_limit = '{WRITING_MEMORY}'")
        _attach(self.con, path, read_only=False)
        self._rows: dict[str, list[Sequence[Any]]] = {}
        self._columns: dict[str, list[Columns]] = {}
        self._pending = 0
        self.refused: list[Refused] = []
        """Rows that could not be written, since the list was last emptied; all other rows of their commits were."""

        if resume:
            self.meta = _check_version(self.con, path)
            self.set_meta(decided=None)
        else:
            self.meta = {}
            self.con.execute(";".join(["BEGIN", *create_statements(HOME)]))
            _set_meta(self.con, {"schema": VERSION})
            self.con.execute("COMMIT")
            self.meta = {"schema": VERSION}
        Path(f"{path}{_CLAIM}").unlink(missing_ok=True)

    def set_meta(self, **values: Any) -> None:
        """Keep JSON values by name, at once."""
        self.meta.update(values)
        self.con.execute("BEGIN")
        _set_meta(self.con, values)
        self.con.execute("COMMIT")

    def add(self, table: str, rows: Iterable[Sequence[Any]]) -> None:
        """Add rows, each a sequence in the order of the table's columns."""
        kept = self._rows.setdefault(table, [])
        before = len(kept)
        kept.extend(rows)
        self._pending += len(kept) - before

    def add_columns(self, table: str, columns: Columns) -> None:
        """Add rows given as columns, in the order of the table's own; one that may hold nulls comes with their mask."""
        if count := len(columns[-1]):
            self._columns.setdefault(table, []).append(columns)
            self._pending += count

    @property
    def pending(self) -> int:
        """Rows that were added since the last commit."""
        return self._pending

    def commit(self) -> None:
        """Write all added rows in one transaction; a row that does not fit its table is put into `refused` instead."""
        names = [name for name in TABLES if self._rows.get(name) or name in self._columns]
        batches = [_Batch(name, self._rows.get(name, []), self._columns.get(name, [])) for name in names]
        self._rows, self._columns, self._pending = {}, {}, 0
        if not batches:
            return
        try:
            self._write(batches)
        except _OF_A_ROW as error:
            if explained(error) is not None:
                raise
            for name, rows, columns in batches:
                self._write_apart(name, [*rows, *(row for some in columns for row in _as_rows(some))])

    def _write(self, batches: Sequence[_Batch]) -> None:
        self.con.execute("BEGIN")
        try:
            for name, rows, columns in batches:
                with _incoming(self.con, name, rows, columns) as incoming:
                    self.con.execute(f"INSERT INTO {name} {incoming.sql}", incoming.values)
            self.con.execute("COMMIT")
        except BaseException:
            with suppress(duckdb.Error):
                self.con.execute("ROLLBACK")  # what was committed before stands, and the file can be closed
            raise

    def _write_apart(self, table: str, rows: list[Sequence[Any]]) -> None:
        """Write rows of which some do not fit: halves of them, until the ones that do not stand alone."""
        try:
            self._write([_Batch(table, rows, [])] if rows else [])
        except _OF_A_ROW as error:
            if explained(error) is not None:
                raise
            if len(rows) == 1:
                log.debug("a row of %s was refused", table, exc_info=True)
                self.refused.append(Refused(table, rows[0], f"{type(error).__name__} in the table {table}"))
                return
            middle = len(rows) // 2
            self._write_apart(table, rows[:middle])
            self._write_apart(table, rows[middle:])

    def forget(self, numbers: Iterable[int]) -> None:
        """Delete all facts of some addresses, given by their numbers."""
        chosen = list(numbers)
        for table, column in OWN.items():
            self.con.execute(f"DELETE FROM {table} WHERE {column} IN (SELECT unnest(?::INTEGER[]))", [chosen])

    def close(self) -> None:
        self.commit()
        self.con.execute(f"CHECKPOINT {NAME_OF_DATABASE}")
        _let_go(self.con)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()


class _Incoming(NamedTuple):
    """What rows that come from outside the database are asked for with."""

    sql: str
    values: list[list[Any]]


@contextmanager
def _incoming(
    con: duckdb.DuckDBPyConnection, table: str, rows: Sequence[Sequence[Any]], columns: Sequence[Columns] = ()
) -> Iterator[_Incoming]:
    """Rows of the kind of `table`: a few as lists, because the array library takes as long to load as twenty queries."""
    if not columns and len(rows) <= FEW_ROWS and "pyarrow" not in sys.modules:
        kinds = {**TABLES, **DECIDED}[table]
        lists = [list(column) for column in zip(*rows, strict=True)] or [[] for _ in kinds]
        yield _Incoming(f"SELECT {', '.join(f'unnest(?::{kind}[]) AS {name}' for name, kind in kinds.items())}", lists)
        return
    from indrel.ground.arrow import pa

    tables = [_arrow_table(table, some) for some in columns]
    if rows or not tables:
        tables.append(_arrow_table(table, list(zip(*rows, strict=True)) or [()] * len(arrow(table))))
    con.register("incoming", pa.concat_tables(tables))
    try:
        yield _Incoming("SELECT * FROM incoming", [])
    finally:
        con.unregister("incoming")


def _arrow_table(name: str, columns: Sequence[Any]) -> Any:
    from indrel.ground.arrow import pa

    schema = arrow(name)
    arrays = [
        pa.array(column.values, type=field.type, mask=column.absent)
        if isinstance(column, Masked)
        else pa.array(column, type=field.type)
        for column, field in zip(columns, schema, strict=True)
    ]
    return pa.Table.from_arrays(arrays, schema=schema)


def _as_rows(columns: Columns) -> list[tuple[Any, ...]]:
    """Columns as rows of plain values."""
    plain = []
    for column in columns:
        values = column.values if isinstance(column, Masked) else column
        listed = values.tolist() if hasattr(values, "tolist") else list(values)
        if isinstance(column, Masked):
            listed = [None if absent else value for value, absent in zip(listed, column.absent, strict=True)]
        plain.append(listed)
    return list(zip(*plain, strict=True))


def _set_meta(con: duckdb.DuckDBPyConnection, values: Mapping[str, Any]) -> None:
    con.execute(f"DELETE FROM meta WHERE name IN ({', '.join('?' * len(values))})", list(values))
    rows = [cell for name, value in values.items() for cell in (name, json.dumps(value))]
    con.execute(f"INSERT INTO meta VALUES {', '.join(['(?, ?)'] * len(values))}", rows)


class Snapshot:
    """A snapshot opened for questions. No fact in the file ever changes; decided rows may be kept in it."""

    def __init__(self, path: Path, memory: str | None = None) -> None:
        if not path.is_file():
            raise SnapshotError(f"{path} does not exist: give a snapshot that `indrel audit` wrote")
        self.path = path
        self._file: Path | None = path.resolve()
        self.con = _connect(self._file, memory)
        _attach(self.con, self._file, read_only=True)
        self.meta = _check_version(self.con, path)

    @classmethod
    def of_rows(cls, meta: Mapping[str, Any], rows: Mapping[str, Sequence[Sequence[Any]]]) -> Self:
        """A snapshot of a few rows that no file holds; what is decided of it is not kept."""
        made = cls.__new__(cls)
        made.path, made._file = Path(), None
        made.con = _connect()
        made.con.execute(";".join([f"ATTACH ':memory:' AS {NAME_OF_DATABASE}", *create_statements(HOME), _LOOK]))
        for table, some in rows.items():
            with _incoming(made.con, table, some) as incoming:
                made.con.execute(f"INSERT INTO {table} {incoming.sql}", incoming.values)
        made.meta = {"schema": VERSION, **meta}
        return made

    def rows(self, sql: str, parameters: Sequence[Any] | None = None) -> list[tuple[Any, ...]]:
        return self.con.execute(sql, parameters).fetchall()

    def one(self, sql: str, parameters: Sequence[Any] | None = None) -> Any:
        """The first value of the first row, or None."""
        rows = self.con.execute(sql, parameters).fetchall()
        return rows[0][0] if rows else None

    def keep(
        self, key: Mapping[str, Any], staged: Mapping[str, str], rows: Mapping[str, Sequence[Sequence[Any]]]
    ) -> bool:
        """Keep decided rows in the file, in place of those that it has, all or none; whether that was possible.

        `staged` are temporary tables by the names in `DECIDED`, `rows` other tables' rows. Another process
        that is reading, or a file that may not be written, is no error: what was decided is then decided again.
        """
        if self._file is None:
            return False
        was = self._file.stat()
        if shutil.disk_usage(self._file.parent).free < ROOM + was.st_size:
            log.debug("decided rows are not kept: the disk is nearly full")
            return False
        self.con.execute(f"USE memory; DETACH {NAME_OF_DATABASE}")
        kept = False
        try:
            kept = self._write_decided(self._file, key, staged, rows)
        finally:
            _attach(self.con, self._file, read_only=True)
            os.utime(self._file, ns=(was.st_atime_ns, was.st_mtime_ns))  # asking a question makes no snapshot newer
        if kept:
            self.meta["decided"] = dict(key)
        return kept

    def _write_decided(
        self, file: Path, key: Mapping[str, Any], staged: Mapping[str, str], rows: Mapping[str, Sequence[Sequence[Any]]]
    ) -> bool:
        try:
            _attach(self.con, file, read_only=False, patience=0)
        except SnapshotError as error:
            log.debug("decided rows are not kept: %s", error)
            return False
        try:
            self.con.execute("BEGIN")
            for table in DECIDED:
                self.con.execute(f"DELETE FROM {HOME}.{table}")
            for table, made in staged.items():
                columns = ", ".join(DECIDED[table])
                self.con.execute(f"INSERT INTO {HOME}.{table} ({columns}) SELECT {columns} FROM temp.main.{made}")
            for table, some in rows.items():
                if some:
                    with _incoming(self.con, table, some) as incoming:
                        self.con.execute(f"INSERT INTO {HOME}.{table} {incoming.sql}", incoming.values)
            _set_meta(self.con, {"decided": dict(key)})
            self.con.execute("COMMIT")
            self.con.execute(f"CHECKPOINT {NAME_OF_DATABASE}")
        except duckdb.Error as error:
            log.debug("decided rows are not kept: %s", error)
            return False
        finally:
            self.con.execute(f"USE memory; DETACH {NAME_OF_DATABASE}")
        return True

    def append(self, name: str, table: str, rows: Sequence[Sequence[Any]]) -> None:
        """Add rows of the kind of `table` to a temporary table, which is made if it is not there."""
        with _incoming(self.con, table, rows) as incoming:
            self.con.execute(f"CREATE TEMP TABLE IF NOT EXISTS {name} AS {incoming.sql} LIMIT 0", incoming.values)
            self.con.execute(f"INSERT INTO {name} {incoming.sql}", incoming.values)

    def hold(self, made: Mapping[str, str], rows: Mapping[str, Sequence[Sequence[Any]]]) -> None:
        """Temporary tables and rows by the name of the file's table, in place of those of the file."""
        for table, name in made.items():
            self.con.execute(f"CREATE OR REPLACE TEMP VIEW {table} AS SELECT * FROM temp.main.{name}")
        for table, some in rows.items():
            with _incoming(self.con, table, some) as incoming:
                self.con.execute(f"CREATE OR REPLACE TEMP TABLE {table} AS {incoming.sql}", incoming.values)

    def close(self) -> None:
        self.con.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()
