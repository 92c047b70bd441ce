"""URLs requested once without the headers that an audit was given, as anybody would request them."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import replace

from indrel.core.address import origin_of
from indrel.sources.fetch import Fetcher
from indrel.sources.options import GatherOptions

FEW_BYTES = 1 << 16


def statuses(urls: Sequence[str], options: GatherOptions) -> dict[str, int | None]:
    """The status of each URL without any of the options' headers; None if nothing responds."""

    async def ask() -> dict[str, int | None]:
        async with Fetcher(replace(options, headers=()), [origin_of(url) for url in urls]) as fetcher:
            return {url: (await fetcher.get(url, FEW_BYTES, tries=1, bodies=False)).status for url in urls}

    return asyncio.run(ask()) if urls else {}
