"""Sitemaps read as a stream: bytes in, entries out, in bounded memory (sitemaps protocol 0.9).

XML goes through expat with every entity declaration refused, so nothing expands. Gzip is unpacked
in bounded steps.
"""

from __future__ import annotations

import re
import zlib
from dataclasses import dataclass
from typing import Any, NamedTuple
from xml.parsers import expat

NAMESPACE = "http://www.sitemaps.org/schemas/sitemap/0.9"
USUAL = ("/sitemap.xml", "/sitemap_index.xml", "/sitemap-index.xml", "/sitemap.txt", "/sitemap.xml.gz")
"""Where sitemaps stand that nothing announces."""

MAX_ENTRIES = 50_000
MAX_OCTETS = 52_428_800
READ_FACTOR = 2
"""A file is read to this many times its limits, so that what stands over them can be told."""

MOST_OPEN = 1 << 20
"""Bytes of one tag or comment that are waited for."""

_STEP = 65_536
_MAX_VALUE = 4_096


class Entry(NamedTuple):
    """One address listed, as written; lines and columns start at 1."""

    loc: str
    line: int
    column: int
    lastmod: str | None = None
    changefreq: str | None = None
    priority: str | None = None


class Child(NamedTuple):
    """One sitemap listed by an index, as written."""

    loc: str
    line: int
    column: int
    lastmod: str | None = None


@dataclass
class SitemapSummary:
    """What a file turned out to be. `kind`: index, urlset, text, rss, atom, html, empty or unknown.

    `bytes` are counted unpacked. `error` says why reading stopped, with line and column.
    """

    kind: str = "unknown"
    octets: int = 0
    entries: int = 0
    gzipped: bool = False
    namespace: str | None = None
    root: str | None = None
    error: str | None = None
    line: int | None = None
    column: int | None = None


MAX_LOC = 2_048
TOO_LONG = f"it is longer than {MAX_OCTETS * READ_FACTOR:,} bytes; the rest was not read"
TOO_MANY = f"it has more than {MAX_ENTRIES * READ_FACTOR:,} entries; the rest was not read"


def entry_fault(loc: str, url: str | None) -> str | None:
    """What is wrong with an entry's address as written; `url` is what it normalises to, None where it does to nothing.

    Sitemaps protocol 0.9: absolute, http or https, under 2,048 characters; a fragment is not part of an address.
    """
    if url is not None and len(loc) < MAX_LOC and "#" not in loc and "://" in loc[:8]:
        return None
    if not loc:
        return "empty"
    if len(loc) >= MAX_LOC:
        return f"{len(loc):,} characters long, the protocol allows fewer than {MAX_LOC:,}"
    if not re.match(r"[A-Za-z][A-Za-z0-9+.-]*:", loc):
        return "relative, not a whole URL"
    if url is None:
        return "not an http(s) URL"
    return "written with a fragment, which is not part of a URL" if "#" in loc else "malformed"


class _Refused(Exception):
    pass


_ITEMS = {"url": "urlset", "sitemap": "index", "item": "rss", "entry": "atom"}
_VALUES = {"loc", "lastmod", "changefreq", "priority"}


class _Xml:
    """expat handlers; gathers finished items in `out`."""

    def __init__(self, summary: SitemapSummary, out: list[Entry | Child]) -> None:
        self.summary = summary
        self.out = out
        self.parser: Any = expat.ParserCreate(namespace_separator=" ")
        self.parser.buffer_text = True
        self.parser.StartElementHandler = self.start
        self.parser.EndElementHandler = self.end
        self.parser.CharacterDataHandler = self.text
        self.parser.EntityDeclHandler = self.refuse
        self.depth = 0
        self.item: dict[str, str] | None = None
        self.place = (1, 1)
        self.value: list[str] | None = None
        self.name = ""

    def refuse(self, *_: object) -> None:
        raise _Refused("it declares entities, which are not read")

    def start(self, tag: str, attributes: dict[str, str]) -> None:
        self.depth += 1
        namespace, _, local = tag.rpartition(" ")
        if self.depth == 1:
            self._root(namespace, local)
            return
        if local in _ITEMS and namespace in self._own():
            self.item = {}
            self.place = (self.parser.CurrentLineNumber, self.parser.CurrentColumnNumber + 1)
        elif self.item is not None and namespace in self._own():
            self._field(local, attributes)

    def _own(self) -> tuple[str, ...]:
        """Namespaces in which items stand: the root's, or none."""
        return (self.summary.namespace or "", "")

    def _root(self, namespace: str, local: str) -> None:
        kinds = {
            "urlset": "urlset",
            "sitemapindex": "index",
            "rss": "rss",
            "RDF": "rss",
            "feed": "atom",
            "html": "html",
        }
        self.summary.kind = kinds.get(local, "unknown")
        self.summary.namespace = namespace or None
        self.summary.root = local

    def _field(self, local: str, attributes: dict[str, str]) -> None:
        if self.summary.kind == "atom" and local == "link":
            if attributes.get("rel", "alternate") == "alternate" and self.item is not None:
                self._mark()
                self.item.setdefault("loc", attributes.get("href", ""))
            return
        renamed = {"link": "loc", "pubDate": "lastmod"} if self.summary.kind == "rss" else {"updated": "lastmod"}
        name = renamed.get(local, local)
        if name in _VALUES:
            self.name, self.value = name, []
            if name == "loc":
                self._mark()

    def _mark(self) -> None:
        self.place = (self.parser.CurrentLineNumber, self.parser.CurrentColumnNumber + 1)

    def text(self, data: str) -> None:
        if self.value is not None and sum(map(len, self.value)) < _MAX_VALUE:
            self.value.append(data)

    def end(self, tag: str) -> None:
        self.depth -= 1
        local = tag.rpartition(" ")[2]
        if self.value is not None and self.item is not None:
            self.item.setdefault(self.name, "".join(self.value).strip())
            self.value = None
        elif local in _ITEMS and self.item is not None:
            self._finish(local)
            self.item = None

    def _finish(self, local: str) -> None:
        assert self.item is not None
        loc, line, column = self.item.get("loc", ""), *self.place
        if local == "sitemap":
            self.out.append(Child(loc, line, column, self.item.get("lastmod")))
        else:
            get = self.item.get
            self.out.append(Entry(loc, line, column, get("lastmod"), get("changefreq"), get("priority")))
        self.summary.entries += 1


class SitemapReader:
    """Feed bytes as they come, take the entries that each feed completes; then `close`.

    Never raises on content: what is wrong stands in `summary.error`, and what was read before
    stays read.
    """

    def __init__(self) -> None:
        self.summary = SitemapSummary()
        self._out: list[Entry | Child] = []
        self._head = b""
        self._begun = False
        self._unzip: Any = None
        self._xml: _Xml | None = None
        self._xml_fed = 0
        self._tail = b""
        self._line = 0
        self._done = False

    def feed(self, data: bytes) -> list[Entry | Child]:
        """Take the next bytes; give the entries they complete."""
        if self._done:
            return []
        if not self._begun:
            self._head += data
            if len(self._head) < 512:
                return []
            data, self._head = self._head, b""
            self._begin(data)
        self._feed(data)
        return self._take()

    def close(self) -> list[Entry | Child]:
        """No more bytes: give the last entries."""
        if not self._begun:
            self._begin(self._head)
            self._feed(self._head)
        if not self._done:
            self._finish()
        return self._take()

    def _take(self) -> list[Entry | Child]:
        out = self._out[:]
        self._out.clear()
        return out

    def _begin(self, head: bytes) -> None:
        self._begun = True
        if head.startswith(b"\x1f\x8b"):
            self.summary.gzipped = True
            self._unzip = zlib.decompressobj(wbits=31)

    def _feed(self, data: bytes) -> None:
        if self._unzip is None:
            self._plain(data)
            return
        while data and not self._done:
            try:
                plain = self._unzip.decompress(data, _STEP)
            except zlib.error as error:
                self._stop(f"its gzip packing is broken ({error})")
                return
            data = self._unzip.unconsumed_tail
            if plain:
                self._plain(plain)
            if self._unzip.eof:
                rest = self._unzip.unused_data.lstrip(b"\0")
                if not rest:
                    break
                data, self._unzip = rest, zlib.decompressobj(wbits=31)

    def _plain(self, data: bytes) -> None:
        self.summary.octets += len(data)
        if self.summary.octets > MAX_OCTETS * READ_FACTOR:
            self._stop(TOO_LONG)
            return
        if self.summary.entries > MAX_ENTRIES * READ_FACTOR:
            self._stop(TOO_MANY)
            return
        if self._xml is None and self.summary.kind == "unknown":
            self._tail += data
            if len(self._tail) < 16 and not self._tail.strip():
                return
            data, self._tail = self._tail, b""
            self._recognise(data)
        self._recognised(data)

    def _recognised(self, data: bytes) -> None:
        if self._xml is not None:
            self._parse_xml(data, False)
        elif self.summary.kind == "text":
            self._lines(data)

    def _recognise(self, data: bytes) -> None:
        start = data.removeprefix(b"\xef\xbb\xbf").lstrip()[:2048].lower()
        if start.startswith((b"<!doctype html", b"<html", b"<head", b"<body")) or b"<html" in start:
            self.summary.kind = "html"
            self._stop("it is an HTML page")
        elif start.startswith(b"<") or data.startswith((b"\xff\xfe", b"\xfe\xff")):
            self._xml = _Xml(self.summary, self._out)
        else:
            self.summary.kind = "text"

    def _parse_xml(self, data: bytes, final: bool) -> None:
        assert self._xml is not None
        self._xml_fed += len(data)
        try:
            self._xml.parser.Parse(data, final)
        except expat.ExpatError as error:
            if self.summary.kind == "html":
                self._stop("it is an HTML page")
            else:
                self._stop(
                    f"not well-formed: {expat.ErrorString(error.code).removeprefix('not well-formed ')}",
                    error.lineno,
                    error.offset + 1,
                )
        except (LookupError, ValueError) as error:  # the parser asks for a codec by the name that the file gives
            self._stop(f"its encoding cannot be read ({error})")
        except _Refused as error:
            parser = self._xml.parser
            self._stop(str(error), parser.CurrentLineNumber, parser.CurrentColumnNumber + 1)
        else:
            if self.summary.kind == "html":
                self._stop("it is an HTML page")
                return
            parser = self._xml.parser
            if self._xml_fed - parser.CurrentByteIndex > MOST_OPEN:  # it would be read again with each piece
                self._stop(
                    f"a tag or comment of more than {MOST_OPEN:,} bytes",
                    parser.CurrentLineNumber,
                    parser.CurrentColumnNumber + 1,
                )

    def _lines(self, data: bytes) -> None:
        *lines, self._tail = (self._tail + data).split(b"\n")
        for line in lines:
            self._text_line(line)
        if len(self._tail) > _STEP:
            self._line, self._tail = self._line + 1, b""

    def _text_line(self, raw: bytes) -> None:
        self._line += 1
        if self._line == 1:
            raw = raw.removeprefix(b"\xef\xbb\xbf")
        text = raw.decode("utf-8", "replace").strip()[:_MAX_VALUE]
        if text:
            self._out.append(Entry(text, self._line, 1))
            self.summary.entries += 1

    def _finish(self) -> None:
        if self._unzip is not None and not self._unzip.eof:
            self._stop("its gzip packing ends too early")
            return
        if self._xml is None and self.summary.kind == "unknown":
            if self._tail.strip():
                self._recognise(self._tail)
                rest, self._tail = self._tail, b""
                self._recognised(rest)
            else:
                self.summary.kind = "empty"
        if self.summary.kind == "text" and self._tail:
            self._text_line(self._tail)
        if self._xml is not None and not self._done:
            self._parse_xml(b"", True)
        self._done = True

    def _stop(self, why: str, line: int | None = None, column: int | None = None) -> None:
        self._done = True
        self.summary.error, self.summary.line, self.summary.column = why, line, column
