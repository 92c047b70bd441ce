"""URL spaces: the pattern that an address belongs to, and trees of folders without an end. Pure: addresses alone decide."""

from __future__ import annotations

import re
from itertools import pairwise

from indrel.core.address import origin_of

DEEPEST_TREE = 8
"""Folders on the way to a URL in which the beginning of an endless tree is looked for."""

MOST_NAMES, MOST_FOLDERS, MOST_PAIRS = 100, 50_000, 200_000
"""Names that a folder has at most where an endless tree begins; folders and pairs of names that are held."""

_TOKEN = re.compile(r"(?<![a-z0-9])(?=[a-z-]*[0-9])[0-9a-f]{8,}(?:-[0-9a-f]{4,})*(?![a-z0-9])|[0-9]+")
_VALUE = re.compile(r"=[^&;]*")
_PARTED = re.compile(r"[&;]")
LEAST_MUTUAL = 4
"""Names with which a name stands in either order where both are choices of facets."""

_DATED = re.compile(r"(?<!\d)(?:19|20|21)\d\d[-/_.](?:0?[1-9]|1[0-2])(?!\d)")
_YEAR = re.compile(r"[?&;]y(?:ear)?=\d{4}(?!\d)", re.IGNORECASE)
_MONTH = re.compile(r"[?&;]m(?:o|onth)?=\d{1,2}(?!\d)", re.IGNORECASE)
_SESSION = re.compile(r"[?&;]([a-z_]+)=(?=[0-9a-z-]*[0-9])(?=[0-9a-z-]*[a-z])[0-9a-z-]{12,}(?=$|[?&;/])", re.IGNORECASE)
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


def tree_of(url: str) -> str:
    """The pattern of an endless tree on the host of a URL."""
    return f"{origin_of(url)}/**"


def is_tree(shape: str) -> bool:
    return shape.endswith("/**")


def is_session(shape: str) -> bool:
    """Whether a pattern is that of a session's parameter on a host, as `session_space` writes it."""
    return "/**?" in shape


def session_space(url: str, name: str) -> str:
    return f"{tree_of(url)}?{name}=*"


def is_dated(url: str) -> bool:
    """Whether a URL names a year and a month, as the views of a calendar do."""
    return _DATED.search(url) is not None or (_YEAR.search(url) is not None and _MONTH.search(url) is not None)


def session_of(url: str) -> str | None:
    """The name of a parameter whose value looks like a session's: long, of letters and digits."""
    found = _SESSION.search(url)
    return found[1].lower() if found else None


def is_in(url: str, shape: str) -> bool:
    """Whether a URL is of a pattern, as the patterns of spaces are written; of trees only the host is known."""
    if is_tree(shape):
        return url.startswith(shape[:-2])
    if shape.endswith(("?*", "?*&*")):
        place, question, names = pattern(url).partition("?")
        return question != "" and place == shape.rpartition("?")[0] and ("&" in names or not shape.endswith("&*"))
    if is_session(shape):
        return (
            session_of(url) == shape.rpartition("?")[2].removesuffix("=*")
            and origin_of(url) == shape.partition("/**")[0]
        )
    return pattern(url) == shape


class Trees:
    """Recognises trees of folders without an end, as relative links make them on a server that returns a page for any path:
    names come again below themselves, and nothing new is among them."""

    def __init__(self) -> None:
        self._names: dict[str, set[str] | None] = {}
        self._pairs: set[tuple[str, str]] = set()
        self._mutual: dict[str, set[str]] = {}

    def has(self, url: str) -> bool:
        """Whether an address is in such a tree; takes note of the names that it has.

        Three names to the end stand directly in one folder above them too; or a name occurs twice, and each name was seen
        before below the one before it; or two names stand below each other, in either order, as choices of facets do.
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
        mutual = any(self._are_mutual(a, b) for a, b in pairs if a != b and "*" not in a + b)
        if len(self._pairs) < MOST_PAIRS:
            self._pairs |= pairs
        named = [name for name in segments if "*" not in name]
        return nested or mutual or (stale and len(set(named)) < len(named))

    def _are_mutual(self, one: str, other: str) -> bool:
        """Whether two names stand below each other, and each does so with several: not only `util` and `core` of a reference."""
        if (other, one) in self._pairs:
            for a, b in ((one, other), (other, one)):
                self._mutual.setdefault(a, set()).add(b)
        return other in self._mutual.get(one, ()) and min(len(self._mutual[n]) for n in (one, other)) >= LEAST_MUTUAL

    def _learn(self, folder: str, name: str) -> None:
        names = self._names.get(folder)
        if names is not None:
            names.add(name)
            if len(names) > MOST_NAMES:
                self._names[folder] = None  # no menu has so many entries: this is a list of pages
        elif folder not in self._names and len(self._names) < MOST_FOLDERS:
            self._names[folder] = {name}
