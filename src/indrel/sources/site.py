"""A live site: robots.txt first, then sitemaps, then pages, following links on the site's own hosts."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import signal
from collections import deque
from collections.abc import Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any, NamedTuple

from indrel.base.errors import AuditCutShort, Interrupted
from indrel.core.address import Joiner, normalise, origin_of, site_key, split, variants
from indrel.core.answers import DOWN, Failure
from indrel.core.robots import parse as parse_robots
from indrel.core.robots.access import MAX_HOPS
from indrel.core.sitemap import usual_folders
from indrel.gather.answers import Answer
from indrel.gather.keeping import Keeper
from indrel.gather.parsing import MAX_PAGE, PageTask, ParserPool
from indrel.gather.recorder import Recorder, robots_row
from indrel.sources.fetch import STEP, Fetcher, explain, follow_robots
from indrel.sources.frontier import MAX_CLICKS, Frontier, spread
from indrel.sources.gate import Gate, resource_hosts
from indrel.sources.host_variants import settle
from indrel.sources.once_more import once_more
from indrel.sources.options import GatherOptions
from indrel.sources.resuming import Left, take_up
from indrel.sources.sitemaps import SitemapCollector
from indrel.sources.soft404_probe import MadeUp
from indrel.sources.unanswered import Silence
from indrel.sources.user_agents import Comparison, digest, robots_as_crawlers

BATCH_PAGES = 32
BATCH_OCTETS = 2 << 20
WAITING_OCTETS, WAITING_PAGES = 48 << 20, 64
"""So much may wait to be parsed, then fetching waits: a kill loses what is not parsed, about half a second's pages."""

log = logging.getLogger("indrel")
GATHER = 0.002
"""Seconds in which a reader that was idle lets pages come together."""

GRACE = 2.5
"""Seconds that requests and parsers under way are given after an interruption."""

BARRED_A_RULE = 50
"""Addresses of one rule that `--read-barred` reads."""

MAY_BE_SITEMAPS = 50
"""Linked XML files that are looked into: a sitemap is one wherever it is linked."""


class _Page(NamedTuple):
    """A page that waits to be parsed, with its answer's row; `follow` false: nothing is followed from it."""

    task: PageTask
    clicks: int
    row: tuple[Any, ...]
    follow: bool


class LiveSite:
    """Gathers one site. `gather` returns when nothing is left to fetch, or raises what cut it short."""

    def __init__(self, start: str, recorder: Recorder, pool: ParserPool, options: GatherOptions) -> None:
        self.recorder = recorder
        self.pool = pool
        self.options = options
        self.gate = Gate(options.crawlers)
        self.frontier = Frontier(options.per_pattern)
        self.joiner = Joiner(20_000)
        self.keeper = Keeper(recorder, self.joiner, options.user_parts)
        self.fetched = 0
        self.reads_sitemaps = True
        self.named = start  # credentials are for where it was named, whatever that redirects to
        self.ahead: dict[str, Answer] = {}  # answers of pages whose turn comes later
        self._heard: dict[int, bytes] = {}
        self._waiting: deque[_Page] = deque()
        self._barred_read: dict[tuple[str, int], int] = {}
        self._waiting_octets = 0
        self._silence = Silence(self._is_there, self._keep_silence)
        self.lost = self._silence.lost
        self.robots: dict[str, Answer] = {}
        self._robots_locks: dict[str, asyncio.Lock] = {}
        self._variant_origins: frozenset[str]
        self.move(start)
        self.asked_before: list[tuple[str, str]] = []  # origins and roles: theirs may be the line that was fixed
        self.left: list[Left] = []  # of a snapshot that is gone on with
        self.made_up: MadeUp
        self._parsing = 0
        self._open = 0
        self._changed: asyncio.Event
        self._executor = ThreadPoolExecutor(pool.size)
        self.interrupted = False
        self.limit_hit = False  # whether addresses were left unread because of the limit that was asked for
        self._may_be_sitemaps: list[str] = []
        self._collector: SitemapCollector

    def move(self, start: str) -> None:
        """Take this for the start page; the variants of its host are tried once, unless it was declared."""
        self.start = start
        declared = site_key(start) in self.options.hosts
        self._variant_origins = frozenset() if declared else frozenset(origin_of(v) for v in variants(start))

    def gather(self) -> None:
        """Run to the end. Raises AuditCutShort or Interrupted after keeping what was gathered."""
        before = signal.getsignal(signal.SIGTERM)
        try:
            asyncio.run(self._gather())
        finally:
            with contextlib.suppress(ValueError):  # not in the main thread
                signal.signal(signal.SIGTERM, before)

    async def _gather(self) -> None:
        self._changed = asyncio.Event()
        loop = asyncio.get_running_loop()
        with contextlib.suppress(NotImplementedError, RuntimeError, ValueError):
            for wish in (signal.SIGINT, signal.SIGTERM):
                loop.add_signal_handler(wish, self._interrupt)
        scheme = split(self.start).scheme
        own = [origin_of(self.named), *(f"{scheme}://{host}" for host in self.options.hosts)]
        async with Fetcher(self.options, own) as self.fetcher:
            self.made_up = MadeUp(self.fetcher, self.gate, self.recorder, self.joiner)
            main = asyncio.ensure_future(self._run())
            watch = asyncio.ensure_future(self._watch_interrupt(main))
            try:
                await main
            except asyncio.CancelledError:
                if not self.interrupted:
                    raise
            finally:
                watch.cancel()
                self.recorder.commit(force=True)
                self._executor.shutdown(wait=False, cancel_futures=True)
        self._say_how_it_ended()

    def _interrupt(self) -> None:
        self.interrupted = True
        self._stir()

    async def _watch_interrupt(self, main: asyncio.Future[None]) -> None:
        """After an interruption give requests and parsers under way a moment, then end."""
        while not self.interrupted:
            await asyncio.sleep(0.1)
        for _ in range(round(GRACE * 10)):
            await asyncio.sleep(0.1)
            if not self._waiting and not self._parsing:
                break
        main.cancel()

    def _say_how_it_ended(self) -> None:
        if self.interrupted:
            raise Interrupted("interrupted: what was gathered is kept; `--resume` goes on from there")
        if self.lost:
            host, last = next(iter(self.lost.items()))
            why = last.error or "no response"
            if last.failure is Failure.NO_HOST:
                raise AuditCutShort(f"{host}: there is no such host; check how the name is written")
            raise AuditCutShort(f"{host} stopped answering ({why}): run again with `--resume` when it is back")

    async def _run(self) -> None:
        fresh = not take_up(self)
        origin, stage = origin_of(self.start), self.options.progress.stage
        stage(f"asking {split(self.start).host} for robots.txt")
        await self.learn_robots(origin, "site")
        if fresh:
            if self._host_is_down(origin):
                return
            if site_key(self.start) not in self.options.hosts:
                await settle(self)
                origin = origin_of(self.start)
            await self.made_up.ask(origin)
            for host in self.options.hosts:
                await self._declared_host(host)
        for host, role in self.asked_before:
            if role != "variant" or await self._is_there(host + "/"):
                await self.learn_robots(host, role)
        known = sorted(await self.made_up.ask_again(self.options.only or ()))
        self._enqueue([*self.recorder.of_site(self.options.also, self.start), self.start, *known], 0)
        if fresh or self.options.only is not None:
            if self.options.as_crawlers:
                await robots_as_crawlers(self.fetcher, self.recorder, self.options.crawlers, origin)
            await self._sitemaps(origin)
        if fresh:
            self._given()
        await self._crawl()
        if self.options.follow_links:
            await self._crawl_more(origin, fresh)
        if self.options.render and not self.lost and not self.interrupted:
            from indrel.sources.live_rendering import render_site

            await render_site(self)
        if self.options.only is None:
            frontier = self.frontier
            self.recorder.writer.set_meta(
                bounded=frontier.bounded(), copies=frontier.copied(), spaces=frontier.spaces()
            )
        if not self.lost and not self.interrupted:
            await self._beside(origin)

    async def _beside(self, origin: str) -> None:
        """What is asked for once the pages are there."""
        stage = self.options.progress.stage
        if self.options.only is None and self.options.follow_links:
            await self.made_up.ask_sections(origin)
        if self.options.as_crawlers:
            stage("requesting again under the crawlers' names")
            await Comparison(self.fetcher, self.recorder, self.pool, self._executor, self.options, self._heard).run()
        stage("asking the hosts of scripts and styles for robots.txt")
        for host in resource_hosts(self.recorder):
            if host not in self.gate:
                await self.learn_robots(host, "resource")

    def _host_is_down(self, origin: str) -> bool:
        """Whether nothing answers at the host at all; then the audit has nothing to go on."""
        answer = self.robots[origin]
        if answer.status is not None or answer.failure not in DOWN:
            return False
        self.lost[split(self.start).host] = answer
        self.recorder.writer.add("given", [(self.recorder.id(self.start), "start")])
        return True

    def keep_aside(self, answer: Answer) -> None:
        """Record an answer that is no page of the site: nothing of it is read or followed."""
        self._open += 1
        self._keep(answer, 0, 0, follow=False, parse=False)

    async def _declared_host(self, host: str) -> None:
        scheme = split(self.start).scheme
        url = normalise(f"{scheme}://{host}/")
        if url and not self.reads_sitemaps:
            await self.learn_robots(origin_of(url), "site")
        elif url:
            self.recorder.writer.add("given", [(self.recorder.id(url), "host")])
            await self.learn_robots(origin_of(url), "site")
            await self.made_up.ask(origin_of(url))
            self._enqueue([url], 0)

    def _given(self) -> None:
        self.recorder.give(self.start if self.reads_sitemaps else None, self.options.also)
        self.recorder.commit(force=True)
        self.recorder.writer.set_meta(prepared=True)

    async def _crawl_more(self, origin: str, fresh: bool) -> None:
        """What shows itself once the pages are there: more sitemaps, and pages that are missing."""
        if fresh and await self._linked_sitemaps(origin):
            await self._crawl()
        if self._were_there():
            await self._crawl()
        if self.options.only is None and await once_more(self):
            await self._crawl()
            self.recorder.writer.set_meta(asked_twice=not self.lost and not self.interrupted)

    def _were_there(self) -> bool:
        """Queue what an earlier audit knew and nothing leads to any more: a page that is gone is named by no link; whether
        there was any. What stood at another variant of the host has moved with the site."""
        if self.lost or self.interrupted:
            return False
        known, seen, on_site = self.recorder.known, self.frontier.seen, self.recorder.on_site
        new = [url for url in self.options.before(self.start) if known(url) not in seen and on_site(url)]
        left = [url for url in new if origin_of(url) not in self._variant_origins]
        if self.options.limit is not None:  # it is for what the site leads to
            left = left[: max(0, self.options.limit - self.fetched)]
        self.recorder.writer.add("given", [(self.recorder.id(url), "before") for url in left])
        self._enqueue(left, 0)
        return bool(left)

    # ---------------------------------------------------------------- robots.txt, sitemaps, URLs that cannot exist

    async def learn_robots(self, origin: str, role: str, silent: bool = False) -> None:
        """Fetch a host's robots.txt once, following redirects across hosts (RFC 9309 section 2.3.1).

        With `silent`, a host that does not respond at all is not recorded: it is no part of the site.
        """
        async with self._robots_locks.setdefault(origin, asyncio.Lock()):
            if origin in self.gate:
                return
            hops, answer = await follow_robots(self.fetcher, f"{origin}/robots.txt")
            if silent and answer.status is None:
                return
            if answer.failure is Failure.NOT_ASKED or (answer.failure is Failure.NO_HOST and role != "site"):
                self.robots[origin] = answer
                self.recorder.writer.add("robots", [robots_row(origin, None, role, why=answer.error)])
                self.gate.learn(origin, 404, 0, b"")  # it is not requested, or not there: it blocks nothing
                return
            if role == "site" and origin in self._variant_origins:
                role = "variant"  # anyone who leads there: a canonical, a link
            self.robots[origin] = answer
            self.recorder.writer.add("robots", [robots_row(origin, answer, role, hops=hops)])
            self.gate.learn(origin, answer.status, len(hops), answer.body)

    async def _sitemaps(self, origin: str) -> None:
        if not self.reads_sitemaps:
            return
        self.options.progress.stage("reading sitemaps")
        collector = self._collector = SitemapCollector(self.fetcher, self.recorder, self.made_up.hashes.get(origin))
        announced = []
        for one in [origin, *(o for o in self.robots if o != origin and self.recorder.on_site(o + "/"))]:
            answer = self.robots[one]
            file = parse_robots(answer.body if answer.status == 200 else b"")
            announced += [(line.value, one, line.line) for line in file.sitemaps]
        found = await collector.collect(usual_folders(self.start), announced)
        self._sitemap_urls = [url for url in found if self.recorder.on_site(url)]
        self._enqueue(spread(self._sitemap_urls, self.options.limit), 0)

    async def _linked_sitemaps(self, origin: str) -> bool:
        """Read linked and given addresses whose bodies may be sitemaps; whether any was one."""
        found = await self._collector.linked(self._may_be_sitemaps[:MAY_BE_SITEMAPS])
        self._enqueue([url for url in found if self.recorder.on_site(url)], 0)
        return bool(found)

    # ---------------------------------------------------------------- pages

    async def crawl_on(self, urls: Iterable[str], sources: Sequence[str]) -> bool:
        """Crawl from addresses that pages of these patterns named late; whether any was new."""
        if self.options.follow_links:
            self._enqueue(urls, 1, 0, sources)
        if not self.frontier.queue or self.interrupted:
            return False
        await self._crawl()
        return not self.lost

    def again(self, number: int, url: str) -> None:
        """Queue a URL of which everything was forgotten."""
        self.frontier.seen.discard(number)
        self.fetched -= 1
        self._enqueue([url], 0)

    def _enqueue(self, urls: Iterable[str], clicks: int, hops: int = 0, sources: Sequence[str] | None = None) -> None:
        for url in urls if self.options.only is None else (u for u in urls if u in self.options.only):
            if self.frontier.add(self.recorder.id(url), url, clicks, hops, sources):
                self._open += 1
                self._stir()

    async def _crawl(self) -> None:
        for url, sources, copy in self.left:
            if copy is None:
                self._enqueue([url], 0, 0, sources)
            else:
                self.frontier.leave(self.recorder.id(url), copy)
        self.left = []
        workers = [asyncio.ensure_future(self._fetch_pages()) for _ in range(max(1, self.options.parallel))]
        parsers = [asyncio.ensure_future(self._parse_pages()) for _ in range(self.pool.size)]
        try:
            while self._open and not self.interrupted and not any(t.done() for t in (*workers, *parsers)):
                await self._wait()  # a task that is done has failed: waiting for it would never end
            while self.interrupted:  # until the watch ends this task
                await asyncio.sleep(0.1)
        finally:
            for task in [*workers, *parsers]:
                task.cancel()
            for outcome in await asyncio.gather(*workers, *parsers, return_exceptions=True):
                if isinstance(outcome, Exception):
                    raise outcome
        self._silence.end()

    def _stir(self) -> None:
        """Wake all who wait for something to do, or for the end."""
        self._changed.set()
        self._changed = asyncio.Event()

    async def _wait(self) -> None:
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(0.5):  # wait_for could lose a cancellation that comes with the event
                await self._changed.wait()

    async def _fetch_pages(self) -> None:
        """One of `parallel` fetchers: take the next address, fetch it, hand it on."""
        while True:
            ahead = self._waiting_octets > WAITING_OCTETS or len(self._waiting) > WAITING_PAGES
            if not self.frontier.queue or self.interrupted or ahead:
                await self._wait()
                continue
            url, clicks, hops = self.frontier.queue.popleft()
            if self.options.limit is not None and self.fetched >= self.options.limit:
                self.limit_hit = True
                self._done_one()
                continue
            try:
                await self._fetch_page(url, clicks, hops)
            except Exception as error:  # whatever it is, it is this page's: the audit goes on
                log.debug("%s could not be fetched", url, exc_info=True)
                if self.recorder.id(url) not in self.frontier.seen:
                    self._keep_silence(Answer(url, None, explain(error)))
                self._done_one()

    async def _fetch_page(self, url: str, clicks: int, hops: int) -> None:
        parts = split(url)
        if parts.origin not in self.gate:
            await self.learn_robots(parts.origin, "site" if self.recorder.on_site(url) else "hop")
        if not self.fetcher.serves(url):
            self._done_one()
            return
        allowed = self.gate.allows(parts.origin, parts.path)
        if parts.host in self.lost or not (allowed or self._may_read_barred(url)):
            self._done_one()
            return
        self.fetched += 1
        answer = self.ahead.pop(url, None) or await self.fetcher.get(url, MAX_PAGE, bodies=False)
        if self.interrupted and answer.status is None:
            self._done_one()
            return
        if answer.status is None:
            await self._silence.count(parts.host, answer)
            self._done_one()
            return
        self._silence.answered(parts.host)
        self._keep(answer, clicks, hops, follow=allowed)

    async def _is_there(self, url: str) -> bool:
        """Pages may be slow where their host is not."""
        return (await self.fetcher.get(origin_of(url) + "/", STEP, tries=1, bodies=False)).status is not None

    def _keep_silence(self, answer: Answer) -> None:
        self.recorder.writer.add(
            "answer", [self.recorder.answer_row(answer.url, None, error=answer.error or "no response")]
        )

    def _may_read_barred(self, url: str) -> bool:
        """With `--read-barred`, some addresses of each rule are read once; nothing is followed from them."""
        if not self.options.read_barred or not self.recorder.on_site(url):
            return False
        key = self.gate.barring(url)
        if key is None:
            return False
        count = self._barred_read[key] = self._barred_read.get(key, 0) + 1
        return count <= BARRED_A_RULE

    def _keep(self, answer: Answer, clicks: int, hops: int, follow: bool = True, parse: bool = True) -> None:
        """Record an answer; hand HTML to the parsers, follow a redirect."""
        row, task = self.keeper.keep(answer, parse)
        number = self.recorder.id(answer.url)
        self.frontier.seen.add(number)
        if self.options.as_crawlers:
            self._heard[number] = digest(answer)
        if answer.target and follow and (self.recorder.on_site(answer.target) or hops < MAX_HOPS):
            self._enqueue([answer.target], clicks, hops + 1, [self.frontier.shape(answer.url)])
        media = answer.header("content-type") or ""
        if answer.status == 200 and (
            "/xml" in media or (answer.url.endswith((".xml", ".xml.gz")) and "html" not in media)
        ):
            self._may_be_sitemaps.append(answer.url)
        if task:
            self._waiting.append(_Page(task, clicks, row, follow))
            self._waiting_octets += len(answer.body)
            self._open += 1
            self._stir()
        self._done_one()

    def _done_one(self) -> None:
        self._open -= 1
        self.recorder.commit()
        if self._open <= 0:
            self._stir()

    async def _parse_pages(self) -> None:
        """One of the parser dispatchers: take what waits, parse it, queue what it mentions."""
        loop = asyncio.get_running_loop()
        while True:
            if not self._waiting:
                await self._wait()
                await asyncio.sleep(GATHER)  # what arrives meanwhile goes along: a batch costs as much as a page
                continue
            batch: list[PageTask] = []
            clicks, rows, octets, follow = MAX_CLICKS, [], 0, self._waiting[0].follow
            while self._waiting and len(batch) < BATCH_PAGES and octets < BATCH_OCTETS:
                if self._waiting[0].follow is not follow:
                    break
                page = self._waiting.popleft()
                batch.append(page.task)
                rows.append(page.row)
                clicks = min(clicks, page.clicks)
                octets += len(page.task.data)
            pages = {task.page: task.url for task in batch}
            self._parsing += 1
            self._stir()
            answers = await loop.run_in_executor(self._executor, self.pool.parse, batch)
            self._parsing -= 1
            self._waiting_octets -= octets
            self._stir()
            self.recorder.writer.add("answer", rows)
            for parsed in answers:
                mentioned = self.recorder.parsed(parsed, self.frontier.seen)
                if self.options.follow_links and follow:
                    worn = self.frontier.worn(self.recorder.texts(parsed), pages)
                    for url, sources in mentioned.items():
                        named = [self.frontier.shape(pages[n]) for n in sources if n not in worn]
                        if named:
                            self._enqueue([url], clicks + 1, 0, named)
                        else:
                            self.frontier.leave(self.recorder.id(url), worn[min(sources)])
            self.options.progress.update(self.recorder.pages, len(self.frontier.queue), split(self.start).host)
            for _ in batch:
                self._done_one()

    def is_silent(self, origin: str) -> bool:
        """Whether nothing answered when a host was asked for its robots.txt."""
        return origin in self.robots and self.robots[origin].status is None
