"""Which sitemaps of a site are read, in which order, and where that ends: one way for a site, a folder, an archive and a file."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass

from indrel.core.address import normalise, site_key
from indrel.core.sitemap.read import USUAL, Child, SitemapSummary

READABLE = ("urlset", "index", "text", "rss", "atom")
MOST_FILES = 50_000
"""Files that are read: as many as the protocol lets one index name."""

DEEPEST = 3
"""Indexes within indexes that are followed, though the protocol has none."""


@dataclass(frozen=True, slots=True)
class Found:
    """A sitemap to read. `place` is an address or a file; `via` is robots, usual, linked, index or given; `origin` is the
    host whose robots.txt names it, `line` the line there or in the index numbered `parent`."""

    place: str
    via: str
    parent: int | None = None
    origin: str | None = None
    line: int | None = None
    depth: int = 0


class SitemapWalk:
    """Sitemaps to be read, each once, in the order found; iterate for the next, and tell what it was."""

    def __init__(self, first: Iterable[Found] = (), usual: Iterable[str] = ()) -> None:
        """`usual` are the folders at whose usual addresses sitemaps are looked for, unless a readable one of this site is
        read before."""
        self._waiting = deque(first)
        self._usual = [Found(place + path, "usual") for place in dict.fromkeys(usual) for path in USUAL]
        self._done: set[str] = set()
        self._read: set[str] = set()
        self._own = False

    def __iter__(self) -> Iterator[Found]:
        while len(self._done) < MOST_FILES:
            if not self._waiting and not self._own:
                self._waiting.extend(self._usual)
                self._usual = []
            if not self._waiting:
                return
            found = self._waiting.popleft()
            if found.place in self._done or (found.via == "usual" and found.place.removesuffix(".gz") in self._read):
                continue  # beside a file lies its compressed copy, for servers that send it in its place
            self._done.add(found.place)
            yield found

    def add(self, found: Iterable[Found]) -> None:
        self._waiting.extend(found)

    def read(self, found: Found, summary: SitemapSummary, own: bool) -> None:
        """Tell what was there; `own`: at an address of this site. A file that is there and broken is none."""
        if summary.kind in READABLE and not summary.error:
            self._read.add(found.place)
            self._own |= own

    def lists(
        self, index: Found, number: int, children: Iterable[Child], place: Callable[[str], str | None]
    ) -> list[Child]:
        """Queue what an index of that number lists, where `place` finds it; give the rest."""
        if index.depth >= DEEPEST:
            return []
        left = []
        for child in children:
            where = place(child.loc)
            if where:
                self._waiting.append(Found(where, "index", number, None, child.line, index.depth + 1))
            else:
                left.append(child)
        return left


def on_its_host(index: str, listed: str) -> str | None:
    """The address that an index lists, if it stands on the index's own host."""
    url = normalise(listed, index)
    return url if url and site_key(url) == site_key(index) else None


def announced(lines: Iterable[tuple[str, str, int]]) -> list[Found]:
    """What Sitemap lines name: value, the host whose robots.txt says so, line."""
    return [Found(url, "robots", None, by, line) for value, by, line in lines if (url := normalise(value))]


def usual_folders(start: str) -> list[str]:
    """Where sitemaps are looked for at their usual names: the host's root, and the folder of the URL where the site begins."""
    root = start[: start.index("/", start.index("://") + 3)]
    return list(dict.fromkeys([root, start[: start.partition("?")[0].rindex("/")]]))
