"""A live site's pages in a browser: the crawl goes on from the links that only rendering shows."""

from __future__ import annotations

from typing import TYPE_CHECKING

from indrel.core.address import split
from indrel.gather.answers import Answer
from indrel.sources.browser.answering import MOST_OCTETS, Wish
from indrel.sources.fetch import Sent
from indrel.sources.rendering import looking

if TYPE_CHECKING:
    from indrel.sources.site import LiveSite


class LiveAnswers:
    """Judges by the robots.txt of each host, fetched when its host is met; fetches as the crawl does.

    A host that does not answer to this audit blocks nothing by that: what it would say to crawlers is not known.
    """

    lacks = "could not be reached"

    def __init__(self, site: LiveSite) -> None:
        self._site = site

    async def barred(self, url: str) -> int:
        origin = split(url).origin
        if origin not in self._site.gate:
            await self._site.learn_robots(origin, "site" if self._site.recorder.on_site(url) else "resource")
        return 0 if self._site.is_silent(origin) else self._site.gate.barred(url)

    async def get(self, wish: Wish) -> Answer:
        host = split(wish.url).host
        if host in self._site.lost or self._site.is_silent(split(wish.url).origin):
            return Answer(wish.url, None)
        return await self._site.fetcher.pass_on(wish.url, MOST_OCTETS, Sent(wish.method, wish.headers, wish.data))


async def render_site(site: LiveSite) -> None:
    """Look at pages, crawl on from what that found, and so on until nothing is new."""
    answers, stop = LiveAnswers(site), (lambda: site.interrupted)
    async with looking(answers, site.recorder, site.options, site.start, stop) as rendering:
        while await site.crawl_on(await rendering.round(), [site.frontier.shape(site.start)]):
            pass
        if site.options.only is None and not site.interrupted:
            await rendering.made_up()
