"""Rows and columns on their way into the database."""

from __future__ import annotations

import json
import sys
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from typing import Any, NamedTuple

import duckdb

from indrel.snapshot.schema import DECIDED, TABLES, arrow

FEW_ROWS = 200
"""Rows that are given to the database as lists."""


class Masked(NamedTuple):
    """A column of numbers as an array, and which of them are null."""

    values: Any
    absent: Any


Columns = Sequence[Any]
"""A batch of rows as columns: arrays, lists or `Masked`, in the order of the table's own."""


class _Incoming(NamedTuple):
    """What rows that come from outside the database are asked for with."""

    sql: str
    values: list[list[Any]]


@contextmanager
def incoming(
    con: duckdb.DuckDBPyConnection, table: str, rows: Sequence[Sequence[Any]], columns: Sequence[Columns] = ()
) -> Iterator[_Incoming]:
    """Rows of the kind of `table`: a few as lists, because the array library takes as long to load as twenty queries."""
    if not columns and len(rows) <= FEW_ROWS and "pyarrow" not in sys.modules:
        kinds = {**TABLES, **DECIDED}[table]
        lists = [list(column) for column in zip(*rows, strict=True)] or [[] for _ in kinds]
        yield _Incoming(f"SELECT {', '.join(f'unnest(?::{kind}[]) AS {name}' for name, kind in kinds.items())}", lists)
        return
    from indrel.base.arrow import pa

    tables = [_arrow_table(table, some) for some in columns]
    if rows or not tables:
        tables.append(_arrow_table(table, list(zip(*rows, strict=True)) or [()] * len(arrow(table))))
    con.register("incoming", pa.concat_tables(tables))
    try:
        yield _Incoming("SELECT * FROM incoming", [])
    finally:
        con.unregister("incoming")


def _arrow_table(name: str, columns: Sequence[Any]) -> Any:
    from indrel.base.arrow import pa

    schema = arrow(name)
    arrays = [
        pa.array(column.values, type=field.type, mask=column.absent)
        if isinstance(column, Masked)
        else pa.array(column, type=field.type)
        for column, field in zip(columns, schema, strict=True)
    ]
    return pa.Table.from_arrays(arrays, schema=schema)


def as_rows(columns: Columns) -> list[tuple[Any, ...]]:
    """Columns as rows of plain values."""
    plain = []
    for column in columns:
        values = column.values if isinstance(column, Masked) else column
        listed = values.tolist() if hasattr(values, "tolist") else list(values)
        if isinstance(column, Masked):
            listed = [None if absent else value for value, absent in zip(listed, column.absent, strict=True)]
        plain.append(listed)
    return list(zip(*plain, strict=True))


@contextmanager
def transaction(con: duckdb.DuckDBPyConnection) -> Iterator[None]:
    """All that is written within it, or nothing: an interruption leaves the connection as it was before it."""
    con.execute("BEGIN")
    try:
        yield
        con.execute("COMMIT")
    except BaseException:
        with suppress(duckdb.Error):
            con.execute("ROLLBACK")
        raise


def set_meta(con: duckdb.DuckDBPyConnection, values: Mapping[str, Any]) -> None:
    con.execute(f"DELETE FROM meta WHERE name IN ({', '.join('?' * len(values))})", list(values))
    rows = [cell for name, value in values.items() for cell in (name, json.dumps(value))]
    con.execute(f"INSERT INTO meta VALUES {', '.join(['(?, ?)'] * len(values))}", rows)
