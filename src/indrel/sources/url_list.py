"""A text file of URLs: each is read as given, and nothing is followed from it."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from pathlib import Path

from indrel.base.errors import InputError
from indrel.core.address import origin_of, site_key
from indrel.gather.parsing import ParserPool
from indrel.gather.recorder import Recorder
from indrel.sources.options import GatherOptions
from indrel.sources.site import LiveSite
from indrel.sources.url_file import read_urls


class UrlList:
    """The URLs of a file, and robots.txt of their hosts. The site is the hosts of the URLs, its base that of the most."""

    resumes = False

    def __init__(self, named: str, options: GatherOptions) -> None:
        self.location = named
        urls = read_urls(Path(named))
        if not urls:
            raise InputError(f"{named} has no URL: write one per line")
        origins = Counter(map(origin_of, urls))
        self.base = min(origins, key=lambda origin: (-origins[origin], origin)) + "/"
        hosts = dict.fromkeys([*options.hosts, *map(site_key, urls)])
        self.options = replace(
            options, hosts=tuple(hosts), also=tuple(urls), only=frozenset(urls), follow_links=False, before=tuple
        )

    @property
    def expected(self) -> int | None:
        return len(self.options.also)

    def gather(self, recorder: Recorder, pool: ParserPool) -> str | None:
        """Read them; see `Source`."""
        site = LiveSite(self.base, recorder, pool, self.options)
        site.named, site.reads_sitemaps = self.base, False
        site.gather()
        return f"--limit {self.options.limit} was reached" if site.limit_hit else None
