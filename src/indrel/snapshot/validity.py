"""What is wrong with the contents of a snapshot: looked for only once a query has failed for no other known reason."""

from __future__ import annotations

from pathlib import Path

from indrel.snapshot.schema import DECIDED, TABLES

_MOST = 1 << 31
_ORIGIN = r"^https?://[^/\s]+$"
_TEXT = 8 << 20


def fault_of(path: Path) -> str | None:
    """The first fact of a snapshot that no audit writes, in words; None where every one is as it should be."""
    from indrel.snapshot.store import Snapshot

    with Snapshot(path) as snapshot:
        for name in ("base", "source", "started", "crawlers", "hosts"):
            if name not in snapshot.meta:
                return f"the value `{name}` is missing"
        for table, columns in {**TABLES, **DECIDED}.items():
            if table == "meta":
                continue
            for condition, what in _conditions(table, columns):
                if snapshot.one(f"SELECT count(*) FROM {table} WHERE {condition}"):
                    return f"the table `{table}` has {what}"
    return None


def _conditions(table: str, columns: dict[str, str]) -> list[tuple[str, str]]:
    """What no row of a table fulfils, as SQL, with words for it."""
    found: list[tuple[str, str]] = []
    for column, kind in columns.items():
        name = f'"{column}"'
        if column == "severity":
            found.append((f"{name} IS NULL OR {name} > 3", "a severity that is none"))
        elif kind == "INTEGER":
            found.append((f"{name} < 0", f"a negative number in `{column}`"))
        elif kind == "VARCHAR":
            found.append((f"strlen({name}) > {_TEXT}", f"an endless text in `{column}`"))
        elif kind == "VARCHAR[]":
            found.append((f"{name} IS NULL OR list_contains({name}, NULL)", f"no list in `{column}`"))
        elif column in ("severity", "check_id", "cls", "url", "message", "summary"):
            found.append((f"{name} IS NULL", f"nothing in `{column}`"))
        if column in ("address", "source", "target") and kind == "INTEGER" and table != "entry":
            unknown = f"{name} IS NOT NULL AND {name} NOT IN (SELECT id FROM address)"
            found.append((unknown, f"a number in `{column}` that no URL has"))
    if table == "address":
        odd = (
            f"id IS NULL OR origin IS NULL OR path IS NULL OR NOT regexp_matches(origin, '{_ORIGIN}') OR path[1] <> '/'"
        )
        found.append((odd, "something that is no URL"))
        found.append(("id IN (SELECT id FROM address GROUP BY id HAVING count(*) > 1)", "a number twice"))
    if "origin" in columns and table != "address" and columns["origin"] == "VARCHAR" and table in TABLES:
        found.append((f"origin IS NULL OR NOT regexp_matches(origin, '{_ORIGIN}')", "something that is no origin"))
    return found
