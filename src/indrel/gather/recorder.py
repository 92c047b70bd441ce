"""Numbers addresses, turns parsed batches into the snapshot's rows, commits as it goes."""

from __future__ import annotations

import time
from collections.abc import Collection, Iterable, Sequence
from typing import Any

import numpy as np
import numpy.typing as npt

from indrel.core.address import normalise, site_key
from indrel.core.page.facts import UNFOLLOWED
from indrel.core.page.headers import content_type
from indrel.core.sitemap import Entry, SitemapSummary, entry_fault
from indrel.gather.answers import Answer
from indrel.gather.parsing import Parsed
from indrel.snapshot import SnapshotWriter, now
from indrel.snapshot.columns import Masked, transaction
from indrel.snapshot.opening import COUNTING_MEMORY
from indrel.snapshot.schema import OWN, TABLES, place

COMMIT_ROWS = 200_000
COMMIT_SECONDS = 0.5


class Recorder:
    """Everything a source learns goes through here.

    `hosts` are the hosts of the site as `site_key` gives them; an address elsewhere is kept only as
    a target.
    """

    def __init__(self, writer: SnapshotWriter, hosts: Iterable[str]) -> None:
        self.writer = writer
        self.hosts = set(hosts)
        self._ids: dict[str, int] = {}
        self._site: dict[str, bool] = {}
        self._committed = time.monotonic()
        self.pages = 0
        self.sitemaps = 0
        self.unviewed: str | None = None
        """What was chosen to be rendered and could not be viewed, in words: the audit is not complete."""

        self.unkept: dict[str, str] = {}
        """URLs of which facts could not be written, with the reason: they are unread, and the audit is not complete."""

    def load(self) -> None:
        """Take up the addresses of a snapshot that is being resumed."""
        con = self.writer.con
        cursor = con.execute("SELECT origin || path, id FROM address")
        while rows := cursor.fetchmany(50_000):
            self._ids.update(rows)
        self.pages = int(con.execute("SELECT count(*) FROM page").fetchall()[0][0])
        self.sitemaps = int(con.execute("SELECT coalesce(max(id) + 1, 0) FROM sitemap").fetchall()[0][0])

    def move(self, hosts: Iterable[str]) -> None:
        """Take these for the hosts of the site."""
        self.hosts = set(hosts)
        self._site.clear()

    def on_site(self, url: str) -> bool:
        origin = url[: url.index("/", 8)]
        found = self._site.get(origin)
        if found is None:
            found = self._site[origin] = site_key(url) in self.hosts
        return found

    def __len__(self) -> int:
        return len(self._ids)

    def give(self, start: str | None, also: Iterable[str]) -> None:
        """Record what the audit was given: its start page, if there is one, and the other URLs that are the site's."""
        others = self.of_site(also, start or "")
        first = [(self.id(start), "start")] if start else []
        self.writer.add("given", [*first, *((self.id(url), "also") for url in others)])

    def of_site(self, urls: Iterable[str], start: str) -> list[str]:
        """Addresses and paths as addresses of the site, which begins at `start`; those of others are left out."""
        found = (normalise(url, start) for url in urls)
        return [url for url in found if url and self.on_site(url)]

    def urls(self) -> dict[int, str]:
        """All addresses by their numbers."""
        return {number: url for url, number in self._ids.items()}

    def known(self, url: str) -> int | None:
        return self._ids.get(url)

    def id(self, url: str) -> int:
        """The number of an address, new or known."""
        found = self._ids.get(url)
        if found is None:
            found = self._ids[url] = len(self._ids)
            slash = url.index("/", 8)
            self.writer.add("address", [(found, url[:slash], url[slash:], self.on_site(url))])
        return found

    def answer_row(
        self,
        url: str,
        status: int | None,
        *,
        error: str | None = None,
        media_type: str = "",
        target: str | None = None,
        location: str | None = None,
        octets: int = 0,
        cut: bool = False,
        last_modified: str | None = None,
        file: str | None = None,
    ) -> tuple[Any, ...]:
        """What an address answered, as a row of the snapshot's table; its first value is the address's number."""
        number = self.id(url)
        to = self.id(target) if target else None
        return (number, status, error, media_type, to, location, octets, cut, last_modified, now(), file)

    def parsed(self, batch: Parsed, seen: Collection[int] = ()) -> dict[str, set[int]]:
        """Keep a parsed batch; give the page addresses on the site that it mentions (resources are not) and that are not
        among the `seen`, each with the numbers of the pages that do."""
        numbers: npt.NDArray[np.int32] = np.fromiter(map(self.id, batch.urls), dtype=np.int32, count=len(batch.urls))

        pairs: list[tuple[int, int]] = []  # of what pages mention, position and page
        for table, rows, column in (
            ("page", batch.pages, "refresh"), ("canonical", batch.canonicals, "target"),
            ("alternate", batch.alternates, "target"), ("resource", batch.resources, "target"),
        ):  # fmt: skip
            at = place(table, column)
            self.writer.add(table, [self._numbered(row, at, numbers) for row in rows])
            if table != "resource":
                pairs += [(row[at], page) for row in rows for page in row[:1] if row[at] is not None]
        self.writer.add("directive", batch.directives)
        self.writer.add("slip", batch.slips)
        fresh = np.array(
            [int(n) not in seen and self.on_site(u) for n, u in zip(numbers, batch.urls, strict=True)], dtype=bool
        )
        if links := batch.links.text:
            source, positions, line = (
                np.frombuffer(column, dtype=np.int32)
                for column in (batch.links.source, batch.links.target, batch.links.line)
            )
            flags = np.frombuffer(batch.links.flags, dtype=np.uint8)
            self.writer.add_columns("link", [source, numbers[positions], flags, Masked(line, line == 0), links])
            chosen = fresh[positions]
            pairs += zip(positions[chosen].tolist(), source[chosen].tolist(), strict=True)
        self.pages += len(batch.pages)
        found: dict[int, set[int]] = {}
        for position, page in pairs:
            if fresh[position]:
                found.setdefault(position, set()).add(page)
        return {batch.urls[position]: found[position] for position in sorted(found)}

    @staticmethod
    def texts(batch: Parsed) -> list[tuple[int, int | None, int]]:
        """Per page of a batch: number, hash of its text, and length."""
        digest, length = place("page", "text_hash"), place("page", "text_length")
        return [(row[0], row[digest], row[length]) for row in batch.pages]

    @staticmethod
    def _numbered(row: tuple[Any, ...], at: int, numbers: npt.NDArray[np.int32]) -> tuple[Any, ...]:
        """A row whose column at that place is a position, with the address's number there."""
        position = row[at]
        return row if position is None else (*row[:at], int(numbers[position]), *row[at + 1 :])

    def sitemap_number(self) -> int:
        self.sitemaps += 1
        return self.sitemaps - 1

    def sitemap(
        self,
        number: int,
        url: str,
        via: str,
        summary: SitemapSummary,
        *,
        parent: int | None = None,
        origin: str | None = None,
        line: int | None = None,
        status: int | None = 200,
        error: str | None = None,
        final: str | None = None,
        alike: bool = False,
    ) -> None:
        """Keep a sitemap that was read: what led to it (`via` a file, an index or a usual address), what it is."""
        row = (
            number, url, via, parent, origin, line, status, error, summary.kind, summary.root, summary.namespace,
            summary.octets, summary.entries, summary.gzipped, summary.error, summary.line, summary.column, final or url, alike,
        )  # fmt: skip
        self.writer.add("sitemap", [row])

    def elsewhere(self, sitemap: int, listed: str, line: int | None) -> None:
        """Keep that an index lists a file of another host, which is not read."""
        self.writer.add("elsewhere", [(sitemap, listed[:2_048], line)])

    def entries(self, sitemap: int, entries: Iterable[Entry], addresses: Iterable[str | None]) -> None:
        """Keep a sitemap's entries beside their normalised addresses."""
        self.writer.add(
            "entry",
            [
                (
                    sitemap, self.id(url) if url else None, e.loc, e.line, e.column, e.lastmod, e.changefreq, e.priority,
                    entry_fault(e.loc, url),
                )
                for e, url in zip(entries, addresses, strict=True)
            ],
        )  # fmt: skip

    def commit(self, force: bool = False) -> None:
        """Make what was gathered lasting, if enough of it or enough time has come together."""
        moment = time.monotonic()
        if force or moment - self._committed > COMMIT_SECONDS or self.writer.pending > COMMIT_ROWS:
            self._write()
            self._committed = time.monotonic()

    def _write(self) -> None:
        """Commit. A row that could not be written makes its URL unread, with the reason: the other rows are kept."""
        self.writer.commit()
        if not self.writer.refused:
            return
        urls, fresh = self.urls(), {}
        for table, row, why in self.writer.refused:
            reason = f"could not be kept: {why}"
            if table in OWN and (url := urls.get(row[place(table, OWN[table])])):
                fresh[self._ids[url]] = reason
                self.unkept.setdefault(url, reason)
            elif table == "robots":
                origin = str(row[place(table, "origin")])
                self.writer.add(table, [robots_row(origin, None, str(row[place(table, "role")]), why=reason)])
                self.unkept.setdefault(f"{origin}/robots.txt", reason)
            else:
                self.unkept.setdefault(f"a row of the table {table}", reason)
        self.writer.refused = []
        self.writer.forget(fresh)
        self.writer.add("page", [_unread_page(number, reason) for number, reason in fresh.items()])
        self.writer.commit()

    def finish(self, complete: bool, because: str | None) -> None:
        """Gathering has ended: stage what later questions all need, and say how it ended."""
        self._write()
        con = self.writer.con
        con.execute(f"SET memory_limit = '{COUNTING_MEMORY}'")
        with transaction(con):
            con.execute("DELETE FROM inlink")
            con.execute(
                f"""INSERT INTO inlink SELECT target, count(*) FILTER (flags & {UNFOLLOWED} = 0),
                count(*) FILTER (flags & {UNFOLLOWED} > 0) FROM link GROUP BY target"""
            )
        self.writer.set_meta(complete=complete, incomplete_because=because, finished=now())


def robots_row(
    origin: str, answer: Answer | None, role: str, *, hops: Sequence[str] = (), file: str | None = None, why: str | None = None
) -> tuple[Any, ...]:  # fmt: skip
    """The row of a host's robots.txt, from what came of it after `hops` redirects (RFC 9309 section 2.3.1).

    `answer` None: it was never requested, so its rules are unknown; `why` says so if there is a reason. `file` is where it
    stands if it was not served.
    """
    if answer is None:
        return origin, None, why, "", [], f"{origin}/robots.txt", b"", False, role, False, None
    media, _ = content_type(answer.header("content-type"))
    return (
        origin, answer.status, answer.pause, media, list(hops), answer.url, answer.body, answer.cut, role, True, file,
    )  # fmt: skip


def _unread_page(number: int, reason: str) -> tuple[Any, ...]:
    """The row of a page of which only the reason is known why it is unread."""
    row: list[Any] = [None] * len(TABLES["page"])
    row[0], row[place("page", "problem")] = number, reason
    return tuple(row)
