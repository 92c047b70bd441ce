"""Which addresses wait to be fetched: pure logic, no network."""

from __future__ import annotations

import re
from collections import Counter, deque
from collections.abc import Iterable, Mapping
from itertools import pairwise

from indrel.core.address import origin_of

MAX_CLICKS = 60
"""Links further than so many from what was known at first are not followed."""

MAX_CHAIN = 10
"""Redirects in a row that are followed."""

PER_PATTERN = 200
"""Addresses of one pattern that are read, if nothing outside the pattern names them."""

BETWEEN = 25
"""How many times as many are read of a pattern that only other patterns name: spaces can be endless together
(months name days, days name months), but a list in pages rightly names thousands. So many, too, of a page's variants
in all, where only its variants name them: each choice of parameters is a pattern, and choices multiply."""

LEAST_TEXT = 200
"""Characters that a page's text has at least where others may be copies of it."""

DEEPEST_TREE = 8
"""Folders on the way to a URL in which the beginning of an endless tree is looked for."""

MOST_NAMES, MOST_FOLDERS, MOST_PAIRS = 100, 50_000, 200_000
"""Names that a folder has at most where an endless tree begins; folders and pairs of names that are held."""

_TOKEN = re.compile(r"(?<![a-z0-9])(?=[a-z-]*[0-9])[0-9a-f]{8,}(?:-[0-9a-f]{4,})*(?![a-z0-9])|[0-9]+")
_VALUE = re.compile(r"=[^&;]*")
_PARTED = re.compile(r"[&;]")
_REPEATED = re.compile(r"((?:/[^/]+){1,3}?)\1+(?=/|$)")


def pattern(url: str) -> str:
    """An address with its numbers, dates, hexadecimal tokens and parameter values left out, in lower case.

    Segments that repeat stand once: growing paths are one pattern, too; so do parameters, in order of their names.
    """
    place, question, query = url.lower().partition("?")
    origin_end = place.find("/", 8)
    path = _REPEATED.sub(r"\1", _TOKEN.sub("*", place[origin_end:])) if origin_end > 0 else ""
    names = sorted(set(_PARTED.split(_VALUE.sub("=*", query)))) if query else ()
    return place[:origin_end] + path + question + _TOKEN.sub("*", "&".join(names))


class _Trees:
    """Recognises trees of folders without an end, as relative links make them on a server that returns a page for any path:
    names come again below themselves, and nothing new is among them."""

    def __init__(self) -> None:
        self._names: dict[str, set[str] | None] = {}
        self._pairs: set[tuple[str, str]] = set()

    def has(self, url: str) -> bool:
        """Whether an address is in such a tree; takes note of the names that it has.

        Three names to the end stand directly in one folder above them too; or a name occurs twice, and each name was seen
        before below the one before it.
        """
        place = url.partition("?")[0]
        segments = _TOKEN.sub("*", place[place.find("/", 8) + 1 :].lower()).rstrip("/").split("/")
        if len(segments) < 2:
            self._learn("", segments[0])
            return False
        folder, nested = "", False
        for depth, name in enumerate(segments[:DEEPEST_TREE]):
            self._learn(folder, name)
            names = self._names.get(folder) or set()
            nested = nested or (len(segments) - depth >= 3 and names.issuperset(segments[depth:]))
            folder += f"/{name}"
        pairs = set(pairwise(segments))
        stale = len(segments) >= 3 and pairs <= self._pairs
        if len(self._pairs) < MOST_PAIRS:
            self._pairs |= pairs
        named = [name for name in segments if "*" not in name]
        return nested or (stale and len(set(named)) < len(named))

    def _learn(self, folder: str, name: str) -> None:
        names = self._names.get(folder)
        if names is not None:
            names.add(name)
            if len(names) > MOST_NAMES:
                self._names[folder] = None  # no menu has so many entries: this is a list of pages
        elif folder not in self._names and len(self._names) < MOST_FOLDERS:
            self._names[folder] = {name}


class Frontier:
    """Which addresses wait to be fetched, in order, and how far from the first ones they are."""

    def __init__(self, per_pattern: int = PER_PATTERN) -> None:
        self.queue: deque[tuple[str, int, int]] = deque()
        self.seen: set[int] = set()
        self.per_pattern = per_pattern
        self._left: dict[int, tuple[Counter[str], str]] = {}
        self._by_pattern: Counter[str] = Counter()
        self._by_copy: Counter[str] = Counter()
        self._alike: Counter[str] = Counter()
        self._between: Counter[str] = Counter()
        self._variants: Counter[str] = Counter()
        self._said: dict[int, tuple[str, int]] = {}
        self._trees = _Trees()

    def shape(self, url: str) -> str:
        """The pattern that an address belongs to: that of an endless tree of folders, else its own; see `pattern`."""
        return f"{origin_of(url)}/**" if self._trees.has(url) else pattern(url)

    def add(self, number: int, url: str, clicks: int, hops: int = 0, sources: Iterable[str] | None = None) -> bool:
        """Queue an address unless it was queued before or its pattern's bound is reached.

        `sources` are the patterns of the pages that name it; None where something else does (a sitemap, a list).
        """
        if number in self.seen:
            return False
        shape = self.shape(url)
        if sources is not None and self._is_bounded(number, url, shape, clicks, hops, sources):
            return False
        if number in self._left:
            counted, name = self._left.pop(number)
            counted[name] -= 1
        self.seen.add(number)
        self.queue.append((url, clicks, hops))
        return True

    def was_read(self, url: str, sources: Iterable[str]) -> None:
        """Take note of an address that was read before this frontier was, and of the patterns of the pages that name it."""
        self._count(url, self.shape(url), sources)

    def _count(self, url: str, shape: str, sources: Iterable[str]) -> str | None:
        """Count an address to its pattern; gives the pattern if its bound is passed: of those named only from inside it,
        only from patterns, or only by variants of the same page."""
        if shape == url:
            return None
        place, question, _ = shape.partition("?")
        inside = all(source == shape for source in sources)
        between = inside or all("*" in source for source in sources)
        varied = question != "" and (inside or all(source.startswith(place + question) for source in sources))
        self._alike[shape] += inside
        self._between[shape] += between
        self._variants[place] += varied
        most = self.per_pattern * BETWEEN
        if varied and self._variants[place] > most:
            return place + "?*"
        over = (inside and self._alike[shape] > self.per_pattern) or (between and self._between[shape] > most)
        return shape if over else None

    def _is_bounded(self, number: int, url: str, shape: str, clicks: int, hops: int, sources: Iterable[str]) -> bool:
        over = self._count(url, shape, sources)
        if over is None and clicks <= MAX_CLICKS and hops <= MAX_CHAIN:
            return False
        self._leave(number, self._by_pattern, over or shape)
        return True

    def _leave(self, number: int, counted: Counter[str], name: str) -> None:
        if number not in self._left:
            self._left[number] = counted, name
            counted[name] += 1

    def worn(self, texts: Iterable[tuple[int, int | None, int]], urls: Mapping[int, str]) -> dict[int, str]:
        """Of pages (number, hash of the text, its length) the ones that say what a bound's number of others said, with
        the first of these: a server that answers any path with the same page, and relative links on it, have no end."""
        found = {}
        for number, digest, length in texts:
            if digest is not None and length >= LEAST_TEXT:
                first, count = self._said.get(digest, (urls[number], 0))
                self._said[digest] = first, count + 1
                if count >= self.per_pattern:
                    found[number] = first
        return found

    def leave(self, number: int, first: str) -> None:
        """Leave an address unread that only copies of a page name."""
        if number not in self.seen:
            self._leave(number, self._by_copy, first)

    def bounded(self) -> dict[str, int]:
        """The patterns of which addresses were left unread, with their number; the largest first."""
        return {shape: count for shape, count in self._by_pattern.most_common() if count > 0}

    def copied(self) -> dict[str, int]:
        """The pages of which only copies name addresses that were left unread, with their number; the most first."""
        return {url: count for url, count in self._by_copy.most_common() if count > 0}
