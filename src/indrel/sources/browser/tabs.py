"""Several tabs of one browser, which is started again where it is lost."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import os
from types import TracebackType
from typing import Any, Self

from indrel.gather.keeping import Answer
from indrel.sources.browser.answering import Answering, Answers, Reply, Shelf, fulfilment
from indrel.sources.browser.launch import Browser
from indrel.sources.browser.look import Look, Tab
from indrel.sources.browser.pipe import BrowserLost, CallRefused

STARTS = 4
"""Times that a browser is started in one run, the first included."""

TRIES = 2
LOST = "the browser ended while it was looked at"

log = logging.getLogger("indrel")


class Tabs:
    """Takes looks, as many at a time as there are tabs. Use as an asynchronous context manager."""

    def __init__(self, program: str, answers: Answers, sandbox: bool = True, size: int | None = None) -> None:
        self.answers = answers
        self.size = size or max(1, min(4, os.cpu_count() or 1))
        self._program = program
        self._sandbox = sandbox
        self._shelf = Shelf()
        self._free: asyncio.Queue[Tab] = asyncio.Queue()
        self._all: list[Tab] = []
        self._starts = 0
        self._mending = asyncio.Lock()
        self._tasks: set[asyncio.Task[None]] = set()

    async def __aenter__(self) -> Self:
        self.browser = Browser(self._program, self._event, self._sandbox)
        await self.browser.start()
        self._starts = 1
        self._all = [Tab(self.browser) for _ in range(self.size)]
        for tab in self._all:
            self._free.put_nowait(tab)
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self.browser.end()

    def _event(self, method: str, params: dict[str, Any], session: str | None) -> None:
        if method == "Fetch.requestPaused":
            tab = self._tab_of(params)
            if tab is not None:
                tab.paused(params)
            else:
                name, told = fulfilment(params["requestId"], Reply(None, "Aborted"))
                task = asyncio.ensure_future(self._quietly(name, told))
                self._tasks.add(task)
                task.add_done_callback(self._tasks.discard)
            return
        if method == "Target.targetCrashed":
            for tab in self._all:
                if params.get("targetId") in tab.frames:
                    tab.event(method, params)
            return
        for tab in self._all:
            if session is not None and tab.session == session:
                tab.event(method, params)

    async def _quietly(self, name: str, told: dict[str, Any]) -> None:
        with contextlib.suppress(CallRefused, BrowserLost):
            await self.browser.call(name, **told)

    def _tab_of(self, params: dict[str, Any]) -> Tab | None:
        """The tab that a request is of; a worker's has no frame, and is the tab's whose page has its origin."""
        frame = params.get("frameId")
        busy = [tab for tab in self._all if tab.answering is not None]
        for tab in busy:
            if frame in tab.frames:
                return tab
        headers = {name.lower(): value for name, value in params["request"].get("headers", {}).items()}
        source = headers.get("referer") or headers.get("origin") or params["request"]["url"]
        for tab in busy:
            if any(source.startswith(origin) for origin in tab.origins):
                return tab
        return busy[0] if busy else None

    async def look(
        self, url: str, document: Answer | None, crawlers: int, *, probe: bool = False, visit: str | None = None,
        picture: bool = False, patient: bool = False,
    ) -> Look:  # fmt: skip
        """Look at an address for the crawlers of a mask. What kills its renderer or the browser is a fact of the page."""
        for attempt in range(TRIES):
            tab = await self._free.get()
            answering = Answering(
                self.answers, self._shelf, crawlers, {url: document} if document else {}, pictures=picture
            )
            try:
                found = await tab.see(url, answering, probe, visit, picture, patient)
                if found.why is None or attempt + 1 == TRIES or not tab.failed:
                    return found
                await self._renew(tab)
            except (BrowserLost, CallRefused) as error:
                log.debug("%s: %s", url, error or type(error).__name__)
                await self._renew(tab)
            finally:
                tab.answering = tab.look = None
                self._free.put_nowait(tab)
        return Look(url, document.status if document else None, why=LOST)

    async def _renew(self, tab: Tab) -> None:
        """Another tab in the place of one that is gone, in another browser where that is."""
        async with self._mending:
            if self.browser.pipe.lost and self._starts < STARTS:
                await self.browser.end()
                self._starts += 1
                await self.browser.start()
                for one in self._all:
                    one.forget()
            elif not self.browser.pipe.lost:
                await tab.close()
