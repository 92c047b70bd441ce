"""Asks pages again under the names of the audited crawlers, and keeps in what their answers differ."""

from __future__ import annotations

import asyncio
import hashlib
from collections.abc import Iterable, Mapping
from concurrent.futures import Executor
from typing import Any, NamedTuple

from indrel.core.address import normalise
from indrel.core.crawlers import STAR, Crawler
from indrel.core.page.facts import header_canonicals, header_directives
from indrel.core.page.headers import XHTML, content_type, is_html
from indrel.core.robots.file import READ_BYTES
from indrel.gather.answers import Answer
from indrel.gather.parsing import MAX_PAGE, PageTask, ParserPool
from indrel.gather.recorder import Recorder
from indrel.snapshot.schema import place
from indrel.sources.fetch import Fetcher
from indrel.sources.options import GatherOptions

LINKS_DIFFER = 0.1
"""Share of a page's links from which on they count as different: some change with every visit."""

AT_ONCE = 64


class Said(NamedTuple):
    """What one answer says, in words that can be compared."""

    status: str
    robots: str
    canonical: str
    links: frozenset[str]


_COMPARED = ("content-type", "x-robots-tag", "link", "location")


def digest(answer: Answer) -> bytes:
    """What a comparison looks at, in 16 bytes: answers with the same digest do not differ."""
    made = hashlib.blake2b(repr([answer.status, *map(answer.headers.get, _COMPARED)]).encode(), digest_size=16)
    made.update(answer.body)
    return made.digest()


class Comparison:
    """Compares what an audit was answered with what each crawler is, page by page.

    `heard` are the digests of what the audit was answered, by address: a page that answers a crawler alike is
    not asked for again.
    """

    def __init__(
        self,
        fetcher: Fetcher,
        recorder: Recorder,
        pool: ParserPool,
        executor: Executor,
        options: GatherOptions,
        heard: Mapping[int, bytes],
    ) -> None:
        self.fetcher = fetcher
        self.recorder = recorder
        self.pool = pool
        self.executor = executor
        self.options = options
        self.heard = heard

    async def run(self) -> None:
        """Ask for every page that was read, as each crawler that has a name."""
        self.recorder.commit(force=True)
        rows = self.recorder.writer.con.execute(
            """SELECT a.id, a.origin || a.path FROM answer n JOIN address a ON a.id = n.address
            WHERE a.site AND n.status IS NOT NULL AND a.id NOT IN (SELECT address FROM given WHERE why = 'variant')
            ORDER BY a.id"""
        ).fetchall()
        only = self.options.only
        rows = [(number, url) for number, url in rows if only is None or url in only]
        named = [c for c in self.options.crawlers if c.token != STAR]
        gate = asyncio.Semaphore(max(1, self.options.parallel))

        async def one(number: int, url: str) -> None:
            async with gate:
                await self._compare(number, url, named)

        for at in range(0, len(rows), AT_ONCE):
            await asyncio.gather(*(one(*row) for row in rows[at : at + AT_ONCE]))
            self.recorder.commit()

    async def _compare(self, number: int, url: str, named: list[Crawler]) -> None:
        heard, ours = self.heard.get(number), None
        read: dict[bytes, Said] = {}
        for crawler in named:
            answer = await self._get(url, crawler)
            if digest(answer) == heard:
                continue
            theirs = await self._said(answer, read)
            ours = ours or await self._said(await self._get(url), read)
            differing = differences(ours, theirs)
            if not differing:
                continue
            again, ours_again = [await self._said(await self._get(url, one), read) for one in (crawler, None)]
            lasting = {
                what
                for what in differing
                if not differences(ours, ours_again).keys() & {what} and what in differences(ours_again, again)
            }
            rows = [(crawler.token, number, what, *differing[what]) for what in sorted(lasting)]
            self.recorder.writer.add("as_crawler", rows)

    async def _get(self, url: str, crawler: Crawler | None = None) -> Answer:
        agent = f"{crawler.name}/1.0" if crawler else None
        return await self.fetcher.get(url, MAX_PAGE, tries=1, bodies=False, agent=agent)

    async def _said(self, answer: Answer, read: dict[bytes, Said]) -> Said:
        """What an answer says; what was `read` before says the same again."""
        robots = tuple(answer.headers.get("x-robots-tag", ()))
        links = tuple(answer.headers.get("link", ()))
        media, charset = content_type(answer.header("content-type"))
        if answer.status == 200 and is_html(media):
            key = digest(answer)
            if key not in read:
                read[key] = await self._read(
                    PageTask(0, answer.url, answer.body, charset, robots, links, (), media == XHTML)
                )
            return read[key]
        canonicals = ", ".join(sorted({c.url for c in header_canonicals(list(links), answer.url) if c.url})) or "none"
        told = _robots((d.scope, d.tokens.known) for d in header_directives(list(robots)))
        return Said(_status(answer), told, canonicals, frozenset())

    async def _read(self, task: PageTask) -> Said:
        loop = asyncio.get_running_loop()
        parsed = (await loop.run_in_executor(self.executor, self.pool.parse, [task]))[0]
        scope, tokens, void = (place("directive", column) for column in ("scope", "tokens", "void"))
        to, in_body = place("canonical", "target"), place("canonical", "in_body")
        return Said(
            "200",
            _robots((row[scope], row[tokens]) for row in parsed.directives if row[void] is None),
            ", ".join(
                sorted({parsed.urls[row[to]] for row in parsed.canonicals if row[to] is not None and not row[in_body]})
            )
            or "none",
            frozenset(parsed.urls[i] for i in parsed.links.target),
        )


def _status(answer: Answer) -> str:
    if answer.status is None:
        return f"no response ({answer.error})"
    target = normalise(answer.header("location") or "", answer.url) if answer.redirects else None
    return f"{answer.status} to {target}" if target else str(answer.status)


def _robots(pairs: Any) -> str:
    told = sorted({(f"{scope}: " if scope else "") + ", ".join(tokens) for scope, tokens in pairs if tokens})
    return "; ".join(told) or "none"


def differences(ours: Said, theirs: Said) -> dict[str, tuple[str, str]]:
    """In what two answers differ: by name (status, robots, canonical, links) both sides in words."""
    if ours.status != theirs.status:
        return {"status": (ours.status, theirs.status)}
    found = {}
    for what in ("robots", "canonical"):
        one, other = getattr(ours, what), getattr(theirs, what)
        if one != other:
            found[what] = (one, other)
    apart = ours.links ^ theirs.links
    if len(apart) > LINKS_DIFFER * max(1, len(ours.links | theirs.links)):
        example = min(apart)
        side = "only others get" if example in ours.links else "only it gets"
        found["links"] = (f"{len(ours.links)} links", f"{len(theirs.links)} links; {side} {example}")
    return found


async def robots_as_crawlers(fetcher: Fetcher, recorder: Recorder, crawlers: Iterable[Crawler], origin: str) -> None:
    """Request robots.txt again under the name of each audited crawler, and record the responses."""
    for crawler in crawlers:
        if crawler.token != STAR:
            answer = await fetcher.get(f"{origin}/robots.txt", READ_BYTES, agent=f"{crawler.name}/1.0")
            recorder.writer.add("robots_as", [(crawler.token, answer.status, answer.body)])
