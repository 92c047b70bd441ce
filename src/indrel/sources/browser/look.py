"""One look at one page, as an obedient rendering crawler takes it: for the first time, without scrolling, to a fixed end."""

from __future__ import annotations

import asyncio
import base64
import contextlib
import time
from collections.abc import Coroutine
from dataclasses import dataclass, field
from importlib.resources import files
from typing import Any

from indrel.core.address import normalise, origin_of
from indrel.gather.answers import Answer
from indrel.sources.browser.answering import KINDS, Answering, Asked, Reply, Wish, fulfilment
from indrel.sources.browser.launch import Browser
from indrel.sources.browser.pipe import BrowserLost, CallRefused
from indrel.sources.fetch import USER_AGENT

BUDGET = 5_000
"""Milliseconds of the page's own time that it is given; requests under way stop its clock."""

AFTER = 500
"""Milliseconds after two frames were drawn, which is when what waits for being seen has its turn."""

SLICES = (250, 1_250)
"""Milliseconds of the page's time, in two slices, within which a script leads elsewhere `at once`."""

BREATH = 0.015
PATIENT = 0.4
"""Seconds of real time between slices, in which the page's clock stands: what it asks of its own stores and workers is no
request that would stop the clock, and is answered meanwhile. The longer one is for a page that has come out wrong once."""

SETTLED_AFTER = 6
"""Times at most that a page which is still changing then is given a little more."""

WALL = 10.0
"""Seconds that a page may take, those in which it waits for answers left out; what it is by then is read."""

LONGEST = 120.0
"""Seconds that it may take in all."""

TALL = {"width": 412, "height": 12_000, "deviceScaleFactor": 0, "mobile": False}
"""A window in which a long page is seen whole: some crawlers look through one."""

CRASHED = "it took too much memory, or crashed the browser's process"
SCROLLS = 4
PRESSES = 3
PRESS = (
    "(() => { const word = /\\b(more|next|older|show all|load)\\b|\\b(mehr|weiter|plus|suivant|m[aá]s|siguiente)\\b/i;"
    " const all = [...document.querySelectorAll('button,[role=button],a:not([href]),summary')].filter((el) => !el.closest('form')"
    " && el.checkVisibility() && word.test(el.innerText || el.ariaLabel || ''));"
    " const el = all[%d]; if (!el) return false; el.click(); return true; })()"
)
_READ = files(__package__).joinpath("page.js").read_text("utf-8")
_FRAMES = "new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(() => done(1))))"
_DOWN = "scrollTo(0, document.documentElement.scrollHeight)"
_WORKER = (
    "('serviceWorker' in navigator ? Promise.race([navigator.serviceWorker.getRegistration().then((r) => r &&"
    " navigator.serviceWorker.ready), new Promise((done) => setTimeout(done, 3000))]) : Promise.resolve()).then(() => 1)"
)


@dataclass
class Look:
    """What a look saw. `seen` is what `page.js` gives, None where nothing could be read: `why` says so then."""

    url: str
    status: int | None
    seen: dict[str, Any] | None = None
    why: str | None = None
    leads_to: str | None = None
    asked: list[Asked] = field(default_factory=list)
    errors: int = 0
    """Uncaught faults of its scripts."""

    tall: dict[str, Any] | None = None
    scrolled: dict[str, Any] | None = None
    pressed: dict[str, Any] | None = None
    visited: Look | None = None
    """The same address after a visit to the start page, where that was asked for."""

    picture: bytes | None = None


class Tab:
    """A place for one look after the other. `fresh` makes a visitor that was never here: no cookie, store, worker or name."""

    def __init__(self, browser: Browser) -> None:
        self.browser = browser
        self.frames: set[str] = set()
        self.session: str | None = None
        self.origins: set[str] = set()
        self.answering: Answering | None = None
        self.look: Look | None = None
        self._context: str | None = None
        self._target: str | None = None
        self._expired: asyncio.Event = asyncio.Event()
        self._arriving = False
        self._at_once = True
        self._breath = BREATH
        self.failed = False
        self._tasks: set[asyncio.Task[None]] = set()

    async def fresh(self) -> None:
        """Open an empty page that knows nothing of the last one."""
        call = self.browser.call
        if self._context is None:
            self._context = (await call("Target.createBrowserContext"))["browserContextId"]
        old, session = self._target, self.session
        if session is not None:
            for origin in sorted(self.origins):
                await call("Storage.clearDataForOrigin", session, origin=origin, storageTypes="all")
            await call("Storage.clearCookies", browserContextId=self._context)
        made = await call(
            "Target.createTarget", url="about:blank", browserContextId=self._context, width=412, height=915
        )
        self._target = made["targetId"]
        self.frames = {self._target}
        self.session = (await call("Target.attachToTarget", targetId=self._target, flatten=True))["sessionId"]
        self.origins = set()
        if old is not None:
            with contextlib.suppress(CallRefused):
                await call("Target.closeTarget", targetId=old)
        for method in ("Page.enable", "Runtime.enable", "Network.enable"):
            await call(method, self.session)
        await call("Network.setCacheDisabled", self.session, cacheDisabled=True)
        await call("Network.setUserAgentOverride", self.session, userAgent=self._agent(), platform="Linux armv8l")

    def _agent(self) -> str:
        """What scripts are reported of the browser; requests go out under the audit's own name."""
        version = self.browser.version.partition("/")[2].partition(".")[0] or "120"
        return (
            f"Mozilla/5.0 (Linux; Android 10; K) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/{version}.0.0.0 Mobile "
            f"Safari/537.36 (compatible; {USER_AGENT})"
        )

    def forget(self) -> None:
        """The browser is another one."""
        self._context = self._target = self.session = None
        self.frames = set()

    async def close(self) -> None:
        for task in self._tasks:
            task.cancel()
        if self._context is not None:
            with contextlib.suppress(CallRefused, BrowserLost):
                await self.browser.call("Target.disposeBrowserContext", browserContextId=self._context)
        self.forget()

    # ---------------------------------------------------------------- events

    def event(self, method: str, params: dict[str, Any]) -> None:
        """An event of this tab's page."""
        if method == "Emulation.virtualTimeBudgetExpired":
            self._expired.set()
        elif method == "Page.frameAttached":
            self.frames.add(params["frameId"])
        elif method == "Page.javascriptDialogOpening":
            self._do(self._call("Page.handleJavaScriptDialog", accept=params.get("type") == "beforeunload"))
        elif method == "Runtime.exceptionThrown" and self.look is not None:
            self.look.errors += 1
        elif method in ("Inspector.targetCrashed", "Target.targetCrashed"):
            self.failed = True
            self._expired.set()

    def _do(self, work: Any) -> None:
        async def quietly() -> None:
            with contextlib.suppress(CallRefused, BrowserLost):
                await work

        task = asyncio.ensure_future(quietly())
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    def paused(self, params: dict[str, Any]) -> None:
        """A request waits for its answer."""
        self._do(self._answer(params))

    async def _answer(self, params: dict[str, Any]) -> None:
        request, answering, look = params["request"], self.answering, self.look
        kind = params.get("resourceType", "Other").lower()
        url = request["url"]
        main = kind == "document" and params.get("frameId") == self._target
        if answering is None or look is None:
            name, told = fulfilment(params["requestId"], Reply(None, "Aborted"))
            await self.browser.call(name, **told)
            return
        if main and not self._arriving:
            await self._leads(url, params)
            return
        if url.startswith(("http://", "https://")):
            self.origins.add(origin_of(url if "/" in url[8:] else url + "/"))
        data = request.get("postData")
        wish = Wish(
            url, "document" if main else KINDS.get(kind, kind), request.get("method", "GET"), dict(request.get("headers", {})),
            data.encode("utf-8", "surrogatepass") if data is not None else None,
        )  # fmt: skip
        if answering.how == "visit":  # then it is no first visit any more: what the server has set counts
            wish = wish._replace(cookies=await self._cookies(url))
        reply = await answering.reply(wish, main)
        if main:
            answer = reply.answer
            if answer is None or not answer.redirects:
                self._arriving = False
                look.status = answer.status if answer else None
        name, told = fulfilment(params["requestId"], reply)
        await self.browser.call(name, **told)

    async def _cookies(self, url: str) -> str:
        with contextlib.suppress(CallRefused):
            found = await self._call("Network.getCookies", urls=[url])
            return "; ".join(f"{one['name']}={one['value']}" for one in found["cookies"])
        return ""

    async def _leads(self, url: str, params: dict[str, Any]) -> None:
        """The page is led elsewhere: it stays to be read, and where it would have gone is kept if that was at once."""
        look, target = self.look, normalise(url)
        soon = self._at_once and self.answering is not None and self.answering.how == "load"
        if look and soon and target and target != look.url and look.leads_to is None:
            look.leads_to = target
        name, told = fulfilment(params["requestId"], Reply(Answer(url, 204)))
        await self.browser.call(name, **told)

    # ---------------------------------------------------------------- looking

    async def see(
        self, url: str, answering: Answering, probe: bool, visit: str | None, picture: bool, patient: bool
    ) -> Look:
        """Look at an address. With `probe` it is also scrolled and pressed; with `visit`, a page that comes out without
        text is looked at again after that address was visited in the same tab; `patient` leaves real time to slow machines."""
        await self.fresh()
        self._breath = PATIENT if patient else BREATH
        look = await self._load(url, answering)
        if picture and look.seen is not None:
            look.picture = await self._picture()
        if visit is not None and look.leads_to is None:
            answering.how = "visit"
            await self._load(visit, answering)
            with contextlib.suppress(CallRefused):
                await self._time(BUDGET)
                await self._evaluate(_WORKER, wait=True)
            look.visited = await self._load(url, answering)
        elif probe and look.seen is not None:
            await self._probe(look, answering)
        self.answering = self.look = None
        return look

    async def _load(self, url: str, answering: Answering) -> Look:
        look = self.look = Look(url, None)
        self.answering, self._arriving, self.failed, self._at_once = answering, True, False, True
        at = len(answering.asked)
        try:
            await self._within(self._run(url, look), answering)
            if look.why:
                return look
        except (TimeoutError, CallRefused):
            look.why = f"its scripts had not ended after {WALL:.0f} s"
        if look.why and not self.failed:
            with contextlib.suppress(CallRefused):
                await self.browser.pipe.call("Runtime.terminateExecution", self.session, 2.0)
        look.asked = answering.asked[at:]
        if self.failed:
            look.why = CRASHED
            return look
        with contextlib.suppress(CallRefused):
            look.seen = await self._evaluate(_READ)
        if look.seen is None and look.why is None:
            look.why = "it could not be read"
        elif look.seen is not None and not str(look.seen.get("url", "")).startswith("http"):
            look.seen, look.why = None, look.why or "there was no response for the page itself"
        if look.seen is not None and look.leads_to is None and await self._was_replaced(url):
            look.leads_to = normalise(str(look.seen.get("url", "")))
        return look

    async def _was_replaced(self, url: str) -> bool:
        """Whether a script put another URL in the place of the page's own, as routers do for a redirect; one that was added to
        the history is the next step of a visit."""
        now = normalise(str((self.look.seen or {}).get("url", ""))) if self.look else None
        if now is None or now.partition("?")[0].rstrip("/") == url.partition("?")[0].rstrip("/"):
            return False  # parameters that tell a view of the page lead nowhere
        with contextlib.suppress(CallRefused, KeyError, IndexError):
            told = await self._call("Page.getNavigationHistory")
            return all(normalise(one["url"]) != url for one in told["entries"])
        return False

    async def _run(self, url: str, look: Look) -> None:
        """Go there, and let the page's time run to its end."""
        await self._call("Emulation.setVirtualTimePolicy", policy="pause")
        told = await self.browser.pipe.call("Page.navigate", self.session, LONGEST, url=url)
        if told.get("errorText") and look.status is None:
            look.why = "there was no response for the page itself"
            return
        for budget in SLICES:
            await asyncio.sleep(self._breath)
            await self._time(budget)
        self._at_once = False
        await asyncio.sleep(self._breath)
        await self._time(BUDGET - sum(SLICES))
        await self._frames()
        await self._settle()

    async def _within(self, work: Coroutine[Any, Any, None], answering: Answering) -> None:
        """Let it end in `WALL` seconds in which nothing is under way for the page, and in `LONGEST` in all; else TimeoutError."""
        task = asyncio.ensure_future(work)
        began, waited = time.monotonic(), answering.waited
        try:
            while not (await asyncio.wait({task}, timeout=0.2))[0]:
                if self.failed:
                    raise TimeoutError
                spent = time.monotonic() - began
                if spent > LONGEST or spent - (answering.waited - waited) > WALL:
                    raise TimeoutError
            task.result()
        finally:
            task.cancel()

    async def _time(self, budget: int) -> None:
        """Let the page's own time run."""
        self._expired.clear()
        await self._call("Emulation.setVirtualTimePolicy", policy="pauseIfNetworkFetchesPending", budget=budget)
        await self._expired.wait()

    async def _frames(self) -> None:
        """Two frames: what waits for being seen, or for the page to be scrolled, has had its turn then."""
        with contextlib.suppress(CallRefused):
            await self.browser.pipe.call(
                "Runtime.evaluate", self.session, 1.0, expression=_FRAMES, awaitPromise=True, returnByValue=True
            )
        await self._time(AFTER)

    async def _settle(self) -> None:
        """Give a page that is still changing a little more: its stores may have been slow to answer."""
        size = None
        for _ in range(SETTLED_AFTER):
            await asyncio.sleep(self._breath)
            now = await self._evaluate("document.documentElement ? document.documentElement.innerHTML.length : 0")
            if now == size:
                return
            if size is not None:
                await self._time(AFTER // 5)
            size = now

    async def _probe(self, look: Look, answering: Answering) -> None:
        """Make the window tall; scroll to the end, a few times; then press what says that there is more."""
        with contextlib.suppress(TimeoutError, CallRefused):
            await self._within(self._scroll_and_press(look, answering), answering)

    async def _scroll_and_press(self, look: Look, answering: Answering) -> None:
        answering.how = "scroll"
        height = (look.seen or {}).get("height")
        await self._call("Emulation.setDeviceMetricsOverride", **TALL)
        await self._frames()
        look.tall = await self._evaluate(_READ)
        await self._call("Emulation.clearDeviceMetricsOverride")
        for _ in range(SCROLLS):
            await self._evaluate(_DOWN)
            await self._frames()
            look.scrolled = await self._evaluate(_READ)
            if not look.scrolled or look.scrolled["height"] == height:
                break
            height = look.scrolled["height"]
        answering.how = "click"
        pressed = 0
        for _ in range(PRESSES):
            if not await self._evaluate(PRESS % pressed):
                break
            pressed += 1
            await self._frames()
        if pressed:
            look.pressed = await self._evaluate(_READ)

    async def _picture(self) -> bytes | None:
        with contextlib.suppress(CallRefused):
            found = await self._call("Page.captureScreenshot", format="webp", quality=60)
            return base64.b64decode(found["data"])
        return None

    async def _evaluate(self, expression: str, wait: bool = False) -> Any:
        """An expression's value, in a world of its own that the page's scripts cannot reach."""
        world = await self._call("Page.createIsolatedWorld", frameId=self._target, worldName="indrel")
        found = await self._call(
            "Runtime.evaluate", expression=expression, contextId=world["executionContextId"], returnByValue=True,
            awaitPromise=wait,
        )  # fmt: skip
        return None if "exceptionDetails" in found else found["result"].get("value")

    async def _call(self, method: str, /, **params: Any) -> Any:
        return await self.browser.call(method, self.session, **params)
