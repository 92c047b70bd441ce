"""Sitemaps on their own: read from anywhere as a stream, checked, and held against a snapshot."""

from __future__ import annotations

import asyncio
import sys
import tempfile
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from indrel.checks import checks, judge
from indrel.checks.headline import spoken_of
from indrel.core.address import normalise, origin_of, site_key, split
from indrel.core.crawlers import Crawler
from indrel.core.intent import Intent
from indrel.core.model import Finding, Skipped
from indrel.core.sitemap import Child, Entry, SitemapReader, SitemapSummary, entry_fault
from indrel.decide.site import Site
from indrel.errors import InputError
from indrel.gather.recorder import now
from indrel.snapshot import Snapshot, SnapshotWriter
from indrel.sources.options import GatherOptions

if TYPE_CHECKING:
    from indrel.sources.fetch import Fetcher

NOWHERE = "https://sitemap.invalid"
STEP = 1 << 16
COMMIT_ENTRIES = 100_000
MOST_FILES = 50_000
DEEPEST = 3
"""Indexes within indexes that are followed, though the protocol has none."""

MOST_HOSTS = 10
"""Hosts of entries whose robots.txt is asked whether it names the file."""

ALONE = ("sitemap_files",)
OF_FILES = ("sitemap-is-page", "sitemap-unreadable")
JUDGED = "listed-"


@dataclass(frozen=True, slots=True)
class ReadFile:
    """One sitemap that was read. `where` is the file or address as named."""

    where: str
    kind: str
    entries: int
    octets: int


@dataclass
class CheckedSitemaps:
    """What the checks said. `states` counts the entries by state in the snapshot, if one was given; `unread` are files
    of an index that could not be found beside it."""

    findings: list[Finding]
    crashed: list[Skipped]
    files: list[ReadFile]
    unread: list[str] = field(default_factory=list)
    states: dict[str, int] = field(default_factory=dict)
    audit: str = ""
    """Whose audit, and of when, judged the entries."""


@dataclass(frozen=True, slots=True)
class _Todo:
    where: str
    parent: int | None = None
    line: int | None = None
    depth: int = 0


class _Queue:
    """Sitemaps to be read, each once, in the order found; iterate for the next with its number."""

    def __init__(self, first: str) -> None:
        self._waiting = deque([_Todo(first)])
        self._done: set[str] = set()

    def __iter__(self) -> Iterator[tuple[int, _Todo]]:
        while self._waiting and len(self._done) < MOST_FILES:
            todo = self._waiting.popleft()
            if todo.where not in self._done:
                self._done.add(todo.where)
                yield len(self._done) - 1, todo

    def add(
        self, number: int, index: _Todo, children: Iterable[Child], place: Callable[[str], str | None]
    ) -> list[str]:
        """Queue what an index lists, where `place` finds it; give what could not be found."""
        unread = []
        for child in children if index.depth < DEEPEST else ():
            where = place(child.loc)
            if where:
                self._waiting.append(_Todo(where, number, child.line, index.depth + 1))
            else:
                unread.append(child.loc)
        return unread


class _Gatherer:
    """Streams sitemaps into a snapshot of their own. With `judged`, entries are numbered, to be joined by address."""

    def __init__(self, writer: SnapshotWriter, judged: bool) -> None:
        self.writer = writer
        self.judged = judged
        self.files: list[ReadFile] = []
        self.unread: list[str] = []
        self.origins: set[str] = set()
        """Where entries stand, of the first few hosts."""

        self._numbers: dict[str, int] = {}
        self._pending = 0

    def take(self, number: int, items: Iterable[Entry | Child]) -> list[Child]:
        """Keep entries; give the sitemaps listed."""
        rows, children = [], []
        for item in items:
            if isinstance(item, Child):
                children.append(item)
                continue
            url = normalise(item.loc)
            fault = entry_fault(item.loc, url)
            known = self._number(url) if self.judged and url else None
            if url and len(self.origins) <= MOST_HOSTS:
                self.origins.add(origin_of(url))
            rows.append((number, known, *item, fault))
        self.writer.add("entry", rows)
        self._pending += len(rows)
        if self._pending > COMMIT_ENTRIES:
            self.writer.commit()
            self._pending = 0
        return children

    def _number(self, url: str) -> int:
        found = self._numbers.get(url)
        if found is None:
            found = self._numbers[url] = len(self._numbers)
            parts = split(url)
            self.writer.add("address", [(found, parts.origin, parts.path, True)])
        return found

    def finish(self, number: int, todo: _Todo, summary: SitemapSummary, status: int | None, error: str | None) -> None:
        via = "index" if todo.parent is not None else "given"
        row = (
            number, todo.where, via, todo.parent, None, todo.line, status, error, summary.kind, summary.root,
            summary.namespace, summary.octets, summary.entries, summary.gzipped, summary.error, summary.line,
            summary.column, todo.where, False,
        )  # fmt: skip
        self.writer.add("sitemap", [row])
        self.files.append(ReadFile(todo.where, summary.kind, summary.entries, summary.octets))


def check(
    named: str,
    crawlers: Sequence[Crawler],
    options: GatherOptions,
    snapshot: Path | None = None,
    intent: Intent | None = None,
) -> CheckedSitemaps:
    """Read a sitemap (an index with its files) as a stream and check it; with a snapshot also judge its entries.

    `named` is a file, `-` or an address. Raises InputError where it cannot be read.
    """
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "sitemap.indrel")
        url = normalise(named) if named.startswith(("http://", "https://")) else None
        origin = origin_of(url) if url else NOWHERE
        with SnapshotWriter(path) as writer:
            writer.set_meta(
                source={"kind": "sitemap", "location": named}, base=origin + "/", started=now(), complete=True,
                hosts=[site_key(origin + "/")], located=bool(url),
            )  # fmt: skip
            gatherer = _Gatherer(writer, snapshot is not None)
            if url:
                asyncio.run(_fetch_all(url, gatherer, options))
            else:
                _read_all(named, gatherer)
        only = [c.id for c in checks().values() if c.topic in ALONE or c.id in OF_FILES]
        site = Site(Snapshot(path), crawlers)
        try:
            verdict = judge(site, only)
        finally:
            site.close()
        found = CheckedSitemaps(
            list(map(_file_first, verdict.findings)), list(verdict.crashed), gatherer.files, gatherer.unread
        )
        if snapshot is not None:
            _judge_entries(found, path, snapshot, crawlers, intent)
    return found


def _judge_entries(
    found: CheckedSitemaps, path: Path, snapshot: Path, crawlers: Sequence[Crawler], intent: Intent | None
) -> None:
    """Add what the snapshot says of the entries."""
    only = [c.id for c in checks().values() if c.id.startswith(JUDGED) or c.id == "wanted-unlisted"]
    site = Site(Snapshot(snapshot), crawlers, intent=intent, sitemaps=path)
    try:
        verdict = judge(site, only)
        found.audit = spoken_of(site)
        index = len(site.crawlers) - 1
        found.states = dict(
            site.rows(
                f"""SELECT CASE WHEN e.address IS NULL THEN 'unknown' ELSE {site.state_sql(index)} END AS state, count(*)
                FROM entry e LEFT JOIN fact ON fact.id = e.address WHERE e.fault IS NULL GROUP BY state ORDER BY state"""
            )
        )
    finally:
        site.close()
    found.findings += map(_file_first, verdict.findings)
    found.crashed += verdict.crashed


def _file_first(finding: Finding) -> Finding:
    """A finding whose first evidence is the file's own text: who checks a sitemap mends that."""
    shown = sorted(finding.evidence, key=lambda e: not (e.kind == "sitemap" and e.line is not None))
    return replace(finding, evidence=tuple(shown))


def _read_all(named: str, gatherer: _Gatherer) -> None:
    """Read a file, and the files beside it that an index lists."""
    queue = _Queue(named)
    for number, todo in queue:
        reader, children = SitemapReader(), []
        for chunk in _chunks(todo.where):
            children += gatherer.take(number, reader.feed(chunk))
        children += gatherer.take(number, reader.close())
        gatherer.finish(number, todo, reader.summary, 200, None)
        gatherer.unread += queue.add(number, todo, children, partial(_beside, todo.where))


def _chunks(named: str) -> Iterator[bytes]:
    try:
        if named == "-":
            while chunk := sys.stdin.buffer.read(STEP):
                yield chunk
            return
        with Path(named).open("rb") as file:
            while chunk := file.read(STEP):
                yield chunk
    except OSError as error:
        raise InputError(
            f"{named} cannot be read: {error.strerror}; name a file, an address or - for standard input"
        ) from error


def _beside(named: str, loc: str) -> str | None:
    """The file that an index beside it means: by the longest end of the address's path that is there."""
    url = normalise(loc)
    if named == "-" or url is None:
        return None
    pieces = split(url).path.partition("?")[0].strip("/").split("/")
    folder = Path(named).parent
    for start in range(len(pieces)):
        path = folder.joinpath(*pieces[start:])
        if ".." not in pieces and path.is_file():
            return str(path)
    return None


async def _fetch_all(url: str, gatherer: _Gatherer, options: GatherOptions) -> None:
    """Fetch a sitemap and, of an index, the files on its own host; robots.txt of that host first."""
    import aiohttp

    from indrel.sources.fetch import Fetcher, explain
    from indrel.sources.sitemaps import stream

    origin = origin_of(url)
    async with Fetcher(options, [origin_of(url)]) as fetcher:
        await _robots(origin, gatherer, fetcher)
        queue = _Queue(url)
        for number, todo in queue:
            reader, children = SitemapReader(), []
            status: int | None = None
            error = None
            try:
                async for piece in stream(fetcher, todo.where):
                    status = piece.status
                    children += gatherer.take(number, reader.feed(piece.octets))
                    if reader.summary.error:
                        break
            except (TimeoutError, aiohttp.ClientError, OSError, ValueError) as failure:
                error = explain(failure)
            if todo.depth == 0 and status is None:
                raise InputError(f"{url} cannot be read: {error or 'no answer'}")
            children += gatherer.take(number, reader.close())
            gatherer.finish(number, todo, reader.summary, status, error)
            gatherer.unread += queue.add(number, todo, children, partial(_on_its_host, todo.where))
        for other in sorted(gatherer.origins - {origin})[:MOST_HOSTS]:  # who else may vouch for the file
            await _robots(other, gatherer, fetcher)


async def _robots(origin: str, gatherer: _Gatherer, fetcher: Fetcher) -> None:
    """Keep what a host's robots.txt answers."""
    from indrel.core.page.headers import content_type
    from indrel.sources.fetch import ROBOTS_LIMIT, follow_robots

    hops, robots = await follow_robots(fetcher, f"{origin}/robots.txt", ROBOTS_LIMIT)
    media, _ = content_type(robots.header("content-type"))
    answer = (robots.status, robots.error, media, hops, robots.url, robots.body, robots.cut)
    gatherer.writer.add("robots", [(origin, *answer, "site", True, None)])


def _on_its_host(sitemap: str, loc: str) -> str | None:
    """The address that an index means, if it stands on the index's own host."""
    target = normalise(loc, sitemap)
    return target if target and site_key(target) == site_key(sitemap) else None
