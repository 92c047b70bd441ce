"""A live site as is named: without a scheme, with credentials in its address."""

from __future__ import annotations

import asyncio
import base64
import re
from dataclasses import replace
from pathlib import Path
from urllib.parse import unquote

from indrel.base.errors import UsageError
from indrel.core.address import BARE_HOST, normalise, origin_of
from indrel.gather.parsing import ParserPool
from indrel.gather.recorder import Recorder
from indrel.sources.fetch import Fetcher
from indrel.sources.options import GatherOptions
from indrel.sources.site import LiveSite

_USER = re.compile(r"^(?P<scheme>https?://)(?P<user>[^/?#@]+)@", re.IGNORECASE)


class Live:
    """A site, from the start page that was named."""

    resumes = True

    def __init__(self, named: str, options: GatherOptions) -> None:
        source, self.options = with_credentials(named, options)
        base = normalise(with_scheme(source, self.options))
        if base is None:
            raise UsageError(f"{source} is not a URL: write it like https://www.sarnfell.example/")
        self.base = self.location = base

    @property
    def expected(self) -> int | None:
        return self.options.limit

    def gather(self, recorder: Recorder, pool: ParserPool) -> str | None:
        """Crawl it; see `Source`."""
        site = LiveSite(recorder.writer.meta["base"], recorder, pool, self.options)  # resumed, it may have moved
        site.named = self.base
        site.gather()
        if site.limit_hit:
            return f"--limit {self.options.limit} was reached"
        return None if self.options.follow_links else "links were not followed (--no-follow-links)"


def with_scheme(source: str, options: GatherOptions) -> str:
    """A host named without a scheme, with the one that it answers: https is asked, then http. Anything else as is."""
    if "://" in source or Path(source).exists() or not BARE_HOST.match(source):
        return source

    async def answers(url: str) -> bool:
        async with Fetcher(options, [origin_of(url)]) as fetcher:
            return (await fetcher.get(f"{origin_of(url)}/robots.txt", 1 << 16, tries=1)).status is not None

    rest = source if "/" in source else source + "/"
    secure, plain = (normalise(f"{scheme}://{rest}") for scheme in ("https", "http"))
    if secure is None or plain is None:
        return source
    return plain if not asyncio.run(answers(secure)) and asyncio.run(answers(plain)) else secure


def with_credentials(source: str, options: GatherOptions) -> tuple[str, GatherOptions]:
    """An address without its `user:password@`, which goes as a header to its own origin alone, as a browser sends it."""
    found = _USER.match(source)
    if not found:
        return source, options
    user, _, password = found["user"].partition(":")
    pair = base64.b64encode(f"{unquote(user)}:{unquote(password)}".encode()).decode()
    headers = (*options.headers, ("Authorization", f"Basic {pair}"))
    return found["scheme"] + source[found.end() :], replace(options, headers=headers)
