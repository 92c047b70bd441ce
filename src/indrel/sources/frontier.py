"""Which addresses wait to be fetched: pure logic, no network."""

from __future__ import annotations

import hashlib
from collections import Counter, deque
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from indrel.core.address import origin_of
from indrel.core.space import Trees, is_dated, is_session, is_tree, pattern, session_of, session_space, tree_of

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

CHOICES = 3
"""How many times as many variants with several parameters are read of a page: choices of facets multiply without an end."""

MOST_SPACES = 100
"""Patterns that are kept with the number of URLs read: the largest."""

OF_EACH = 3
"""URLs of each first folder with which a limited audit begins: a fault of a whole template shows in them."""

LEAST_TEXT = 200
"""Characters that a page's text has at least where others may be copies of it."""


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
        self._choices: Counter[str] = Counter()
        self._said: dict[int, tuple[str, int]] = {}
        self._trees = Trees()
        self._read: dict[str, tuple[int, str]] = {}

    def shape(self, url: str) -> str:
        """The pattern that an address belongs to: that of an endless tree of folders, else its own; see `pattern`."""
        return tree_of(url) if self._trees.has(url) and not is_dated(url) else pattern(url)

    def add(self, number: int, url: str, clicks: int, hops: int = 0, sources: Iterable[str] | None = None) -> bool:
        """Queue an address unless it was queued before or its pattern's bound is reached.

        `sources` are the patterns of the pages that name it; None where something else does (a sitemap, a list).
        """
        if number in self.seen:
            return False
        shape = self.shape(url)
        if sources is not None and self._is_bounded(number, url, shape, clicks, hops, sources):
            return False
        self._note(url, shape)
        if number in self._left:
            counted, name = self._left.pop(number)
            counted[name] -= 1
        self.seen.add(number)
        self.queue.append((url, clicks, hops))
        return True

    def was_read(self, url: str, sources: Iterable[str]) -> None:
        """Take note of an address that was read before this frontier was, and of the patterns of the pages that name it."""
        shape = self.shape(url)
        self._count(url, shape, sources)
        self._note(url, shape)

    def _note(self, url: str, shape: str) -> None:
        """Count an address that is read to its pattern, and keep the pattern's shortest."""
        if shape != url:
            count, first = self._read.get(shape, (0, url))
            self._read[shape] = count + 1, min(first, url, key=_by_length)

    def _count(self, url: str, shape: str, sources: Iterable[str]) -> str | None:
        """Count an address to its pattern; gives the pattern if its bound is passed: of those named only from inside it,
        only from patterns, or only by variants of the same page."""
        if shape == url:
            return None
        place, question, names = shape.partition("?")
        inside = all(source == shape for source in sources)
        between = inside or all("*" in source for source in sources)
        varied = question != "" and (inside or all(source.startswith(place + question) for source in sources))
        several = varied and "&" in names
        self._alike[shape] += inside
        self._between[shape] += between
        self._variants[place] += varied
        self._choices[place] += several
        session = session_of(url)
        if session and all(f"{session}=*" in source for source in sources):
            space = session_space(url, session)
            self._between[space] += 1
            if self._between[space] > self.per_pattern:
                return space
        most = self.per_pattern * BETWEEN
        if several and self._choices[place] > self.per_pattern * CHOICES:
            return f"{place}?*&*"
        if varied and self._variants[place] > most:
            return f"{place}?*"
        most = self.per_pattern if is_tree(shape) or is_dated(url) else most
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

    def as_meta(self) -> dict[str, Any]:
        """What a snapshot keeps of it."""
        return {"bounded": self.bounded(), "copies": self.copied(), "spaces": self.spaces()}

    def spaces(self) -> dict[str, tuple[int, str]]:
        """Per pattern of which addresses were left unread, how many were read, and the shortest of these."""
        found = {}
        for space in list(self.bounded())[:MOST_SPACES]:
            members = [self._read[space]] if space in self._read else []
            members = members or [told for shape, told in self._read.items() if _holds(space, shape)]
            if members:
                found[space] = sum(count for count, _ in members), min((url for _, url in members), key=_by_length)
        return found


def spread(urls: Sequence[str], limit: int | None, home: str | None = None) -> list[str]:
    """URLs (or paths in a folder) in an order of which any beginning is a sample: `home`, then a few of each first folder, then all
    others, drawn by a hash, so that the same site gives the same sample. Unchanged if there are no more than are read."""
    if limit is None or len(urls) <= limit:
        return list(urls)
    drawn = sorted(
        dict.fromkeys(urls), key=lambda url: (url != home, hashlib.blake2b(url.encode(), digest_size=8).digest())
    )
    folders: dict[str, list[str]] = {}
    for url in drawn:
        folder, slash, _ = (
            url.partition("://")[2].partition("/")[2].partition("/") if "://" in url else url.partition("/")
        )
        folders.setdefault(folder if slash else "", []).append(url)
    largest = sorted(folders.values(), key=len, reverse=True)
    few = [members[n] for n in range(OF_EACH) for members in largest if n < len(members)]
    return list(dict.fromkeys([*(url for url in drawn[:1] if url == home), *few, *drawn]))


def _by_length(url: str) -> tuple[int, str]:
    return len(url), url


def _holds(space: str, shape: str) -> bool:
    """Whether a space of variants or sessions holds another pattern."""
    if space.endswith("?*&*"):
        return shape.startswith(space[:-3]) and "&" in shape
    if space.endswith("?*"):
        return shape.startswith(space[:-1])
    return is_session(space) and space.rpartition("?")[2] in shape and origin_of(shape) == origin_of(space)
