"""Writing snapshots: facts in batches, each of which is lasting once it is committed."""

from __future__ import annotations

import logging
from collections.abc import Iterable, Sequence
from pathlib import Path
from types import TracebackType
from typing import Any, BinaryIO, NamedTuple, Self

import duckdb

from indrel.base.errors import SnapshotError
from indrel.base.files import HEAD, begins_snapshot
from indrel.snapshot.columns import Columns, as_rows, incoming, set_meta, transaction
from indrel.snapshot.faults import explained
from indrel.snapshot.opening import (
    BLOCK,
    HOME,
    NAME_OF_DATABASE,
    SMALL_BLOCK,
    WRITING_MEMORY,
    attach,
    check_version,
    connect,
    let_go,
)
from indrel.snapshot.schema import OWN, TABLES, VERSION, create_statements, migration

_CLAIM = ".new"
"""Ending of the file that holds a name until the snapshot itself is there."""

log = logging.getLogger("indrel")


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
                    raise SnapshotError(f"{path} exists and is not a snapshot; it was not changed, name another file")
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


def _is_of_a_row(error: Exception) -> bool:
    """Whether a value did not fit its column. A conversion that failed says "out of range", as a damaged file may."""
    return isinstance(error, duckdb.ConversionException) or explained(error) is None


class SnapshotWriter:
    """Takes facts in batches; `commit` makes all that was added since the last one lasting.

    A snapshot that is killed between commits opens as it was at the last commit. Whatever was decided of
    facts that are written to again is forgotten.
    """

    def __init__(self, path: Path, resume: bool = False, small: bool = False) -> None:
        """Make a snapshot, or go on with one; `small` for an audit that is known to be of few pages."""
        self.path = path
        if resume and not path.exists():
            raise SnapshotError(
                f"{path} does not exist: there is nothing to go on from, run the audit without --resume"
            )
        if not resume:
            _make_room(path)
        self._file = path.resolve()
        self.con = connect(self._file, WRITING_MEMORY)
        attach(self.con, self._file, read_only=False, block=SMALL_BLOCK if small else BLOCK)
        self._rows: dict[str, list[Sequence[Any]]] = {}
        self._columns: dict[str, list[Columns]] = {}
        self._pending = 0
        self.refused: list[Refused] = []
        """Rows that could not be written, since the list was last emptied; all other rows of their commits were."""

        if resume:
            self.meta = check_version(self.con, path)
            if self.meta["schema"] != VERSION:
                with transaction(self.con):
                    self.con.execute(";".join(migration(HOME, self.meta["schema"])))
            self.set_meta(decided=None, schema=VERSION)
        else:
            self.meta = {}
            with transaction(self.con):
                self.con.execute(";".join(create_statements(HOME)))
                set_meta(self.con, {"schema": VERSION})
            self.meta = {"schema": VERSION}
        Path(f"{path}{_CLAIM}").unlink(missing_ok=True)

    def set_meta(self, **values: Any) -> None:
        """Keep JSON values by name, at once."""
        self.meta.update(values)
        with transaction(self.con):
            set_meta(self.con, values)

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
            if not _is_of_a_row(error):
                raise
            for name, rows, columns in batches:
                self._write_apart(name, [*rows, *(row for some in columns for row in as_rows(some))])

    def _write(self, batches: Sequence[_Batch]) -> None:
        with transaction(self.con):
            for name, rows, columns in batches:
                with incoming(self.con, name, rows, columns) as given:
                    self.con.execute(f"INSERT INTO {name} {given.sql}", given.values)

    def _write_apart(self, table: str, rows: list[Sequence[Any]]) -> None:
        """Write rows of which some do not fit: halves of them, until the ones that do not stand alone."""
        try:
            self._write([_Batch(table, rows, [])] if rows else [])
        except _OF_A_ROW as error:
            if not _is_of_a_row(error):
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
        let_go(self.con, self._file)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()
