"""A robots.txt from anywhere: a file, standard input, an address, a snapshot."""

from __future__ import annotations

import sys
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

from indrel.base.errors import InputError
from indrel.base.files import is_snapshot
from indrel.core.address import normalise, origin_of, split
from indrel.core.robots import Verdict
from indrel.core.robots.file import READ_BYTES
from indrel.sources.options import GatherOptions

NOWHERE = "https://robots.invalid"
"""The origin of a file that is not known to stand anywhere."""


@dataclass(frozen=True)
class Loaded:
    """A robots.txt as it was had. `located` says whether its origin is known."""

    origin: str
    where: str
    body: bytes
    located: bool = False
    status: int | None = 200
    error: str | None = None
    media_type: str = "text/plain"
    hops: tuple[str, ...] = ()
    final: str = ""

    @cached_property
    def verdict(self) -> Verdict:
        """What holds on its host."""
        return Verdict.of(self.status, len(self.hops), self.body)


def load(named: str, options: GatherOptions) -> Loaded:
    """A file, `-` (standard input) or an address; of a host or a snapshot, its /robots.txt. Raises InputError."""
    if named == "-":
        return _of_bytes(sys.stdin.buffer.read(READ_BYTES), "standard input")
    if named.startswith(("http://", "https://")):
        return _fetch(named, options)
    try:
        return _of_snapshot(Path(named)) if is_snapshot(named) else _of_bytes(read_file(Path(named)), named)
    except OSError as error:
        raise InputError(
            f"{named} cannot be read: {error.strerror}; name a file, a URL or - for standard input"
        ) from error


def read_file(path: Path) -> bytes:
    """A robots.txt on disk, as much of it as is ever read. Raises OSError."""
    with path.open("rb") as file:
        return file.read(READ_BYTES)


def _of_bytes(body: bytes, where: str) -> Loaded:
    return Loaded(NOWHERE, where, body, final=f"{NOWHERE}/robots.txt")


def _of_snapshot(path: Path) -> Loaded:
    from indrel.snapshot import Snapshot

    with Snapshot(path) as snapshot:
        origin = origin_of(snapshot.meta["base"])
        rows = snapshot.rows(
            "SELECT status, error, media_type, hops, final, body FROM robots WHERE origin = ?", [origin]
        )
    if not rows:
        raise InputError(f"{path} has no robots.txt of {origin}: audit the site again")
    status, error, media, hops, final, body = rows[0]
    where = final or f"{origin}/robots.txt"
    return Loaded(origin, where, body or b"", True, status, error, media or "", tuple(hops or ()), where)


def _fetch(named: str, options: GatherOptions) -> Loaded:
    import asyncio

    from indrel.core.page.headers import content_type
    from indrel.sources.fetch import Fetcher, follow_robots

    url = normalise(named)
    if url is None:
        raise InputError(f"{named} is not a URL")
    if split(url).path == "/":
        url += "robots.txt"

    async def ask() -> Loaded:
        async with Fetcher(options, [origin_of(url)]) as fetcher:
            hops, answer = await follow_robots(fetcher, url)
        if answer.status is None:
            raise InputError(f"{url} cannot be read: {answer.error}")
        media, _ = content_type(answer.header("content-type"))
        body = answer.body if 200 <= answer.status < 300 else b""
        return Loaded(
            origin_of(url),
            answer.url,
            body,
            True,
            answer.status,
            answer.pause,
            media,
            tuple(hops),
            answer.url,
        )

    return asyncio.run(ask())


def to_url(text: str, origin: str) -> str | None:
    """An address as a user writes it: whole, without scheme, or a path."""
    text = text.strip()
    if text.startswith("/") and not text.startswith("//"):
        return normalise(origin + text)
    return normalise(text if "://" in text else "https://" + text.lstrip("/"))
