"""What is read from one answer. Links and the like are rows, ready to become columns."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import IntFlag
from typing import NamedTuple

from indrel.core.address import normalise
from indrel.core.page.headers import has_relation, link_relations
from indrel.core.page.tokens import Tokens, parse_header

LITTLE = 60
"""An error page has at most so many words."""

SHELL_WORDS = 25
"""A page that only scripts fill is served with at most so many words."""

SKETCH = 32
"""Minima kept of each of the two sets of a sketch: runs of four words, and words."""

LEAST_WORDS = 5
"""Texts with fewer words are no sign of anything."""

MAX_TEXT = 300
"""Evidence texts are cut to this many characters."""


class Origin(IntFlag):
    """Where a directive or canonical was said."""

    TAG = 0
    HEADER = 1


class LinkFlag(IntFlag):
    """Rel tokens that bear on following (WHATWG HTML; `ugc` and `sponsored` are engine practice)."""

    NOFOLLOW = 1
    UGC = 2
    SPONSORED = 4
    USER = 8  # inside a part that the owner declares user-written; says nothing on following
    RENDERED = 16  # there only once the page's scripts have run; says nothing on following


class Mark(IntFlag):
    """What a page's markup and wording show."""

    PASSWORD = 1  # asks for a password
    ONLY_PASSWORD = 2  # asks for a password, and is next to nothing else
    SAYS_ERROR = 4  # title or heading says that there is nothing here
    SAYS_EMPTY = 8  # the text says that a list has no entries
    FRAGMENT = 16  # a piece of a page
    LISTS_NOTHING = 32  # an archive by its URL whose own links lead to other archives alone
    SHELL = 64  # no text, link or heading of its own as served, and scripts that may fill it: decided, not read


class Link(NamedTuple):
    """A link to `url`, which several links of one page with equal flags share (the first stands)."""

    url: str
    flags: int
    line: int | None
    text: str


UNFOLLOWED = int(LinkFlag.NOFOLLOW | LinkFlag.UGC | LinkFlag.SPONSORED)
"""A link with any of these is not followed."""


class Slip(NamedTuple):
    """An anchor that does not do what it seems to: `kind` is `rel` (token slip), `href` (not crawlable) or `hash` (a view
    behind `#/`)."""

    kind: str
    what: str
    line: int | None
    text: str


class Directive(NamedTuple):
    """One robots tag or header stretch; `scope` is empty for all crawlers; `void` says why it has no effect."""

    origin: Origin
    scope: str
    tokens: Tokens
    in_body: bool
    line: int | None
    text: str
    void: str | None = None


class Canonical(NamedTuple):
    """One canonical as written; `url` is None where it cannot be used, `fault` says why."""

    origin: Origin
    href: str
    url: str | None
    in_body: bool
    line: int | None
    text: str
    fault: str | None = None


class Reference(NamedTuple):
    """A resource or language alternate: its address, what kind it is, where it stands."""

    url: str
    kind: str
    line: int | None
    text: str


@dataclass
class PageFacts:
    """All that one HTML page says. `problem` tells why a page could not be read (wholly)."""

    title: str | None = None
    base: str | None = None
    charset: str | None = None
    head_end: str | None = None
    head_end_line: int | None = None
    refresh_to: str | None = None
    refresh_line: int | None = None
    refresh_text: str | None = None
    heading: str | None = None
    text_hash: int | None = None
    text_length: int | None = None
    own_words: int | None = None
    own_links: int | None = None
    sketch: bytes | None = None
    bag: int | None = None
    marks: int = 0
    types: str | None = None
    modified: str | None = None
    scripts: int | None = None
    """A digest of the scripts that run on it (addresses; inline ones with their literals left out); None: none can."""

    excerpt: str | None = None
    problem: str | None = None
    directives: list[Directive] = field(default_factory=list)
    canonicals: list[Canonical] = field(default_factory=list)
    links: list[Link] = field(default_factory=list)
    resources: list[Reference] = field(default_factory=list)
    alternates: list[Reference] = field(default_factory=list)
    slips: list[Slip] = field(default_factory=list)


def header_directives(values: list[str]) -> list[Directive]:
    """The directives of an answer's `X-Robots-Tag` headers, each header line on its own."""
    return [
        Directive(Origin.HEADER, scope, tokens, False, None, f"X-Robots-Tag: {value}"[:MAX_TEXT])
        for value in values
        for scope, tokens in parse_header(value)
        if tokens.says_anything
    ]


def header_canonicals(values: list[str], url: str) -> list[Canonical]:
    """The canonicals of an answer's `Link` headers (RFC 8288), resolved against its address."""
    found = []
    for href, params in link_relations(values):
        if has_relation(params, "canonical"):
            target = normalise(href, url) if href else None
            fault = None if target else "not an http(s) URL"
            text = f'Link: <{href}>; rel="canonical"'[:MAX_TEXT]
            found.append(Canonical(Origin.HEADER, href, target, False, None, text, fault))
    return found
