"""WARC files (ISO 28500), read as if their answers came from the site; several are one archive.

What the archive has not is not known: an address without a record is unread, not gone; without a record
of robots.txt its rules are unknown. Of several answers of one address the latest counts, whatever file it is in
(of the same moment, the one in the later file by name); a `revisit` has the headers of its own and the body of the
answer that it names, which may be in another file.
"""

from __future__ import annotations

import re
import zlib
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from contextlib import closing
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any, BinaryIO

import brotli
from warcio.archiveiterator import ArchiveIterator

from indrel.base.errors import AuditCutShort, InputError
from indrel.base.files import archives_in
from indrel.core.address import Joiner, normalise, origin_of, site_key
from indrel.core.answers import NOT_HTTP, status_of
from indrel.core.page.headers import content_type, is_html
from indrel.core.robots import parse as parse_robots
from indrel.core.robots.access import MAX_HOPS
from indrel.core.robots.file import READ_BYTES
from indrel.core.sitemap import Child, Entry, Found, SitemapReader, SitemapWalk, announced, on_its_host, usual_folders
from indrel.gather.answers import Answer
from indrel.gather.keeping import Keeper
from indrel.gather.parsing import MAX_PAGE, PageTask, ParserPool, parse_in_order
from indrel.gather.recorder import Recorder, robots_row
from indrel.sources.fetch import KEPT_HEADERS
from indrel.sources.frontier import spread
from indrel.sources.options import GatherOptions

BATCH = 24
MOST_OPEN = 64
"""Files that are held open at once."""

LONGEST_HEAD = 1 << 20
"""Bytes of the head of one record."""

STEP = 1 << 16
_ANSWERS = ("response", "resource", "revisit")


@dataclass(frozen=True, slots=True)
class Place:
    """Where the answer of an address stands (the number of the file, the bytes before it), and where its body, if that is another
    record's."""

    at: tuple[int, int]
    date: str
    status: int | None
    html: bool
    body_at: tuple[int, int] | None = None


class _Files:
    """The files of an archive, opened as they are needed: a crawl can have hundreds."""

    def __init__(self, paths: Sequence[Path]) -> None:
        self.paths = paths
        self._open: dict[int, BinaryIO] = {}

    def __getitem__(self, number: int) -> BinaryIO:
        file = self._open.pop(number, None)
        if file is None:
            if len(self._open) >= MOST_OPEN:
                self._open.pop(next(iter(self._open))).close()
            file = self.paths[number].open("rb")
        self._open[number] = file
        return file

    def close(self) -> None:
        while self._open:
            self._open.popitem()[1].close()


class Archive:
    """Gathers WARC files into a recorder. `base` is the start page of the site that they are read for."""

    resumes = False

    def __init__(self, named: str | Sequence[str], options: GatherOptions) -> None:
        """Look through the files once: one, several, or those of a folder. Raises InputError where one is no WARC file, or none holds
        a page."""
        given = [named] if isinstance(named, (str, Path)) else list(named)
        folder = Path(given[0]) if len(given) == 1 and Path(given[0]).is_dir() else None
        paths = archives_in(folder) if folder else [Path(one) for one in given]
        self.location = str(given[0]) + (f" and {len(given) - 1:,} more" if len(given) > 1 else "")
        self.name = paths[0].name if len(paths) == 1 else f"the {len(paths):,} archives"
        self.options = replace(options, read_barred=True)  # it is always read whole, what robots.txt blocks too
        self.places: dict[str, Place] = {}
        self.faults: list[str] = []
        self._replaced: dict[str, Place] = {}  # what the last record took the place of: it may turn out to be cut
        self.limit_hit = False
        self._files = _Files(sorted(dict.fromkeys(paths), key=lambda path: (path.name, str(path))))
        try:
            self._index()
        finally:
            self._files.close()
        self.base = self._base()

    @property
    def expected(self) -> int | None:
        return len(self.places)

    @property
    def fault(self) -> str | None:
        """Which files are damaged, and how."""
        return "; ".join(self.faults) or None

    # ---------------------------------------------------------------- the index

    def _index(self) -> None:
        bodies: dict[str, tuple[int, int]] = {}
        revisits: list[tuple[tuple[str | None, ...], str, Place]] = []
        for number in range(len(self._files.paths)):
            for record, offset in self._records(number):
                kind, headers = record.rec_type, record.rec_headers
                url = _address(headers.get_header("WARC-Target-URI"))
                if kind not in _ANSWERS or url is None or (kind == "revisit" and record.http_headers is None):
                    continue
                place = _place(record, (number, offset))
                digest = headers.get_header("WARC-Payload-Digest")
                if kind == "revisit":
                    named = _address(headers.get_header("WARC-Refers-To-Target-URI")) or url
                    revisits.append(((digest, named, url), url, place))
                    continue
                self._take(url, place)
                bodies.update(dict.fromkeys((digest, url) if digest else (url,), place.at))
        for keys, url, place in revisits:
            at = next((bodies[key] for key in keys if key in bodies), None)
            if place.status != 304 and at is not None:  # 304 says that nothing changed: the earlier answer holds
                self._take(url, replace(place, body_at=at))

    def _records(self, number: int) -> Iterator[tuple[Any, int]]:
        """Each record of a file with where it begins, as far as the file is whole; what breaks it off is kept in `faults`."""
        path, file, before = self._files.paths[number], self._files[number], len(self.places)
        records = _iterator(file)
        record: Any = None
        last = 0
        while True:
            try:
                following = next(records, None)
            except Exception as error:  # a damaged file makes the reader fail in many ways
                if record is None:
                    self._unreadable(path, _said(error))
                    return
                self.faults.append(
                    f"{path.name} is damaged after {len(self.places) - before:,} addresses: {_said(error)}"
                )
                return
            if following is None:
                break
            record, last = following, records.get_record_offset()
            yield record, last
        if record is None:
            self._unreadable(path, "it has no record")
            return
        whole, end = _member(file, last)
        file.seek(end)
        if not whole or file.read(STEP).strip(b"\r\n\0 "):
            self.faults.append(f"{path.name} is cut: its last record is incomplete")
        if not whole:
            for url in [url for url, place in self.places.items() if place.at == (number, last)]:
                earlier = self._replaced.get(url)
                self.places |= {url: earlier} if earlier else {}
                if not earlier:
                    del self.places[url]

    def _unreadable(self, path: Path, why: str) -> None:
        """A file of which nothing can be read: if it is one of several, it is named, and the others are read."""
        said = f"{path} cannot be read as a WARC file: {why}"
        if len(self._files.paths) == 1:
            raise InputError(said)
        self.faults.append(said)

    def _take(self, url: str, place: Place) -> None:
        known = self.places.get(url)
        if known is None or place.date >= known.date:
            self.places[url] = place
            self._replaced = {url: known} if known else {}

    def _base(self) -> str:
        if self.options.base:
            base = normalise(self.options.base)
            if base is None:
                raise InputError(
                    f"--base {self.options.base} is not a URL: write it like https://www.sarnfell.example/"
                )
            return base
        hosts = Counter(origin_of(url) for url, place in self.places.items() if place.html)
        if not hosts:
            raise InputError(f"{self.location} has no HTML page: there is nothing to audit")
        return min(hosts, key=lambda host: (-hosts[host], host)) + "/"

    # ---------------------------------------------------------------- reading

    def gather(self, recorder: Recorder, pool: ParserPool) -> str | None:
        """Read everything of the site; what keeps it from being complete, if anything does."""
        self.recorder = recorder
        self._kept_robots: set[str] = set()
        self.keeper = Keeper(recorder, Joiner(20_000), self.options.user_parts)
        recorder.give(self.base, self.options.also)
        pages = [url for url in self._in_order(self.places) if self.places[url].html]
        if not pages:
            raise InputError(f"{self.location} has no page of {origin_of(self.base)}: use another --base")
        if self.options.limit is not None and len(pages) > self.options.limit:
            pages, self.limit_hit = spread(pages, self.options.limit, self.base)[: self.options.limit], True
        with closing(self._files):
            origins = sorted({origin_of(self.base), *map(origin_of, pages)})
            self._sitemaps([one for origin in origins for one in self._robots(origin)])
            for parsed in parse_in_order(pool, self._batches(pages)):
                recorder.parsed(parsed)
                recorder.commit()
                self.options.progress.update(recorder.pages, len(self.places) - recorder.pages, self.name)
            self._mentioned()
            if self.options.render:
                from indrel.sources.stored_rendering import render_archive

                render_archive(self)
                self._mentioned()
        recorder.commit(force=True)
        if self.fault:
            raise AuditCutShort(self.fault)
        return f"--limit {self.options.limit} was reached" if self.limit_hit else self._missing()

    def _in_order(self, urls: Iterable[str]) -> list[str]:
        """Those of the site, as they stand in the files."""
        return sorted((u for u in urls if self.recorder.on_site(u)), key=lambda u: (self.places[u].at, u))

    def _mentioned(self) -> None:
        """Keep the answers of addresses that are no pages, where something names them; what a page loads is none of these."""
        writer = self.recorder.writer
        while True:
            writer.commit()
            rows = writer.con.execute(
                """SELECT origin || path FROM address WHERE site AND id NOT IN (SELECT address FROM answer) AND (
                    id IN (SELECT target FROM link) OR id IN (SELECT address FROM entry) OR id IN (SELECT target FROM answer)
                    OR id IN (SELECT target FROM canonical) OR id IN (SELECT refresh FROM page)
                    OR id IN (SELECT target FROM alternate) OR id IN (SELECT address FROM given))"""
            ).fetchall()
            named = self._in_order(url for (url,) in rows if url in self.places and not self.places[url].html)
            if not named:
                return
            for url in named:
                answer = self.answer(url)
                if answer:
                    self.keeper.keep(answer)

    def _missing(self) -> str | None:
        """That addresses which the pages name are not in the archive."""
        missing, example = self.recorder.writer.con.execute(
            """SELECT count(*), min(origin || path) FROM address WHERE site AND id NOT IN (SELECT address FROM answer)
            AND (id IN (SELECT target FROM link) OR id IN (SELECT address FROM entry))"""
        ).fetchall()[0]
        if not missing:
            return None
        are = (
            "1 URL that is linked or in a sitemap is"
            if missing == 1
            else f"{missing:,} URLs that are linked or in a sitemap are"
        )
        return f"{are} not in {self.name}, such as {example}"

    def answer(self, url: str, limit: int = MAX_PAGE, whole: bool = False) -> Answer | None:
        """What the archive has for an address, at most `limit` bytes of the body; `whole` gives all its headers."""
        place = self.places.get(url)
        if place is None:
            return None
        record = self._record(place.at)
        headers: dict[str, list[str]] = {}
        for name, value in record.http_headers.headers if record.http_headers else ():
            if whole or name.lower() in KEPT_HEADERS:
                headers.setdefault(name.lower(), []).append(value)
        if not record.http_headers:  # a `resource` has no answer's head
            headers["content-type"] = [record.rec_headers.get_header("Content-Type") or ""]
        if place.body_at is not None:
            record = self._record(place.body_at)
        error = NOT_HTTP if place.status is None else None
        try:
            body = _read(_unpacked(record), limit + 1)
        except Exception as fault:  # whatever the reader makes of a damaged record
            body, error = b"", f"the archive's record is damaged ({_said(fault)})"
        status = None if error else place.status
        return Answer(url, status, error, headers, body[:limit], min(len(body), limit), len(body) > limit)

    def _record(self, at: tuple[int, int]) -> Any:
        file = self._files[at[0]]
        file.seek(at[1])
        return next(iter(_iterator(file)))

    def _batches(self, urls: list[str]) -> Iterator[list[PageTask]]:
        """Keep the answers of some addresses; give the pages to parse, a batch at a time."""
        for start in range(0, len(urls), BATCH):
            kept = [self.keeper.keep(answer) for url in urls[start : start + BATCH] if (answer := self.answer(url))]
            pages = [(row, task) for row, task in kept if task]
            self.recorder.writer.add("answer", [row for row, _ in pages])
            yield [task for _, task in pages]

    # ---------------------------------------------------------------- robots.txt and sitemaps

    def robots_of(self, origin: str, role: str) -> tuple[list[str], Answer | None]:
        """Keep a host's robots.txt as archived, or that it is not known; its hops and answer."""
        first = final = f"{origin}/robots.txt"
        hops: list[str] = []
        answer = self.answer(first, READ_BYTES)
        while answer and answer.target and len(hops) <= MAX_HOPS:
            hops.append(final)
            final = answer.target
            answer = self.answer(final, READ_BYTES)
        if origin in self._kept_robots:
            return hops, answer
        self._kept_robots.add(origin)
        self.recorder.writer.add("robots", [robots_row(origin, answer, role, hops=hops)])
        return hops, answer

    def _robots(self, origin: str) -> list[tuple[str, str, int]]:
        """The sitemaps that a host's robots.txt names (address, host, line)."""
        _, found = self.robots_of(origin, "site")
        file = parse_robots(found.body if found and found.status == 200 else b"")
        return [(line.value, origin, line.line) for line in file.sitemaps]

    def _sitemaps(self, named: list[tuple[str, str, int]]) -> None:
        self._walk = SitemapWalk(announced(named), usual_folders(self.base))
        for found in self._walk:
            if found.place in self.places:  # what is not archived is not known
                self._sitemap(found)

    def _sitemap(self, found: Found) -> None:
        url = found.place
        place, reader, items = self.places[url], SitemapReader(), []
        record = self._record(place.body_at or place.at)
        error = None
        if place.status == 200:
            try:
                stream = _unpacked(record)
                while chunk := stream.read(STEP):
                    items += reader.feed(chunk)
            except Exception as fault:  # whatever the reader makes of a damaged record
                error = f"the archive's record is damaged ({_said(fault)})"
            items += reader.close()
        elif found.via == "usual":
            return
        number = self.recorder.sitemap_number()
        self._walk.read(found, reader.summary, place.status == 200 and site_key(url) == site_key(self.base))
        self.recorder.sitemap(
            number, url, found.via, reader.summary, parent=found.parent, origin=found.origin, line=found.line, error=error,
            status=None if error else place.status,
        )  # fmt: skip
        entries = [i for i in items if isinstance(i, Entry)]
        self.recorder.entries(number, entries, [normalise(e.loc) for e in entries])
        children = [i for i in items if isinstance(i, Child)]
        for child in self._walk.lists(found, number, children, partial(on_its_host, url)):
            self.recorder.elsewhere(number, child.loc, child.line)


def _iterator(file: BinaryIO) -> Any:
    """The records of a file, the head of none longer than `LONGEST_HEAD`: packed, a few bytes can stand for gigabytes."""
    records = ArchiveIterator(file)
    read_line, read = records.reader.readline, records.reader.read
    heads = [0]

    def line(length: int = 0) -> bytes:
        found: bytes = read_line(length or LONGEST_HEAD)
        heads[0] += len(found)
        if heads[0] > LONGEST_HEAD:
            raise ValueError("the head of a record has no end")
        return found

    def body(length: int | None = None) -> bytes:
        heads[0] = 0
        found: bytes = read(length)
        return found

    records.reader.readline, records.reader.read = line, body
    return records


def _address(written: str | None) -> str | None:
    """A target address; some writers put it between angle brackets."""
    return normalise(written.strip().removeprefix("<").removesuffix(">")) if written else None


def _place(record: Any, at: tuple[int, int]) -> Place:
    date = record.rec_headers.get_header("WARC-Date") or ""
    if record.http_headers is None:
        media, _ = content_type(record.rec_headers.get_header("Content-Type"))
        return Place(at, date, 200, is_html(media))
    status = status_of(record.http_headers.get_statuscode())
    media, _ = content_type(record.http_headers.get_header("Content-Type"))
    return Place(at, date, status, status == 200 and is_html(media))


def _member(file: BinaryIO, start: int) -> tuple[bool, int]:
    """Whether the record that begins at `start` is whole, and where it ends."""
    file.seek(start)
    data = file.read(STEP)
    if not data.startswith(b"\x1f\x8b"):
        head, blank, _ = data.partition(b"\r\n\r\n")
        length = re.search(rb"(?im)^Content-Length:\s*(\d+)", head)
        end = start + len(head) + len(blank) + int(length[1]) if length else start
        return bool(blank and length) and end <= file.seek(0, 2), end
    unpack = zlib.decompressobj(31)
    try:
        while data and not unpack.eof:
            unpack.decompress(data, STEP)
            data = unpack.unconsumed_tail or (b"" if unpack.eof else file.read(STEP))
    except zlib.error:
        return False, start
    return unpack.eof, file.tell() - len(unpack.unused_data)


class _Brotli:
    """A stream unpacked step by step: what it gives at once is bounded, whatever it is made of."""

    def __init__(self, packed: Any) -> None:
        self._packed = packed
        self._unpacker = brotli.Decompressor()

    def read(self, most: int) -> bytes:
        found: bytes = b""
        while not found and not self._unpacker.is_finished():
            more = b"" if not self._unpacker.can_accept_more_data() else self._packed.read(STEP)
            if not more and self._unpacker.can_accept_more_data():
                break
            found = self._unpacker.process(more, output_buffer_limit=most)
        return found


def _unpacked(record: Any) -> Any:
    """The body of a record as a stream, chunks joined and content codings undone."""
    headers = record.http_headers
    if headers is not None and (headers.get_header("Content-Encoding") or "").strip().lower() == "br":
        headers.replace_header("Content-Encoding", "identity")
        return _Brotli(record.content_stream())
    return record.content_stream()


def _read(stream: Any, most: int) -> bytes:
    """At most so many bytes of a body, unpacked."""
    parts: list[bytes] = []
    have = 0
    while have < most and (part := stream.read(min(STEP, most - have))):
        parts.append(part)
        have += len(part)
    return b"".join(parts)


def _said(error: Exception) -> str:
    return (str(error).strip().splitlines() or [type(error).__name__])[0][:120]
