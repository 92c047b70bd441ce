"""Sitemaps of a live site: found, streamed, their entries kept."""

from __future__ import annotations

from collections.abc import AsyncIterator, Iterable, Sequence
from typing import NamedTuple

from indrel.core.address import Joiner, normalise
from indrel.core.page.headers import content_type
from indrel.core.page.html import read_page
from indrel.core.sitemap import (
    READABLE,
    Child,
    Entry,
    Found,
    SitemapReader,
    SitemapSummary,
    SitemapWalk,
    announced,
    on_its_host,
)
from indrel.gather.recorder import Recorder
from indrel.sources import coding
from indrel.sources.fetch import FAILED, Fetcher, explain

MAX_HOPS = 5
_HTML_KEPT = 1 << 20
SITEMAPS = ("urlset", "index")
"""What a linked file has to be in order to be a sitemap, though nothing declares it as one."""


class Piece(NamedTuple):
    """Some bytes of a sitemap, with the final address, its status and content type."""

    status: int
    url: str
    octets: bytes
    media: str | None


async def stream(fetcher: Fetcher, url: str) -> AsyncIterator[Piece]:
    """What a sitemap's address answers, piece by piece, redirects followed; an answer other than 200 is one empty piece."""
    final = url
    for _ in range(MAX_HOPS + 1):
        async with fetcher.open(final) as response:
            status, media = response.status, response.header("content-type")
            location = response.header("location")
            target = normalise(location, final) if location and 300 <= status < 400 else None
            if target:
                final = target
                continue
            yield Piece(status, final, b"", media)
            if status == 200:
                async for chunk in coding.body(response):
                    yield Piece(status, final, chunk, media)
            return


class SitemapCollector:
    """Reads all sitemaps of a site. `missing_hash` is the text of the host's made-up page, if it answers 200."""

    def __init__(self, fetcher: Fetcher, recorder: Recorder, missing_hash: int | None) -> None:
        self.fetcher = fetcher
        self.recorder = recorder
        self.missing_hash = missing_hash
        self._joiner = Joiner(1_000)
        self._walk = SitemapWalk()

    async def collect(self, places: Sequence[str], named: Iterable[tuple[str, str, int]]) -> list[str]:
        """Read the sitemaps named (address, the host that names it, line); where none of them is a readable one of this
        site, the usual addresses in `places` (origins and folders) too.

        Gives the normalised addresses of all entries, in order.
        """
        self._walk = SitemapWalk(announced(named), places)
        return await self._read_all()

    async def linked(self, candidates: Iterable[str]) -> list[str]:
        """Read linked files that may be sitemaps; gives the addresses of the ones that are."""
        self._walk.add(Found(url, "linked") for url in candidates)
        return await self._read_all()

    async def _read_all(self) -> list[str]:
        urls: list[str] = []
        for found in self._walk:
            if self.fetcher.serves(found.place):
                urls += await self._one(found)
                self.recorder.commit()
        return urls

    async def _one(self, found: Found) -> list[str]:
        number = self.recorder.sitemap_number()
        reader, urls = SitemapReader(), []
        held: list[
            Entry | Child
        ] = []  # of a file that may turn out to be no sitemap: nothing is kept before that is known
        announced = found.via not in ("usual", "linked")
        status: int | None = None
        error, final, alike = None, found.place, False
        try:
            kept, media = b"", None
            async for piece in stream(self.fetcher, found.place):
                status, final, media = piece.status, piece.url, piece.media
                kept = kept + piece.octets if len(kept) < _HTML_KEPT else kept
                items = reader.feed(piece.octets)
                if announced:
                    urls += self._take(number, found, items)
                elif (
                    found.via == "usual" or reader.summary.kind in SITEMAPS
                ):  # a feed that a page links to is only a feed
                    held += items
                if reader.summary.error and reader.summary.kind != "html":
                    break
            held += reader.close()
            alike = reader.summary.kind == "html" and self._like_missing(kept, final, media)
        except FAILED as failure:
            error = explain(failure)
            held += reader.close()
        is_one = status == 200 and reader.summary.kind in READABLE and not reader.summary.error
        if (found.via == "usual" and self._counts_as_none(found.place, status, reader.summary, alike)) or (
            found.via == "linked" and not (is_one and reader.summary.kind in SITEMAPS)
        ):
            self.recorder.sitemaps -= 1
            return []
        urls += self._take(number, found, held)
        self._walk.read(found, reader.summary, is_one and self.recorder.on_site(found.place))
        self.recorder.sitemap(
            number, found.place, found.via, reader.summary, parent=found.parent, origin=found.origin, line=found.line,
            status=status, error=error, final=final, alike=alike,
        )  # fmt: skip
        return urls

    def _like_missing(self, kept: bytes, url: str, media: str | None) -> bool:
        if self.missing_hash is None:
            return False
        _, charset = content_type(media)
        return read_page(kept, url, charset, self._joiner).text_hash == self.missing_hash

    @staticmethod
    def _counts_as_none(url: str, status: int | None, summary: SitemapSummary, alike: bool) -> bool:
        """Whether a usual address has no sitemap; `/sitemap.xml` that answers with a page is one gone wrong."""
        if status != 200:
            return True
        if url.endswith("/sitemap.xml"):
            return False
        return alike or summary.kind in ("html", "empty", "unknown") or bool(summary.error)

    def _take(self, number: int, found: Found, items: list[Entry | Child]) -> list[str]:
        entries = [i for i in items if isinstance(i, Entry)]
        addresses = [normalise(e.loc) for e in entries]
        if entries:
            self.recorder.entries(number, entries, addresses)
        children = [i for i in items if isinstance(i, Child)]
        for child in self._walk.lists(found, number, children, lambda loc: self._place(loc, found.place)):
            self.recorder.elsewhere(number, child.loc, child.line)
        return [a for a in addresses if a]

    def _place(self, listed: str, index: str) -> str | None:
        """The address that an index lists, if it is one of the site or of the index's own host."""
        url = normalise(listed, index)
        return url if url and self.recorder.on_site(url) else on_its_host(index, listed)
