"""What every source may be told, and how a user says it.

`GatherOptions` is what sources read. `Gathering` has an entry for each option that a user gives: the command line's parameters
and the keywords of the Python interface are made from it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Annotated, Any, NamedTuple, Protocol, TypedDict

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
    """How to gather. `rate` is requests per second and host (0: no limit), `limit` pages to read."""

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
    before: Callable[[str], Iterable[str]] = lambda base: ()
    """Gives, for the site's base, the addresses that another audit knew; URLs that nothing leads to are requested at the end."""

    only: frozenset[str] | None = None
    """Ask again just for these addresses of a snapshot, for robots.txt and the sitemaps; follow nothing."""

    render: str | None = None
    """Look at pages with a browser too: `sample` or `all` of the ones that run scripts."""

    render_limit: int = 500
    render_memory: int = 1_500_000_000
    """Bytes that the browser's processes may hold together."""

    render_pictures: bool = False
    browser: str | None = None
    sandbox: bool = True

    base: str | None = None
    links_out: bool = False
    """Follow symbolic links of a folder that lead out of it."""

    host_style: str | None = None
    """How the server of a folder answers; see `sources.static_host`."""

    fallback: str | None = None
    """The file of a folder that its server returns for paths without a file."""

    progress: Progress = field(default_factory=Silent)


class Option(NamedTuple):
    """How an option is given on the command line. `written` and `default` differ from the option's own where a user writes
    something else than a source reads; `least` and `most` bound numbers."""

    flags: tuple[str, ...]
    help: str
    metavar: str | None = None
    written: Any = None
    default: Any = None
    least: float | None = None
    most: float | None = None


class Gathering(TypedDict, total=False):
    """The options of `GatherOptions` that a user gives, with the types that they have in Python."""

    limit: Annotated[
        int | None,
        Option(("--limit",), "Read at most N pages, of all sections.", "N", least=1),
    ]
    per_pattern: Annotated[
        int, Option(("--per-pattern",), "Read at most N URLs per pattern of an endless space.", "N", least=1)
    ]
    rate: Annotated[float, Option(("--rate",), "Requests per second per host; 0: no limit.", "N", least=0)]
    parallel: Annotated[int, Option(("--parallel",), "Requests at a time.", "N", least=1, most=256)]
    timeout: Annotated[float, Option(("--timeout",), "Seconds to wait for a response.", "S", least=0.1)]
    connect: Annotated[
        Mapping[str, str],
        Option(
            ("--connect",), "Connect to this address for that host; http:// if the server there speaks plain HTTP. Repeatable.",
            "HOST=[http://]ADDRESS:PORT", list[str] | None,
        ),
    ]  # fmt: skip
    headers: Annotated[
        Mapping[str, str],
        Option(("--header",), "Send this header to the site's hosts. Repeatable.", "'NAME: VALUE'", list[str] | None),
    ]
    also: Annotated[
        Iterable[str],
        Option(
            ("--urls", "--also"), "Read these URLs or paths too, one per line. Repeatable.", "FILE", list[Path] | None
        ),
    ]
    follow_links: Annotated[bool, Option(("--follow-links/--no-follow-links",), "Read what pages link to.")]
    read_barred: Annotated[
        bool, Option(("--read-barred",), "Read blocked pages too (only for sites that you are responsible for).")
    ]
    as_crawlers: Annotated[bool, Option(("--as-crawlers",), "Request again under each crawler's name and compare.")]
    render: Annotated[
        str | None,
        Option(
            ("--render",),
            "View pages that run scripts with a Chromium too: a sample of each sort, or all.",
            "[sample|all]",
        ),
    ]
    render_limit: Annotated[int, Option(("--render-limit",), "View at most N pages with the browser.", "N", least=1)]
    render_memory: Annotated[
        int, Option(("--render-memory",), "Memory that the browser's processes may use together.", "SIZE", str, "1.5GB")
    ]
    render_pictures: Annotated[
        bool, Option(("--render-pictures",), "Keep a picture of each viewed page, not only of wrong ones.")
    ]
    browser: Annotated[str | None, Option(("--browser",), "The Chromium for --render.", "FILE")]
    sandbox: Annotated[
        bool,
        Option(
            ("--render-without-sandbox",), "Without the browser's sandbox; only in a container that is deleted afterwards.",
            None, bool, False,
        ),
    ]  # fmt: skip
    base: Annotated[str | None, Option(("--base",), "The URL at which a folder will be published.", "URL")]
    links_out: Annotated[
        bool, Option(("--follow-symlinks", "--links-out"), "Follow symbolic links that lead out of a folder.")
    ]
    host_style: Annotated[
        str | None,
        Option(("--host-style",), "Where the server puts a folder's x/index.html.", "slash|no-slash|html"),
    ]
    fallback: Annotated[
        str | None, Option(("--fallback",), "The folder's file that is returned where none is.", "FILE")
    ]
