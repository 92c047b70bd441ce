"""Reading snapshots, and storing in them what was decided of their facts."""

from __future__ import annotations

import logging
import shutil
from collections.abc import Mapping, Sequence
from pathlib import Path
from types import TracebackType
from typing import Any, Self

import duckdb

from indrel.base.errors import SnapshotError
from indrel.snapshot.columns import incoming, set_meta, transaction
from indrel.snapshot.opening import HOME, LONGEST_QUERY, LOOK, NAME_OF_DATABASE, attach, check_version, connect, opened
from indrel.snapshot.schema import DECIDED, VERSION, create_statements, stand_ins

ROOM = 32 << 20
"""Bytes that have to be free beside a snapshot's own size before decided rows are written to it."""

log = logging.getLogger("indrel")


class Snapshot:
    """A snapshot opened for questions. No fact in the file ever changes; decided rows may be kept in it."""

    def __init__(self, path: Path, memory: str | None = None) -> None:
        if not path.is_file():
            raise SnapshotError(f"{path} does not exist: give a snapshot that `indrel audit` wrote")
        self.path = path
        self._file: Path | None = path.resolve()
        self.con = connect(self._file, memory)
        self.con.execute(f"SET max_execution_time = {LONGEST_QUERY + self._file.stat().st_size // 1_000}")
        self.con.execute("SET lock_configuration = true")
        attach(self.con, self._file, read_only=True)
        self.meta = check_version(self.con, path)
        self.is_older = self.meta["schema"] != VERSION
        if self.is_older:  # what it lacks is unknown, and what was decided is decided again
            self.meta["decided"] = None
            for statement in stand_ins(self.meta["schema"]):
                self.con.execute(statement)
        opened.append(path)

    @classmethod
    def of_rows(cls, meta: Mapping[str, Any], rows: Mapping[str, Sequence[Sequence[Any]]]) -> Self:
        """A snapshot of a few rows that no file holds; what is decided of it is not kept."""
        made = cls.__new__(cls)
        made.path, made._file, made.is_older = Path(), None, False
        made.con = connect()
        made.con.execute(";".join([f"ATTACH ':memory:' AS {NAME_OF_DATABASE}", *create_statements(HOME), LOOK]))
        for table, some in rows.items():
            with incoming(made.con, table, some) as given:
                made.con.execute(f"INSERT INTO {table} {given.sql}", given.values)
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
        """Keep decided rows in the file, in place of the ones that it has, all or none; whether that was possible.

        `staged` are temporary tables by the names in `DECIDED`, `rows` other tables' rows. Another process
        that is reading, or a file that may not be written, is no error: what was decided is then decided again.
        """
        if self._file is None or self.is_older:
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
            attach(self.con, self._file, read_only=True)
        if kept:
            self.meta["decided"] = dict(key)
        return kept

    def _write_decided(
        self, file: Path, key: Mapping[str, Any], staged: Mapping[str, str], rows: Mapping[str, Sequence[Sequence[Any]]]
    ) -> bool:
        try:
            attach(self.con, file, read_only=False, patience=0)
        except SnapshotError as error:
            log.debug("decided rows are not kept: %s", error)
            return False
        try:
            with transaction(self.con):
                for table in DECIDED:
                    self.con.execute(f"DELETE FROM {HOME}.{table}")
                for table, made in staged.items():
                    columns = ", ".join(DECIDED[table])
                    self.con.execute(f"INSERT INTO {HOME}.{table} ({columns}) SELECT {columns} FROM temp.main.{made}")
                for table, some in rows.items():
                    if some:
                        with incoming(self.con, table, some) as given:
                            self.con.execute(f"INSERT INTO {HOME}.{table} {given.sql}", given.values)
                set_meta(self.con, {"decided": dict(key)})
            self.con.execute(f"CHECKPOINT {NAME_OF_DATABASE}")
        except duckdb.Error as error:
            log.debug("decided rows are not kept: %s", error)
            return False
        finally:
            self.con.execute(f"USE memory; DETACH {NAME_OF_DATABASE}")
        return True

    def append(self, name: str, table: str, rows: Sequence[Sequence[Any]]) -> None:
        """Add rows of the kind of `table` to a temporary table, which is made if it is not there."""
        with incoming(self.con, table, rows) as given:
            self.con.execute(f"CREATE TEMP TABLE IF NOT EXISTS {name} AS {given.sql} LIMIT 0", given.values)
            self.con.execute(f"INSERT INTO {name} {given.sql}", given.values)

    def hold(self, made: Mapping[str, str], rows: Mapping[str, Sequence[Sequence[Any]]]) -> None:
        """Temporary tables and rows by the name of the file's table, in place of those of the file."""
        for table, name in made.items():
            self.con.execute(f"CREATE OR REPLACE TEMP VIEW {table} AS SELECT * FROM temp.main.{name}")
        for table, some in rows.items():
            with incoming(self.con, table, some) as given:
                self.con.execute(f"CREATE OR REPLACE TEMP TABLE {table} AS {given.sql}", given.values)

    def close(self) -> None:
        self.con.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()
