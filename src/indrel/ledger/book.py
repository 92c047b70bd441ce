"""The book itself: one SQLite file with addresses to be crawled again, and removals that expire.

An address waits, is given out on one day's list, and is done once somebody says so (or it was sent).
No address is on the lists of two days, unless it is asked for again on purpose.
"""

from __future__ import annotations

import sqlite3
from collections import Counter
from collections.abc import Iterable, Sequence
from contextlib import ExitStack, closing
from dataclasses import asdict, dataclass
from datetime import date, timedelta
from pathlib import Path
from types import TracebackType
from typing import Any, Self

from indrel.base.errors import InputError, UsageError
from indrel.core.address import site_key

DEFAULT_NAME = "indrel.ledger"
ALLOWANCE = 10
"""Addresses a day and site, unless the book says otherwise."""

LASTS = 180
"""Days after which a removal expires, unless it is said otherwise."""

_MARK = 0x1D4E1
_VERSION = 1
_TABLES = """
CREATE TABLE request (
    number INTEGER PRIMARY KEY, url TEXT NOT NULL UNIQUE, why TEXT NOT NULL, harm INTEGER NOT NULL,
    added TEXT NOT NULL, listed TEXT, done TEXT, how TEXT
) STRICT;
CREATE TABLE removal (
    address TEXT PRIMARY KEY, asked TEXT NOT NULL, lapses TEXT NOT NULL, why TEXT NOT NULL
) STRICT;
CREATE TABLE setting (name TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT;
"""

_DAYS = (("request", "added"), ("request", "listed"), ("request", "done"), ("removal", "asked"), ("removal", "lapses"))
_MOST_DAYS = 100_000


@dataclass(frozen=True, slots=True)
class Asked:
    """An address to be crawled again; of a greater `harm` it is asked for sooner."""

    url: str
    why: str = ""
    harm: int = 0


@dataclass(frozen=True, slots=True)
class Request:
    """One address in the book. Days are ISO 8601; `listed` is the day on whose list it was given out."""

    url: str
    why: str
    harm: int
    added: str
    listed: str | None
    done: str | None
    how: str | None

    def as_json(self) -> dict[str, object]:
        return asdict(self)


def site_of_url(url: str) -> str:
    """The site that a request is for: each has an allowance of its own."""
    return site_key(url).removeprefix("www.")


@dataclass(frozen=True, slots=True)
class Removal:
    """An address, or a prefix that ends in `*`, that an engine was asked to leave out until it expires."""

    address: str
    asked: str
    lapses: str
    why: str

    def days_left(self, today: date) -> int:
        return (date.fromisoformat(self.lapses) - today).days


@dataclass(frozen=True, slots=True)
class Taken:
    """What became of addresses that were handed in."""

    added: int
    waiting: int
    asked: tuple[Request, ...]


class Ledger:
    """One book. Each change is a transaction: two programs at once, or a kill, leave it whole."""

    def __init__(self, path: Path, *, make: bool = True) -> None:
        """Open a book; `make` one if there is none. Raises InputError for a file that is no book."""
        if not make and not path.is_file():
            raise UsageError(f"there is no ledger {path}: `indrel ledger request` or `removal` begins one")
        self.path = path
        try:
            with ExitStack() as opening:
                self.con = opening.enter_context(closing(sqlite3.connect(path, timeout=10, isolation_level=None)))
                self._prepare()
                opening.pop_all()  # it stays open
        except sqlite3.DatabaseError as error:
            raise InputError(f"{path} cannot be opened as a ledger: {error}") from error

    def _prepare(self) -> None:
        self.con.execute("BEGIN IMMEDIATE")
        mark, version = (self._pragma(name) for name in ("application_id", "user_version"))
        empty = not self.con.execute("SELECT count(*) FROM sqlite_master").fetchone()[0]
        if empty and mark == 0:
            for statement in _TABLES.split(";"):
                self.con.execute(statement)
            self.con.execute(f"PRAGMA application_id = {_MARK}")
            self.con.execute(f"PRAGMA user_version = {_VERSION}")
        self.con.execute("COMMIT")
        if not empty and mark != _MARK:
            raise InputError(f"{self.path} is a database, but no ledger: name another file with --ledger")
        if not empty and version > _VERSION:
            raise InputError(f"{self.path} was written by a newer Indrel (format {version}): update Indrel")
        if not empty:
            self._check()

    def _check(self) -> None:
        """A ledger may come from a stranger: it holds the tables of one and nothing else, and days are days.

        Raises InputError for one that does not.
        """
        found = self.con.execute("SELECT sql FROM sqlite_master WHERE sql IS NOT NULL").fetchall()
        if {" ".join(sql.split()) for (sql,) in found} != {
            " ".join(one.split()) for one in _TABLES.split(";") if one.strip()
        }:
            raise InputError(f"{self.path} is not a ledger of Indrel: it has other tables")
        days = " UNION ALL ".join(f"SELECT {column} FROM {table}" for table, column in _DAYS)
        for (day,) in self.con.execute(f"SELECT DISTINCT * FROM ({days}) LIMIT {_MOST_DAYS}"):
            try:
                date.fromisoformat(day or "2000-01-01")
            except ValueError as error:
                raise InputError(f"{self.path} is damaged: {str(day)[:40]!r} is not a day") from error
        bad = self.con.execute(
            "SELECT value FROM setting WHERE name = 'allowance' AND (length(value) > 9 OR value GLOB '*[^0-9]*')"
        ).fetchone()
        if bad:
            raise InputError(f"{self.path} is damaged: {str(bad[0])[:40]!r} is not an allowance")

    def _pragma(self, name: str) -> int:
        return int(self.con.execute(f"PRAGMA {name}").fetchone()[0])

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.con.close()

    # ---------------------------------------------------------------- requests

    @property
    def allowance(self) -> int:
        """Addresses of one site that may be given out on one day."""
        found = self.con.execute("SELECT value FROM setting WHERE name = 'allowance'").fetchone()
        return int(found[0]) if found else ALLOWANCE

    @allowance.setter
    def allowance(self, count: int) -> None:
        self.con.execute("INSERT OR REPLACE INTO setting VALUES ('allowance', ?)", [str(count)])

    def request(self, asked: Iterable[Asked], today: date, again: bool = False) -> Taken:
        """Put addresses in the queue. Those given out before stay out, unless they are asked for `again`.

        One that already waits takes the greater harm of the two.
        """
        day = today.isoformat()
        added = waiting = 0
        before: list[Request] = []
        with self.con:
            self.con.execute("BEGIN IMMEDIATE")
            for one in asked:
                found = self._requests("WHERE url = ?", [one.url])
                if not found:
                    self.con.execute(
                        "INSERT INTO request (url, why, harm, added) VALUES (?, ?, ?, ?)", [one.url, one.why, one.harm, day]
                    )  # fmt: skip
                    added += 1
                elif found[0].listed is None:
                    waiting += 1
                    if one.harm > found[0].harm:
                        self.con.execute(
                            "UPDATE request SET harm = ?, why = ? WHERE url = ?", [one.harm, one.why, one.url]
                        )
                elif again and found[0].listed != day:
                    self.con.execute(
                        "UPDATE request SET why = ?, harm = ?, added = ?, listed = NULL, done = NULL, how = NULL WHERE url = ?",
                        [one.why, one.harm, day, one.url],
                    )
                    added += 1
                else:
                    before.append(found[0])
        return Taken(added, waiting, tuple(before))

    def give_out(self, today: date) -> list[Request]:
        """Today's list: what was given out today, filled up to the allowance of each site with the most harmful that wait."""
        day = today.isoformat()
        with self.con:
            self.con.execute("BEGIN IMMEDIATE")
            given, most = (
                Counter(site_of_url(one.url) for one in self._requests("WHERE listed = ?", [day])),
                self.allowance,
            )
            for one in self.waiting():
                if given[site_of_url(one.url)] < most:
                    given[site_of_url(one.url)] += 1
                    self.con.execute("UPDATE request SET listed = ? WHERE url = ?", [day, one.url])
        return self._requests("WHERE listed = ?", [day])

    def mark_done(
        self, today: date, urls: Sequence[str] | None = None, how: str = "by hand"
    ) -> tuple[list[str], list[str]]:
        """Say of addresses (all given out and not done, if none are named) that they were asked for.

        Gives those marked, and the ones that the book does not have.
        """
        day = today.isoformat()
        if urls is None:
            urls = [r.url for r in self.undone()]
        marked: list[str] = []
        unknown: list[str] = []
        with self.con:
            self.con.execute("BEGIN IMMEDIATE")
            for url in urls:
                done = self.con.execute(
                    "UPDATE request SET done = ?, how = ?, listed = coalesce(listed, ?) WHERE url = ?",
                    [day, how, day, url],
                )
                (marked if done.rowcount else unknown).append(url)
        return marked, unknown

    def put_back(self, today: date) -> int:
        """Let addresses that were given out on earlier days and never done wait again; gives their number."""
        with self.con:
            done = self.con.execute(
                "UPDATE request SET listed = NULL WHERE done IS NULL AND listed < ?", [today.isoformat()]
            )
            return done.rowcount

    def undone(self, before: date | None = None) -> list[Request]:
        """Given out (before a day), and not done."""
        if before is None:
            return self._requests("WHERE listed IS NOT NULL AND done IS NULL")
        return self._requests("WHERE listed < ? AND done IS NULL", [before.isoformat()])

    def waiting(self) -> list[Request]:
        return self._requests("WHERE listed IS NULL")

    def done(self) -> list[Request]:
        return self._requests("WHERE done IS NOT NULL")

    def _requests(self, where: str, values: Sequence[Any] = ()) -> list[Request]:
        sql = f"SELECT url, why, harm, added, listed, done, how FROM request {where} ORDER BY listed, harm DESC, number"
        return [Request(*row) for row in self.con.execute(sql, values)]

    # ---------------------------------------------------------------- removals

    def remove(self, address: str, asked: date, days: int = LASTS, why: str = "") -> Removal:
        """Note a removal that was asked for on a day; one of the same address is replaced."""
        found = Removal(address, asked.isoformat(), (asked + timedelta(days=days)).isoformat(), why)
        self.con.execute(
            "INSERT OR REPLACE INTO removal VALUES (?, ?, ?, ?)", [found.address, found.asked, found.lapses, why]
        )
        return found

    def forget_removal(self, address: str) -> bool:
        """Take a removal out of the book; gives whether it was there."""
        return self.con.execute("DELETE FROM removal WHERE address = ?", [address]).rowcount > 0

    def removals(self) -> list[Removal]:
        """All removals, the one that expires first at the top."""
        rows = self.con.execute("SELECT address, asked, lapses, why FROM removal ORDER BY lapses, address")
        return [Removal(*row) for row in rows]
