"""Opening the file of a snapshot: a database that can reach nothing else, and a catalogue that holds nothing but tables.

A snapshot may come from a stranger: it is data. It is opened without access to any other file, and refused unless it holds
just the tables that are known here.
"""

from __future__ import annotations

import atexit
import os
import shutil
import tempfile
import time
from collections.abc import Iterable
from functools import cache
from pathlib import Path
from typing import Any

import duckdb

from indrel.base.errors import AuditCutShort, IndrelError, SnapshotError
from indrel.base.files import HEAD, begins_snapshot
from indrel.base.sqltext import quoted, quoted_list
from indrel.snapshot.faults import explained
from indrel.snapshot.meta import read_meta
from indrel.snapshot.schema import FORMATS, OLDEST, VERSION

_CONFIG: dict[str, Any] = {
    "python_enable_replacements": False,
    "autoinstall_known_extensions": False,
    "autoload_known_extensions": False,
    "allow_unsigned_extensions": False,
    "threads": max(2, min(4, os.cpu_count() or 2)),
    "preserve_insertion_order": True,
}
MEMORY = "320MB"
BLOCK, SMALL_BLOCK = 65_536, 16_384
"""Bytes of a file's blocks: each table has some of its own, so an audit of one page takes 1.1 or 0.4 MB (4.2 with the database's own
262,144). Small blocks cost a large audit a fifth of its CPU and half of its size again; the larger ones cost nothing."""

NAME_OF_DATABASE = "snap"
HOME = f"{NAME_OF_DATABASE}.main"
LOOK = f"SET search_path = 'system.main,{HOME}'"
"""Where names are looked for: a macro of a file has never the place of a function, whatever it is called."""

COUNTING_MEMORY = "512MB"
WRITING_MEMORY = "96MB"
"""What the database may hold while facts are gathered: they are written as they come."""

LONGEST_QUERY = 120_000
"""Milliseconds that one query of a snapshot may take, and one more per 1,000 bytes of the file."""

_BESIDE = ("", ".wal", ".wal.checkpoint", ".wal.recovery", ".tmp")
"""Endings of the files that the database itself keeps beside a snapshot."""

LEAST_ROWS = 1_000_000
"""Rows that a table may have whatever the size of its file; beyond, a row takes more than a byte."""

_NEVER = {
    "constraint": ("table_name", "constraints()"), "index": ("index_name", "indexes()"), "view": ("view_name", "views()"),
    "trigger": ("trigger_name", "triggers()"), "sequence": ("sequence_name", "sequences()"),
    "coordinate system": ("crs_name", "coordinate_systems()"), "type": ("type_name", "types()"),
}  # fmt: skip
"""What a database can hold beside tables and functions: the column with its name, and the function that lists it."""

_CATALOGUE = frozenset(
    f"duckdb_{name}"
    for name in (
        *("tables", "columns", "schemas", "types", "constraints", "indexes", "triggers", "views", "sequences"),
        *("coordinate_systems", "functions", "databases", "approx_database_count", "available_metrics"),
        *("connection_count", "dependencies", "dialects", "eviction_queues", "extension_repositories", "extensions"),
        *("external_file_cache", "external_resource_types", "grammar_extensions", "keywords", "live_query_metrics"),
        *("log_contexts", "memory", "optimizers", "prepared_statements", "secret_type_parameters", "secret_types"),
        *("temporary_files", "variables"),
    )
)
"""The functions that list what a database holds or does, as known here: those of files are asked, the others are of no file."""

_PATIENCE = 3.0
"""Seconds to wait while another process keeps what it decided."""

opened: list[Path] = []
"""The files that this process has opened as snapshots: where a query fails, their contents are looked at."""

_spare: dict[int, tuple[Path, duckdb.DuckDBPyConnection]] = {}
"""At most one database that nothing uses any more and the file that it may reach, by the process that began it: a forked
one has none of its threads. Another database takes as long to begin as ten small queries."""


@cache
def _scratch(process: int) -> Path:
    """Where the databases of a process spill to; it goes with the process, which may end without closing them."""
    folder = Path(tempfile.gettempdir()) / f"indrel-{process}"
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    return folder


def connect(path: Path | None = None, memory: str | None = None) -> duckdb.DuckDBPyConnection:
    """A database in memory that can reach no file, apart from its own temporary ones, but the one given."""
    scratch, limit = _scratch(os.getpid()), memory or MEMORY
    known, con = _spare.pop(os.getpid(), (None, None))
    if con is not None and known == path:
        con.execute(f"SET memory_limit = {quoted(limit)}")
        return con
    if con is not None:
        con.close()
    con = duckdb.connect(":memory:", config={**_CONFIG, "memory_limit": limit, "temp_directory": str(scratch)})
    if path is not None:
        con.execute(f"SET allowed_paths = [{quoted_list(f'{path}{ending}' for ending in _BESIDE)}]")
    con.execute(f"SET allowed_directories = [{quoted(str(scratch))}]")
    con.execute("SET enable_external_access = false")  # cannot be undone
    return con


def let_go(con: duckdb.DuckDBPyConnection, path: Path) -> None:
    """Close what a database holds of a file; the same file may then be opened with it again."""
    if os.getpid() in _spare:
        con.close()
        return
    con.execute(f"USE memory; DETACH {NAME_OF_DATABASE}")
    _spare[os.getpid()] = path, con


def attach(
    con: duckdb.DuckDBPyConnection, path: Path, read_only: bool, patience: float = _PATIENCE, block: int = BLOCK
) -> None:
    """Open a file with a connection; one that is not there yet is made, in blocks of so many bytes."""
    until = time.monotonic() + patience
    how = ", READ_ONLY" if read_only else "" if path.exists() else f", BLOCK_SIZE {block}"
    while True:
        try:
            con.execute(f"ATTACH {quoted(str(path))} AS {NAME_OF_DATABASE} (TYPE duckdb{how})")
            con.execute(LOOK)
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
        return SnapshotError(f"{path} is damaged: audit again, or use another snapshot")
    return SnapshotError(f"{path} is not a snapshot of Indrel: give a file that `indrel audit` wrote")


def _check_catalogue(con: duckdb.DuckDBPyConnection, path: Path) -> dict[str, dict[str, str]]:
    """The tables of a file by name. Raises SnapshotError where it holds anything else than plain tables.

    A view, a trigger, a macro, a generated column or a default would run as rows are read or written. All that a file
    can hold stands in the database's catalogue, which is listed by functions with a column `database_name`: what they
    list must be a plain table or one of its columns. A function that a later version of the database adds is asked too.
    """
    here = f"WHERE database_name = '{NAME_OF_DATABASE}'"
    plain = "comment IS NULL AND cardinality(tags) = 0"
    never = " ".join(
        f"UNION ALL SELECT '{what}', {name}, '', '', false, 0 FROM duckdb_{function} {here}"
        f"{' AND NOT internal' if what == 'type' else ''}"
        for what, (name, function) in _NEVER.items()
    )
    try:
        entries = con.execute(
            f"""SELECT 'table', table_name, '', '', NOT internal AND NOT temporary AND {plain}, estimated_size
                FROM duckdb_tables() {here}
            UNION ALL SELECT 'column', table_name, column_name, data_type, column_default IS NULL AND NOT is_generated
                AND is_nullable AND {plain}, column_index FROM duckdb_columns() {here}
            UNION ALL SELECT 'schema', schema_name, '', '', internal AND schema_name = 'main' AND {plain}, 0
                FROM duckdb_schemas() {here}
            {never}
            UNION ALL SELECT CASE WHEN own THEN 'function' ELSE 'catalogue' END, function_name, '', '', NOT own, 0
                FROM (SELECT *, database_name = '{NAME_OF_DATABASE}' AS own FROM duckdb_functions())
                WHERE own OR function_type = 'table' AND starts_with(function_name, 'duckdb_') AND len(parameters) = 0
            ORDER BY ALL"""  # the functions are listed once: there are thousands
        ).fetchall()
        entries += _unlisted(con, {name for what, name, *_ in entries if what == "catalogue"} - _CATALOGUE)
    except duckdb.Error as error:
        raise _refused(error, path) from error
    tables: dict[str, dict[str, tuple[int, str]]] = {}
    for what, name, column, kind, allowed, number in entries:
        if not allowed:
            raise SnapshotError(f"{path} is not a snapshot of Indrel: it has a {what} ({name}) that no audit makes")
        if what == "column":
            tables.setdefault(name, {})[column] = number, kind
        elif what == "table" and number > max(LEAST_ROWS, path.stat().st_size):
            raise SnapshotError(f"{path}: the table {name} claims {number:,} rows, more than the file has bytes")
    if not tables:
        raise SnapshotError(f"{path} is empty: its audit ended at once; run the audit without --resume")
    if "meta" not in tables:
        raise _foreign(path)
    return {
        name: {column: kind for column, (_, kind) in sorted(columns.items(), key=lambda c: c[1])}
        for name, columns in tables.items()
    }


def _unlisted(con: duckdb.DuckDBPyConnection, functions: Iterable[str]) -> list[tuple[Any, ...]]:
    """What functions that list the catalogue, and that are not known here, list of the file."""
    found = []
    for name in sorted(functions):
        columns = {row[0] for row in con.execute(f"DESCRIBE SELECT * FROM {name}()").fetchall()}
        if "database_name" in columns:
            own = " AND NOT internal" if "internal" in columns else ""
            count = con.execute(
                f"SELECT count(*) FROM {name}() WHERE database_name = '{NAME_OF_DATABASE}'{own}"
            ).fetchall()[0][0]
            found += [(f"entry of {name}", str(count), "", "", False, 0)] if count else []
    return found


def _foreign(path: Path) -> SnapshotError:
    return SnapshotError(f"{path} is a database, but not a snapshot of Indrel")


def check_version(con: duckdb.DuckDBPyConnection, path: Path) -> dict[str, Any]:
    tables = _check_catalogue(con, path)
    try:
        meta = read_meta(con.execute("SELECT name, value FROM meta LIMIT 1000").fetchall())
        version = int(meta["schema"])
    except duckdb.Error as error:
        raise _refused(error, path) if explained(error) else _foreign(path) from error
    except (KeyError, ValueError, TypeError, RecursionError) as error:
        raise SnapshotError(f"{path} is not a snapshot of Indrel, or is damaged: {error}") from error
    if version not in FORMATS:
        which, what = (
            ("older", f"format {OLDEST} and later") if version < OLDEST else ("newer", f"up to format {VERSION}")
        )
        raise SnapshotError(
            f"{path} was made by a much {which} Indrel (snapshot format {version}): this one reads {what}; "
            f"{'audit again' if version < OLDEST else 'update Indrel'}"
        )
    known = FORMATS[version]
    if tables != {**known.facts, **known.decided}:
        raise SnapshotError(f"{path} is not a snapshot of Indrel: its tables are not those of format {version}")
    _check_numbers(con, path)
    return meta


def _check_numbers(con: duckdb.DuckDBPyConnection, path: Path) -> None:
    """URLs are numbered one after the other, almost without gaps: arrays are as long as the greatest number.

    Raises SnapshotError where they are not.
    """
    try:
        count, least, most = con.execute("SELECT count(*), min(id), max(id) FROM address").fetchall()[0]
    except duckdb.Error as error:
        raise _refused(error, path) from error
    if count and (least < 0 or most > 4 * count + 1_000):
        raise SnapshotError(f"{path} is damaged or was altered: its URLs are not numbered one by one; audit again")
