"""Addresses: normalised http(s) URLs, compared as plain text afterwards.

Parsing and joining follow the WHATWG URL standard (through ada-url); percent-encoding is then
normalised as RFC 3986 section 6.2.2 says: unreserved characters decoded, hex digits in upper case.
"""

from __future__ import annotations

import hashlib
import ipaddress
import re
from typing import NamedTuple

import ada_url

MAX_LENGTH = 8192
"""Longer addresses are not followed: no crawler keeps them, and endless ones come from faults."""

_PERCENT = re.compile(r"%([0-9a-fA-F]{2})")
_UNRESERVED = {f"{ord(c):02X}": c for c in "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~"}

BARE_HOST = re.compile(
    r"^(localhost|[\w-]+(\.[\w-]+)*\.[a-z][a-z0-9-]+|[0-9]+(\.[0-9]+){3}|\[[0-9a-f:.]+\]|[\w-]+(?=:[0-9]))(:[0-9]+)?(/|$)",
    re.IGNORECASE,
)
"""A host as people name it, without a scheme; a path may follow."""


class Parts(NamedTuple):
    """An address taken apart: `origin` is scheme, host and port; `path` has the query."""

    scheme: str
    host: str
    port: int | None
    origin: str
    path: str


HOME_NAMES = r"^/([a-z]{2}(-[a-z]{2})?/)?(index|default|home|start|welcome|main)?([.][a-z0-9]+)?/?$"
"""Paths in lower case that a home page may rightly have, too, as a pattern for Python and for the database."""


def _fix_percent(match: re.Match[str]) -> str:
    octet = match[1].upper()
    return _UNRESERVED.get(octet) or "%" + octet


def normalise_percent(text: str) -> str:
    """Decode percent-encoded unreserved characters, put the other hex digits in upper case."""
    return _PERCENT.sub(_fix_percent, text) if "%" in text else text


_PLAIN = re.compile(
    r"(?!.*/\.)(?:(?P<rooted>/(?!/))|(?P<absolute>https?://)|(?=[a-zA-Z0-9_~-]))[a-zA-Z0-9_~/.-]*(?:\?[a-zA-Z0-9_~/.=&-]*)?"
)
"""A reference that is a part of the address as is: nothing in it is decoded, encoded or removed."""

MOST_ORIGINS = 1_000
_origins: set[str] = set()
"""Origins met that stand as they should, so that plain addresses of theirs do too: they are not parsed one by one."""


def normalise(text: str, base: str | None = None) -> str | None:
    """The address that `text` means, seen from `base`; None where it is not an http(s) address.

    The fragment and user information are dropped (neither is part of what is asked for, and
    credentials must not be kept).
    """
    if len(text) > MAX_LENGTH:
        return None
    plain = base is None and _PLAIN.fullmatch(text)
    slash = text.find("/", 8)
    if plain and slash > 0 and text[:slash] in _origins:
        return text
    try:
        href: str = ada_url.join_url(base, text) if base else ada_url.normalize_url(text)
    except (ValueError, UnicodeError):
        return None
    if not href.startswith(("http://", "https://")):
        return None
    href, _, _ = href.partition("#")
    start = href.index("://") + 3
    slash = href.find("/", start)
    at = href.rfind("@", start, slash)
    if at >= 0:
        href = href[:start] + href[at + 1 :]
    if "%" in href:
        href = normalise_percent(href)
    if plain and href == text and len(_origins) < MOST_ORIGINS:
        _origins.add(href[: href.index("/", 8)])
    return href if len(href) <= MAX_LENGTH else None


def split(url: str) -> Parts:
    """Take an address apart; of one that is not normalised, a port that is no number stays with the host."""
    scheme, _, rest = url.partition("://")
    authority, slash, path = rest.partition("/")
    host, colon, port = authority.rpartition(":")
    number = int(port) if colon and port.isdecimal() else None
    if number is None:
        host = authority.removesuffix(":")
    return Parts(scheme, host, number, f"{scheme}://{authority}", slash + path)


def origin_of(url: str) -> str:
    """The origin of an address; of a text without a path, such as a sitemap may hold, all of it."""
    slash = url.find("/", url.find("://") + 3)
    return url if slash < 0 else url[:slash]


def site_key(url: str) -> str:
    """The host that an address stands on, port included unless it is the scheme's own.

    http and https on their own ports are one host; another port is another.
    """
    authority = url.partition("://")[2].partition("/")[0]
    return authority


def variants(url: str) -> list[str]:
    """The start pages of the http/https and bare/www variants of an address's host.

    Hosts that are bare IP addresses, single names or stand on a port of their own have none.
    """
    parts = split(url)
    if parts.port is not None or "." not in parts.host or is_ip(parts.host):
        return []
    other = parts.host[4:] if parts.host.startswith("www.") else "www." + parts.host
    if "." not in other:
        other = parts.host
    hosts = [(s, h) for h in (parts.host, other) for s in ("https", "http")]
    found = dict.fromkeys(f"{s}://{h}/" for s, h in hosts)
    found.pop(f"{parts.scheme}://{parts.host}/", None)
    return list(found)


def is_ip(host: str) -> bool:
    try:
        ipaddress.ip_address(host.strip("[]"))
    except ValueError:
        return False
    return True


def host_name(text: str) -> str:
    """A host's name (a port may follow) as addresses have it: in lower case, other scripts in their ASCII form (RFC 5890)."""
    name = text.strip().lower()
    if name.isascii():
        return name
    labels = (label if label.isascii() else normalise(f"http://{label}/") for label in name.split("."))
    return ".".join(label.removeprefix("http://").rstrip("/") if label else "" for label in labels)


def made_up_path(host: str) -> str:
    """A path that no site has, the same for a host at every audit."""
    return f"/indrel-no-such-page-{hashlib.blake2b(host.encode(), digest_size=6).hexdigest()}"


def made_up_folder(url: str) -> str | None:
    """The folder in which an address was made up, empty for the root of its host; None where it was not made up."""
    parts = split(url)
    name = made_up_path(parts.host)
    return parts.path[: -len(name)].strip("/") if parts.path.endswith(name) else None


class Joiner:
    """Joins many references as written on pages, remembering what it has joined.

    A reference that keeps the base's folder is the same from every page in that folder, so the
    memo is keyed by folder and written form.
    """

    def __init__(self, size: int = 200_000) -> None:
        self._memo: dict[tuple[str, str], str | None] = {}
        self._size = size
        self._anchors: dict[str, dict[bytes, tuple[str | None, int]]] = {}

    def anchors(self, base: str) -> dict[bytes, tuple[str | None, int]]:
        """A memo for whole anchor tags as written, for pages in the base's folder."""
        folder = base[: base.partition("?")[0].rindex("/") + 1]
        if sum(map(len, self._anchors.values())) > self._size:
            self._anchors.clear()
        return self._anchors.setdefault(folder, {})

    def join(self, base: str, href: str) -> str | None:
        """The address that `href` names on a page whose base is `base`, or None."""
        href = href.strip("\t\n\f\r ")
        cut = href.find("#")
        if cut >= 0:
            href = href[:cut]
        if not href:
            return base
        plain = _PLAIN.fullmatch(href)
        if plain and len(base) + len(href) <= MAX_LENGTH:
            if plain["rooted"]:
                return base[: base.index("/", 8)] + href
            origin = base[: base.index("/", 8) + 1]
            if not plain["absolute"]:
                return base[: base.partition("?")[0].rindex("/") + 1] + href
            if href.startswith(origin):
                return href
        folder = base if href[0] == "?" else base[: base.partition("?")[0].rindex("/") + 1]
        key = (folder, href)
        try:
            return self._memo[key]
        except KeyError:
            pass
        if len(self._memo) >= self._size:
            self._memo.clear()
        found = self._memo[key] = normalise(href, folder)
        return found
