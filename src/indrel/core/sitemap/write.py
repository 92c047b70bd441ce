"""Sitemaps written: urlsets and an index, within the protocol's limits (sitemaps protocol 0.9)."""

from __future__ import annotations

import gzip
from collections.abc import Iterable, Iterator
from typing import NamedTuple
from xml.sax.saxutils import escape

from indrel.core.sitemap.read import MAX_ENTRIES, MAX_OCTETS, NAMESPACE

_HEAD = f'<?xml version="1.0" encoding="UTF-8"?>\n<urlset xmlns="{NAMESPACE}">\n'
_TAIL = "</urlset>\n"
_INDEX_HEAD = f'<?xml version="1.0" encoding="UTF-8"?>\n<sitemapindex xmlns="{NAMESPACE}">\n'


class Line(NamedTuple):
    """One entry to be written."""

    url: str
    lastmod: str | None = None


def urlsets(lines: Iterable[Line], most: int = MAX_ENTRIES) -> Iterator[bytes]:
    """The urlsets that hold the entries, in order, each within `most` entries and 50 MiB."""
    room = MAX_OCTETS - len(_HEAD) - len(_TAIL)
    parts: list[bytes] = []
    size = 0
    for line in lines:
        dated = f"<lastmod>{escape(line.lastmod)}</lastmod>" if line.lastmod else ""
        text = f"<url><loc>{escape(line.url)}</loc>{dated}</url>\n".encode()
        if len(parts) == most or size + len(text) > room:
            yield _HEAD.encode() + b"".join(parts) + _TAIL.encode()
            parts, size = [], 0
        parts.append(text)
        size += len(text)
    if parts:
        yield _HEAD.encode() + b"".join(parts) + _TAIL.encode()


def index(urls: Iterable[str]) -> bytes:
    """A sitemap index of the files at these addresses."""
    lines = "".join(f"<sitemap><loc>{escape(url)}</loc></sitemap>\n" for url in urls)
    return (_INDEX_HEAD + lines + "</sitemapindex>\n").encode()


def packed(octets: bytes) -> bytes:
    """Gzip, the same bytes for the same input."""
    return gzip.compress(octets, mtime=0)
