"""Sitemaps on their own: read from anywhere as a stream, checked, and compared with a snapshot."""

from __future__ import annotations

import asyncio
import sys
import tempfile
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from indrel.base.errors import InputError
from indrel.base.files import is_snapshot
from indrel.checks import checks, judge
from indrel.checks.headline import spoken_of
from indrel.core.address import normalise, origin_of, site_key, split
from indrel.core.crawlers import Crawler
from indrel.core.intent import Intent
from indrel.core.model import Finding, Skipped
from indrel.core.sitemap import (
    Child,
    Entry,
    Found,
    SitemapReader,
    SitemapSummary,
    SitemapWalk,
    entry_fault,
    on_its_host,
)
from indrel.decide.site import Site
from indrel.snapshot import Snapshot, SnapshotWriter, now
from indrel.sources.options import GatherOptions

if TYPE_CHECKING:
    from indrel.sources.fetch import Fetcher

NOWHERE = "https://sitemap.invalid"
STEP = 1 << 16
COMMIT_ENTRIES = 100_000
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


@dataclass(frozen=True)
class CheckedSitemaps:
    """What the checks said. `states` counts the entries by state in the snapshot, if one was given; `unread` are files
    of an index that could not be found beside it."""

    findings: Sequence[Finding]
    crashed: Sequence[Skipped]
    files: Sequence[ReadFile]
    unread: Sequence[str] = ()
    states: Mapping[str, int] = field(default_factory=dict)
    audit: str = ""
    """Whose audit, and of when, judged the entries."""

    def as_json(self) -> dict[str, object]:
        files = [{"where": f.where, "kind": f.kind, "entries": f.entries, "octets": f.octets} for f in self.files]
        return {
            "findings": [f.as_json() for f in self.findings], "files": files, "unread": list(self.unread), "states": dict(self.states),
        }  # fmt: skip


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

    def finish(
        self,
        number: int,
        todo: Found,
        summary: SitemapSummary,
        status: int | None,
        error: str | None,
        final: str | None = None,
    ) -> None:
        row = (
            number, todo.place, todo.via, todo.parent, None, todo.line, status, error, summary.kind, summary.root,
            summary.namespace, summary.octets, summary.entries, summary.gzipped, summary.error, summary.line,
            summary.column, final or todo.place, False,
        )  # fmt: skip
        self.writer.add("sitemap", [row])
        self.files.append(ReadFile(todo.place, summary.kind, summary.entries, summary.octets))


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
            found = CheckedSitemaps(
                list(map(_file_first, verdict.findings)), verdict.crashed, gatherer.files, gatherer.unread
            )
        finally:
            site.close()
        return found if snapshot is None else _judged(found, path, snapshot, crawlers, intent)


def _judged(
    found: CheckedSitemaps, path: Path, snapshot: Path, crawlers: Sequence[Crawler], intent: Intent | None
) -> CheckedSitemaps:
    """The same with what the snapshot says of the entries."""
    only = [c.id for c in checks().values() if c.id.startswith(JUDGED) or c.id == "wanted-unlisted"]
    site = Site(Snapshot(snapshot), crawlers, intent=intent, sitemaps=path)
    try:
        verdict = judge(site, only)
        index = len(site.crawlers) - 1
        states = dict(
            site.rows(
                f"""SELECT CASE WHEN e.address IS NULL THEN 'unknown' ELSE {site.state_sql(index)} END AS state, count(*)
                FROM entry e LEFT JOIN fact ON fact.id = e.address WHERE e.fault IS NULL GROUP BY state ORDER BY state"""
            )
        )
        return replace(
            found, findings=[*found.findings, *map(_file_first, verdict.findings)], crashed=[*found.crashed, *verdict.crashed],
            states=states, audit=spoken_of(site),
        )  # fmt: skip
    finally:
        site.close()


def _file_first(finding: Finding) -> Finding:
    """A finding whose first evidence is the file's own text: who checks a sitemap fixes that."""
    shown = sorted(finding.evidence, key=lambda e: not (e.kind == "sitemap" and e.line is not None))
    return replace(finding, evidence=tuple(shown))


def _read_all(named: str, gatherer: _Gatherer) -> None:
    """Read a file, and the files beside it that an index lists."""
    walk = SitemapWalk([Found(named, "given")])
    for number, todo in enumerate(walk):
        reader, children = SitemapReader(), []
        for chunk in _chunks(todo.place):
            children += gatherer.take(number, reader.feed(chunk))
        children += gatherer.take(number, reader.close())
        gatherer.finish(number, todo, reader.summary, 200, None)
        left = walk.lists(todo, number, children, partial(_beside, todo.place))
        gatherer.unread += [child.loc for child in left]


def _chunks(named: str) -> Iterator[bytes]:
    try:
        if named == "-":
            while chunk := sys.stdin.buffer.read(STEP):
                yield chunk
            return
        if is_snapshot(named):
            raise InputError(
                f"{named} is a snapshot, not a sitemap: name a sitemap file or URL, and the snapshot with --from"
            )
        with Path(named).open("rb") as file:
            while chunk := file.read(STEP):
                yield chunk
    except OSError as error:
        raise InputError(
            f"{named} cannot be read: {error.strerror}; name a file, a URL or - for standard input"
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
    from indrel.sources.fetch import FAILED, Fetcher, explain
    from indrel.sources.sitemaps import stream

    origin = origin_of(url)
    async with Fetcher(options, [origin_of(url)]) as fetcher:
        await _robots(origin, gatherer, fetcher)
        walk = SitemapWalk([Found(url, "given")])
        for number, todo in enumerate(walk):
            reader, children = SitemapReader(), []
            status: int | None = None
            error = final = None
            try:
                async for piece in stream(fetcher, todo.place):
                    status, final = piece.status, piece.url
                    children += gatherer.take(number, reader.feed(piece.octets))
                    if reader.summary.error:
                        break
            except FAILED as failure:
                error = explain(failure)
            if todo.depth == 0 and status is None:
                raise InputError(f"{url} cannot be read: {error or 'no response'}")
            children += gatherer.take(number, reader.close())
            gatherer.finish(number, todo, reader.summary, status, error, final)
            left = walk.lists(todo, number, children, partial(on_its_host, todo.place))
            gatherer.unread += [child.loc for child in left]
        for other in sorted(gatherer.origins - {origin})[:MOST_HOSTS]:  # who else may vouch for the file
            await _robots(other, gatherer, fetcher)


async def _robots(origin: str, gatherer: _Gatherer, fetcher: Fetcher) -> None:
    """Keep what a host's robots.txt answers."""
    from indrel.gather.recorder import robots_row
    from indrel.sources.fetch import follow_robots

    hops, answer = await follow_robots(fetcher, f"{origin}/robots.txt")
    gatherer.writer.add("robots", [robots_row(origin, answer, "site", hops=hops)])
