"""Several tabs of one browser, which is started again where it is lost."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import os
from types import TracebackType
from typing import Any, Self

from indrel.base.errors import UsageError
from indrel.gather.answers import Answer
from indrel.sources.browser.answering import Answering, Answers, Reply, Shelf, fulfilment
from indrel.sources.browser.launch import MEMORY, Browser
from indrel.sources.browser.look import Look, Tab
from indrel.sources.browser.pipe import BrowserLost, CallRefused

STARTS = 5
"""Starts of a browser without a single view after which rendering ends."""

SILENT = 2
"""Views in which a browser sent nothing at all, after which another one is started."""

ANSWERS_WITHIN = 5.0
"""Seconds in which a browser answers what no page has a part in."""

TRIES = 2
LOST = "the browser ended or stopped responding while the page was viewed"
HEAVY = "it took too much memory"
ENDED = f"rendering ended: the browser was started {STARTS} times without a view"

log = logging.getLogger("indrel")


class Tabs:
    """Takes looks, as many at a time as there are tabs. Use as an asynchronous context manager."""

    def __init__(
        self, program: str, answers: Answers, sandbox: bool = True, memory: int = MEMORY, size: int | None = None
    ) -> None:
        self.answers = answers
        self.size = size or max(1, min(4, os.cpu_count() or 1))
        self._program = program
        self._sandbox = sandbox
        self._shelf = Shelf()
        self._free: asyncio.Queue[Tab] = asyncio.Queue()
        self._all: list[Tab] = []
        self._memory = memory
        self._barren = 0  # starts since the last view
        self._silent = 0  # views in a row in which nothing was heard
        self._generation = 0
        self.ended = False
        """Whether no browser could be had any more."""

        self._mending = asyncio.Lock()
        self._tasks: set[asyncio.Task[None]] = set()

    async def __aenter__(self) -> Self:
        self.browser = Browser(self._program, self._event, self._sandbox, self._memory)
        await self.browser.start()
        self._barren = 1
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
        why = LOST
        for attempt in range(TRIES):
            tab = await self._free.get()
            answering = Answering(
                self.answers, self._shelf, crawlers, {url: document} if document else {}, pictures=picture
            )
            generation, heavy = self._generation, self.browser.too_heavy
            try:
                if self.ended:
                    return Look(url, document.status if document else None, why=ENDED)
                found = await tab.see(url, answering, probe, visit, picture, patient)
                if found.seen is None and not tab.failed and not await self._responds():
                    await self._renew(tab, generation, silent=True)
                    continue
                self._barren = self._silent = 0
                if not tab.failed:
                    return found
                await self._renew(tab, generation)
                if self.browser.too_heavy > heavy:
                    return Look(url, found.status, why=HEAVY)
                if attempt + 1 == TRIES:
                    return found
            except (BrowserLost, CallRefused) as error:
                log.debug("%s: %s", url, error or type(error).__name__)
                why = HEAVY if generation == self._generation and self.browser.too_heavy > heavy else LOST
                await self._renew(tab, generation, silent=not await self._responds())
            finally:
                tab.answering = tab.look = None
                self._free.put_nowait(tab)
        return Look(url, document.status if document else None, why=why)

    async def _responds(self) -> bool:
        """Whether the browser itself still answers, whatever its pages do."""
        try:
            await self.browser.pipe.call("Browser.getVersion", None, ANSWERS_WITHIN)
        except CallRefused:
            return False
        except BrowserLost:
            pass
        return True

    async def _renew(self, tab: Tab, generation: int, silent: bool = False) -> None:
        """Another tab in the place of one that is gone, in another browser if that is gone or silent."""
        async with self._mending:
            if generation != self._generation or self.ended:
                return
            self._silent += silent
            if self.browser.pipe.lost or self._silent >= SILENT:
                await self._restart()
            elif silent:
                tab.forget()
            else:
                await tab.close()

    async def _restart(self) -> None:
        """Another browser; after `STARTS` without a view none, and rendering ends."""
        self._generation += 1
        self._silent = 0
        await self.browser.end()
        while self._barren < STARTS:
            self._barren += 1
            try:
                await self.browser.start()
            except UsageError as error:
                log.debug("the browser did not start again: %s", error)
                continue
            for one in self._all:
                one.forget()
            return
        self.ended = True
