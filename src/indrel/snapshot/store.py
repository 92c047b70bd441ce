"""Writing and reading snapshots (DuckDB, one file)."""

from __future__ import annotations

import json
import os
import tempfile
from collections.abc import Iterable, Sequence
from pathlib import Path
from types import TracebackType
from typing import Any, Self

import duckdb
import pyarrow as pa

from indrel.errors import SnapshotError
from indrel.snapshot.schema import ARROW, TABLES, VERSION, create_statements
from indrel.sqltext import quoted

_CONFIG: dict[str, Any] = {
    "python_enable_replacements": False,
    "autoinstall_known_extensions": False,
    "autoload_known_extensions": False,
    "allow_unsigned_extensions": False,
    "memory_limit": "640MB",
    "threads": max(2, min(4, os.cpu_count() or 2)),
    "preserve_insertion_order": True,
}
NAME_OF_DATABASE = "snap"
COUNTING_MEMORY = "512MB"
WRITING_MEMORY = "96MB"
"""What the database may hold while facts are gathered: they are written as they come."""


def _connect() -> duckdb.DuckDBPyConnection:
    scratch = Path(tempfile.gettempdir()) / f"indrel-{os.getpid()}"
    return duckdb.connect(":memory:", config={**_CONFIG, "temp_directory": str(scratch)})


def _attach(con: duckdb.DuckDBPyConnection, path: Path, read_only: bool) -> None:
    try:
        con.execute(
            f"ATTACH {quoted(str(path))} AS {NAME_OF_DATABASE} (TYPE duckdb{', READ_ONLY' if read_only else ''})"
        )
        con.execute(f"USE {NAME_OF_DATABASE}")
    except duckdb.Error as error:
        if "lock" in str(error).lower():
            raise SnapshotError(f"{path} is being written by another process: wait until it has ended") from error
        raise SnapshotError(f"{path} is not a snapshot of Indrel: give a file that `indrel audit` wrote") from error


def _check_version(con: duckdb.DuckDBPyConnection, path: Path) -> dict[str, Any]:
    try:
        meta = {name: json.loads(value) for name, value in con.execute("SELECT name, value FROM meta").fetchall()}
        version = int(meta["schema"])
    except (duckdb.Error, KeyError, ValueError) as error:
        raise SnapshotError(f"{path} is a database, but not a snapshot of Indrel") from error
    if version != VERSION:
        which = "older" if version < VERSION else "newer"
        raise SnapshotError(
            f"{path} was made by {'an' if which == 'older' else 'a'} {which} Indrel "
            f"(snapshot format {version}, this one reads {VERSION}): audit again"
        )
    return meta


def _refuse_foreign(path: Path) -> None:
    """Never overwrite a file that is not one of ours."""
    if path.is_dir():
        raise SnapshotError(f"{path} is a folder: name a file to keep the snapshot in")
    if path.exists():
        with path.open("rb") as file:
            if file.read(12)[8:] != b"DUCK":
                raise SnapshotError(f"{path} exists and is not a snapshot: it was left as it is, name another file")


class SnapshotWriter:
    """Takes facts in batches; `commit` makes all that was added since the last one lasting.

    A snapshot that is killed between commits opens as it was at the last commit.
    """

    def __init__(self, path: Path, resume: bool = False) -> None:
        self.path = path
        if resume and not path.exists():
            raise SnapshotError(f"{path} does not exist: there is nothing to resume")
        if not resume:
            _refuse_foreign(path)
            path.parent.mkdir(parents=True, exist_ok=True)
            path.unlink(missing_ok=True)
            Path(f"{path}.wal").unlink(missing_ok=True)
        self.con = _connect()
        self.con.execute(f"SET memory_limit = '{WRITING_MEMORY}'")
        _attach(self.con, path, read_only=False)
        self._rows: dict[str, list[Sequence[Any]]] = {}
        self._tables: dict[str, list[Any]] = {}
        self._pending = 0
        if resume:
            self.meta = _check_version(self.con, path)
        else:
            self.meta = {}
            self.con.execute("BEGIN")
            for statement in create_statements():
                self.con.execute(statement)
            self.con.execute("COMMIT")
            self.set_meta(schema=VERSION)

    def set_meta(self, **values: Any) -> None:
        """Keep JSON values by name, at once."""
        self.meta.update(values)
        self.con.execute("BEGIN")
        for name, value in values.items():
            self.con.execute("DELETE FROM meta WHERE name = ?", [name])
            self.con.execute("INSERT INTO meta VALUES (?, ?)", [name, json.dumps(value)])
        self.con.execute("COMMIT")

    def add(self, table: str, rows: Iterable[Sequence[Any]]) -> None:
        """Add rows, each a sequence in the order of the table's columns."""
        kept = self._rows.setdefault(table, [])
        before = len(kept)
        kept.extend(rows)
        self._pending += len(kept) - before

    def add_arrow(self, table: str, data: Any) -> None:
        """Add an Arrow table with the columns of `table`."""
        if data.num_rows:
            self._tables.setdefault(table, []).append(data)
            self._pending += int(data.num_rows)

    @property
    def pending(self) -> int:
        """Rows that were added since the last commit."""
        return self._pending

    def commit(self) -> None:
        """Write what was added, in one transaction."""
        batches: dict[str, list[Any]] = {name: list(tables) for name, tables in self._tables.items()}
        for name, rows in self._rows.items():
            if rows:
                columns = list(zip(*rows, strict=True))
                arrays = [pa.array(c, type=f.type) for c, f in zip(columns, ARROW[name], strict=True)]
                batches.setdefault(name, []).append(pa.Table.from_arrays(arrays, schema=ARROW[name]))
        self._rows.clear()
        self._tables.clear()
        self._pending = 0
        if not batches:
            return
        self.con.execute("BEGIN")
        for name in TABLES:
            if name in batches:
                self.con.register("incoming", pa.concat_tables(batches[name]))
                self.con.execute(f"INSERT INTO {name} SELECT * FROM incoming")
                self.con.unregister("incoming")
        self.con.execute("COMMIT")

    def close(self) -> None:
        self.commit()
        self.con.execute("CHECKPOINT")
        self.con.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()


class Snapshot:
    """A snapshot opened for questions. Nothing in the file changes; what is derived is temporary."""

    def __init__(self, path: Path) -> None:
        if not path.is_file():
            raise SnapshotError(f"{path} does not exist: give a snapshot that `indrel audit` wrote")
        self.path = path
        self.con = _connect()
        _attach(self.con, path, read_only=True)
        self.meta = _check_version(self.con, path)

    def rows(self, sql: str, parameters: Sequence[Any] | None = None) -> list[tuple[Any, ...]]:
        return self.con.execute(sql, parameters).fetchall()

    def one(self, sql: str, parameters: Sequence[Any] | None = None) -> Any:
        """The first value of the first row, or None."""
        rows = self.con.execute(sql, parameters).fetchall()
        return rows[0][0] if rows else None

    def close(self) -> None:
        self.con.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()
