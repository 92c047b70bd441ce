"""What every source may be told."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Protocol

from indrel.core.crawlers import Crawler


class Progress(Protocol):
    """Watches gathering; the default does nothing."""

    def stage(self, text: str) -> None:
        """What is being done now, beside the reading of pages."""

    def update(self, read: int, waiting: int, what: str) -> None:
        """Pages read, and pages known to be left."""

    def note(self, text: str) -> None: ...


class Silent:
    def stage(self, text: str) -> None:
        pass

    def update(self, read: int, waiting: int, what: str) -> None:
        pass

    def note(self, text: str) -> None:
        pass


@dataclass(frozen=True)
class Connect:
    """Connect to `address`:`port` for `host`. `plain`: the server there speaks HTTP without TLS, for the scheme of SOURCE."""

    host: str
    address: str
    port: int
    plain: bool = False

    @property
    def place(self) -> str:
        return f"{self.address}:{self.port}"


@dataclass(frozen=True)
class GatherOptions:
    """How to gather. `rate` is requests a second and host (0: no limit), `limit` pages to read."""

    crawlers: tuple[Crawler, ...]
    hosts: tuple[str, ...] = ()
    rate: float = 8.0
    parallel: int = 8
    timeout: float = 20.0
    limit: int | None = None
    per_pattern: int = 200
    """Addresses of one pattern that are read; see `sources.frontier`."""

    connect: tuple[Connect, ...] = ()
    headers: tuple[tuple[str, str], ...] = ()
    also: tuple[str, ...] = ()
    """More addresses, or paths on the site."""

    follow_links: bool = True
    read_barred: bool = False
    as_crawlers: bool = False
    user_parts: tuple[str, ...] = ()
    before: Callable[[], Iterable[str]] = tuple
    """Gives the addresses that an earlier audit knew; those that nothing leads to any more are asked for at the end."""

    only: frozenset[str] | None = None
    """Ask again just for these addresses of a snapshot, for robots.txt and the sitemaps; follow nothing."""

    render: str | None = None
    """Look at pages with a browser too: `sample` or `all` of those that run scripts."""

    render_limit: int = 500
    render_memory: int = 1_500_000_000
    """Bytes that the browser's processes may hold together."""

    render_pictures: bool = False
    browser: str | None = None
    sandbox: bool = True

    base: str | None = None
    links_out: bool = False
    """Follow symbolic links of a folder that lead out of it."""

    progress: Progress = field(default_factory=Silent)
