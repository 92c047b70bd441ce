"""Which pages are looked at with a browser, for whom, and what is kept of it."""

from __future__ import annotations

import asyncio
import hashlib
import logging
from collections.abc import AsyncIterator, Callable, Iterable
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, NamedTuple

from indrel.core import crawlers
from indrel.core.address import Joiner, split
from indrel.core.model import plural
from indrel.core.page.facts import SHELL_WORDS, Link, PageFacts
from indrel.core.page.headers import XHTML, content_type, is_html
from indrel.core.page.html import read_page
from indrel.core.page.rendered import EMPTY, ERROR, NONE, OK, Rendered, outcome_of, read_seen
from indrel.gather.answers import Answer
from indrel.gather.recorder import Recorder
from indrel.sources.browser.answering import CAPPED, FAILED, REFUSED, UNKNOWN, WITHHELD, Answers, Wish
from indrel.sources.browser.launch import find
from indrel.sources.browser.look import Look
from indrel.sources.browser.tabs import ENDED, LOST, Tabs

if TYPE_CHECKING:
    from indrel.sources.options import GatherOptions

SAMPLE = 5
"""Pages of one section with the same scripts that are looked at before it is known whether they are alike."""

ODD_WORDS = 40
"""Pages with fewer words of their own as served look odd, and are looked at."""

PROBED = 2
"""Pages of a group that are scrolled and pressed too."""

VISITED = 3
"""Pages of a group that come out wrong, and are looked at again after a visit to the start page."""

ERRORS_LOOKED_AT = 25
PICTURES = 20
MOST_LOST = 50
"""Links of the served page that are kept as gone once it is rendered."""

ANCHORS = ("href", "hash", "rel")
"""The kinds of slips that anchors made by scripts can be."""

MOST_CLASSES = 4
"""Sets of crawlers that robots.txt lets have different parts of one page, and that it is looked at for."""

PAGES_A_SECOND = 4
"""What a browser manages, about; said beforehand."""


log = logging.getLogger("indrel")


@dataclass
class Group:
    """Pages of one section with the same scripts."""

    number: int
    name: str
    pages: list[tuple[int, str]] = field(default_factory=list)
    odd: list[tuple[int, str]] = field(default_factory=list)
    looked: set[int] = field(default_factory=set)
    seen: set[tuple[str, bool]] = field(default_factory=set)
    visited: int = 0
    changed: int = 0
    """Pages that answered otherwise when they should be looked at."""

    @property
    def differs(self) -> bool:
        """Whether its samples have links of their scripts, or differ among themselves: then all of it is looked at."""
        return len(self.seen) > 1 or any(links for _, links in self.seen)

    def next(self, everything: bool) -> list[tuple[int, str]]:
        """What should be looked at now: the first, the last and some that chance chose, the ones that look odd, or all."""
        if everything or self.differs:
            wanted = self.pages
        else:
            by_chance = sorted(self.pages, key=lambda p: hashlib.blake2b(p[1].encode(), digest_size=8).digest())
            first = [self.pages[0], self.pages[-1], *by_chance][: len(self.pages)]
            room = max(0, SAMPLE - len(self.looked))
            few = len(self.odd) <= max(SAMPLE, len(self.pages) // 5)  # else it is what pages of this sort are like
            odd = self.odd if few else []
            wanted = [*[p for p in dict.fromkeys(first) if p[0] not in self.looked][:room], *odd]
        return [p for p in dict.fromkeys(wanted) if p[0] not in self.looked]


class Chosen(NamedTuple):
    """A page to look at. `probe`: it is scrolled and pressed too; `error`: it is one that answers an error."""

    number: int
    url: str
    group: Group
    probe: bool
    error: bool


class Rendering:
    """Looks at a snapshot's pages round by round, until nothing is new."""

    def __init__(
        self,
        tabs: Tabs,
        answers: Answers,
        recorder: Recorder,
        options: GatherOptions,
        start: str,
        stop: Callable[[], bool],
    ) -> None:
        self.tabs = tabs
        self.answers = answers
        self.recorder = recorder
        self.options = options
        self.start = start
        self.stop = stop
        self.everyone = (1 << len(options.crawlers)) - 1
        self.taken = 0
        self.left = 0
        self._before: list[Any] = (recorder.writer.meta.get("rendered") or {}).get("groups") or []
        self._groups: dict[tuple[str, str, int], Group] = {}
        self._known: set[int] = set()
        self._errors: set[str] = set()
        self._pictures = 0
        self._told = 0  # pages of which the reader was told; again once they are twice as many
        self.unviewed = 0
        """Pages that were chosen and not viewed, because the browser ended or the audit was interrupted."""

        self._joiner = Joiner(20_000)

    async def round(self) -> list[str]:
        """Look at what is new and chosen; the addresses on the site that only rendered pages link to."""
        self.recorder.commit(force=True)
        await self._learn()
        found: dict[str, None] = {}
        while chosen := self._choose():
            pace = PAGES_A_SECOND * self.tabs.size / 2
            known = sum(len(g.pages) for g in self._groups.values())
            tell = self.options.progress.note if known >= 2 * self._told else self.options.progress.stage
            self._told = max(self._told, known)
            tell(
                f"looking at {len(chosen)} of the {known:,} pages found so far that run scripts, with a browser "
                f"(about {max(1, round(len(chosen) / pace))} s)"
            )
            for start in range(0, len(chosen), 4 * self.tabs.size):
                if self.stop() or self.tabs.ended:
                    self.unviewed += len(chosen) - start
                    return list(found)
                batch = chosen[start : start + 4 * self.tabs.size]
                for urls in await asyncio.gather(*(self._one(page) for page in batch)):
                    found |= dict.fromkeys(urls)
                self.recorder.commit()
        return list(found)

    async def made_up(self) -> None:
        """Look at the URLs that cannot exist, where they get a shell: what that shows is what missing pages show."""
        probes = self.recorder.writer.con.execute(
            "SELECT origin, url FROM probe WHERE folder IS NULL AND final_status = 200 AND status = 200 ORDER BY origin"
        ).fetchall()
        found = {}
        for origin, url in probes:
            document = await self.answers.get(Wish(url, "document", "GET", {}, None))
            media, charset = content_type(document.header("content-type"))
            if document.status != 200 or not is_html(media):
                continue
            served = read_page(document.body, url, charset, self._joiner, crawlers.is_known, xhtml=media == XHTML)
            if (served.own_words or 0) > SHELL_WORDS:
                continue
            look = await self.tabs.look(url, document, self.everyone)
            seen = read_seen(look.seen, crawlers.is_known) if look.seen is not None and look.leads_to is None else None
            if seen is not None and seen.words:
                found[origin] = seen.text_hash
        self.recorder.writer.set_meta(missing_views=found)

    def finish(self) -> None:
        """Keep how many pages of which groups were looked at."""
        groups = [*self._before, *([g.name, len(g.pages), len(g.looked) - g.changed] for g in self._groups.values())]
        self.recorder.writer.set_meta(
            rendered={
                "mode": self.options.render, "groups": groups, "left": self.left, "browser": self.tabs.browser.version,
                "unviewed": self.unviewed,
            }
        )  # fmt: skip
        if self.unviewed:
            why = ENDED if self.tabs.ended else LOST
            self.recorder.unviewed = f"{plural(self.unviewed, 'page')} chosen for --render could not be rendered: {why}"

    # ---------------------------------------------------------------- which

    async def _learn(self) -> None:
        """Put the pages that are new into their groups."""
        rows = self.recorder.writer.con.execute(
            """SELECT p.address, a.origin || a.path, a.origin, p.scripts, p.own_words, p.own_links, n.status
            FROM page p JOIN address a ON a.id = p.address JOIN answer n ON n.address = p.address
            WHERE a.site AND p.scripts IS NOT NULL AND p.refresh IS NULL AND n.status = 200
            AND p.address NOT IN (SELECT address FROM render) AND p.address NOT IN (SELECT address FROM given WHERE why = 'variant')
            UNION ALL
            SELECT n.address, a.origin || a.path, a.origin, -1, 0, 0, n.status FROM answer n JOIN address a ON a.id = n.address
            WHERE a.site AND n.status BETWEEN 400 AND 599 AND n.status NOT IN (401, 407, 429, 503) AND contains(n.media_type, 'html')
            AND (n.address IN (SELECT target FROM link) OR n.address IN (SELECT address FROM entry)
                OR n.address IN (SELECT address FROM given))
            AND EXISTS (SELECT 1 FROM page p JOIN address s ON s.id = p.address WHERE s.origin || s.path = ? AND p.scripts IS NOT NULL)
            ORDER BY 2""",
            [self.start],
        ).fetchall()
        for number, url, origin, scripts, words, links, status in rows:
            if number in self._known or await self.answers.barred(url) == self.everyone:
                continue
            self._known.add(number)
            piece = _section(url)
            if status >= 400:
                if len(self._errors) >= ERRORS_LOOKED_AT:
                    continue
                self._errors.add(url)
            key = (origin, piece, scripts)
            group = self._groups.setdefault(key, Group(len(self._before) + len(self._groups), piece))
            group.pages.append((number, url))
            if status >= 400 or url == self.start or (words or 0) < ODD_WORDS or not links:
                group.odd.append((number, url))

    def _choose(self) -> list[Chosen]:
        everything = self.options.render == "all"
        chosen = []
        for group in self._groups.values():
            for number, url in group.next(everything):
                if self.options.only is not None and url not in self.options.only:
                    continue
                if self.taken >= self.options.render_limit:
                    self.left += 1
                    continue
                probe = len(group.looked) < PROBED or url == self.start
                chosen.append(Chosen(number, url, group, probe, url in self._errors))
                group.looked.add(number)
                self.taken += 1
        return chosen

    # ---------------------------------------------------------------- one page

    async def _one(self, page: Chosen) -> list[str]:
        """Look at a page; whatever goes wrong is this page's: the audit goes on."""
        try:
            return await self._look(page)
        except Exception as error:
            log.debug("%s could not be rendered", page.url, exc_info=True)
            nothing = Look(page.url, None, why=f"the look failed ({type(error).__name__})")
            return await self._keep(page, Answer(page.url, None), PageFacts(), nothing, self.everyone, False)

    async def _look(self, page: Chosen) -> list[str]:
        """Look at a page for all crawlers, and again for the ones that robots.txt lets have less of it."""
        document = await self.answers.get(Wish(page.url, "document", "GET", {}, None))
        media, charset = content_type(document.header("content-type"))
        if document.status is None or document.redirects or not (is_html(media) or not media):
            page.group.changed += 1
            return []  # it is no longer what was read
        served = read_page(document.body, page.url, charset, self._joiner, crawlers.is_known, xhtml=media == XHTML)
        first = await self._looked(page, document, self.everyone, page.probe)
        if first.why in (
            LOST,
            ENDED,
        ):  # the browser's fault, not the page's: nothing is known, and resuming tries again
            self.unviewed += 1
            page.group.changed += 1
            return []
        whole, others = self._classes(first)
        links: list[str] = []
        if whole:
            links = await self._keep(page, document, served, first, whole, True)
        for n, mask in enumerate(others):
            look = await self._looked(page, document, mask, page.probe and not whole and n == 0)
            found = await self._keep(page, document, served, look, mask, not whole and n == 0)
            links = links or found
        return links

    async def _looked(self, page: Chosen, document: Answer, mask: int, probe: bool) -> Look:
        """Look at a page; one that comes out wrong is looked at once more, with patience: it may be the machine that is slow."""
        look = await self.tabs.look(page.url, document, mask, probe=probe, picture=self.options.render_pictures)
        if _outcome_of(look) not in (EMPTY, ERROR) or look.why or _not_known(look):
            return look
        patient = (look.status or 200) < 400
        picture = self._pictures < PICTURES and look.picture is None
        self._pictures += picture
        if patient or picture:
            again = await self.tabs.look(page.url, document, mask, picture=picture, patient=patient)
            if _outcome_of(again) == OK:
                return again
            look.picture = look.picture or again.picture
        return look

    def _classes(self, look: Look) -> tuple[int, list[int]]:
        """The crawlers that may have all that a look was given, and the sets of the ones that each may have less."""
        partial = sorted({a.url: a.mask for a in look.asked if a.mask and a.mask != self.everyone}.items())
        if not partial:
            return self.everyone, []
        classes: dict[tuple[bool, ...], int] = {}
        for i in range(len(self.options.crawlers)):
            key = tuple(bool(mask >> i & 1) for _, mask in partial)
            classes[key] = classes.get(key, 0) | 1 << i
        whole = classes.pop((False,) * len(partial), 0)
        return whole, sorted(classes.values(), key=lambda m: (-m.bit_count(), m))[:MOST_CLASSES]

    async def _keep(
        self, page: Chosen, document: Answer, served: PageFacts, look: Look, mask: int, main: bool
    ) -> list[str]:
        """Keep what a look for the crawlers of a mask saw; from the `main` one come the links, given back if on the site."""
        add, number, group = self.recorder.writer.add, page.number, page.group
        seen = read_seen(look.seen, crawlers.is_known) if look.seen is not None else None
        outcome = _outcome(look, seen)
        if outcome in (EMPTY, ERROR) and (absent := _not_known(look)):
            outcome, look.why = NONE, f"it needs {absent}, which {self.answers.lacks}"
        elif outcome in (EMPTY, ERROR) and look.why:
            outcome = NONE  # it was cut short: what it would have come to is not known
        visit = None
        if outcome in (EMPTY, ERROR) and page.url != self.start and look.leads_to is None and group.visited < VISITED:
            group.visited += 1
            again = await self.tabs.look(page.url, document, mask, visit=self.start)
            visit = _outcome_of(again.visited) if again.visited else None
        links = await self._links(page, served, look, seen) if main and seen else []
        if main and look.seen:
            self._slips(page, served, str(look.seen.get("markup") or ""))
        add(
            "render",
            [
                (
                    number, mask, outcome, look.why, seen.title if seen else None, seen.text_hash if seen else None,
                    seen.sketch if seen else None, seen.words if seen else None, seen.excerpt if seen else None,
                    served.own_words or 0, _says_error(served), self.recorder.id(look.leads_to) if look.leads_to else None,
                    look.errors, visit, len(seen.links) if seen else None, group.number, look.picture,
                )
            ],
        )  # fmt: skip
        self._directives(number, mask, seen)
        wanted = {REFUSED, FAILED, UNKNOWN, WITHHELD, CAPPED}
        requests = dict.fromkeys((a.url, a.kind, a.result, a.status, a.how) for a in look.asked if a.result in wanted)
        add(
            "render_request",
            [
                (number, mask, self.recorder.id(url), kind, result, status, how)
                for url, kind, result, status, how in requests
            ],
        )
        if not page.error:
            group.seen.add((outcome, bool(links)))
        return links

    def _slips(self, page: Chosen, served: PageFacts, markup: str) -> None:
        """Keep the anchors that scripts made and that do not do what they seem to, as those of the served page are kept."""
        if markup:
            known = {(slip.kind, slip.what) for slip in served.slips}
            found = read_page(markup.encode("utf-8", "replace"), page.url, "utf-8", self._joiner).slips
            fresh = [slip for slip in found if (slip.kind, slip.what) not in known and slip.kind in ANCHORS]
            self.recorder.writer.add("slip", [(page.number, s.kind, s.what, None, s.text) for s in fresh])

    def _directives(self, number: int, mask: int, seen: Rendered | None) -> None:
        if seen is None:
            return
        self.recorder.writer.add(
            "render_directive",
            [
                (number, mask, d.scope, d.tokens.noindex, d.tokens.nofollow, list(d.tokens.known), d.in_body, d.text)
                for d in seen.directives
            ],
        )
        self.recorder.writer.add(
            "render_canonical",
            [
                (number, mask, c.href, self.recorder.id(c.url) if c.url else None, c.fault, c.in_body, c.text)
                for c in seen.canonicals
            ],
        )

    async def _links(self, page: Chosen, served: PageFacts, look: Look, seen: Rendered) -> list[str]:
        """Keep the links that the served page has not; those on the site, as far as they may be had at once."""
        known = {link.url for link in served.links} | {page.url}
        fresh = _new(seen.links, known)
        self.recorder.writer.add(
            "link", [(page.number, self.recorder.id(link.url), link.flags, None, link.text) for link in fresh]
        )
        there = {link.url for link in seen.links}
        lost = sorted({link.url for link in served.links} - there - {page.url}) if look.leads_to is None else []
        self.recorder.writer.add(
            "render_link", [(page.number, self.recorder.id(url), 0, "lost", None) for url in lost[:MOST_LOST]]
        )
        known |= {link.url for link in fresh}
        for how, later in (("tall", look.tall), ("scroll", look.scrolled), ("click", look.pressed)):
            more = _new(read_seen(later, crawlers.is_known).links, known) if later else []
            more = [link for link in more if self.recorder.on_site(link.url)]
            self.recorder.writer.add(
                "render_link", [(page.number, self.recorder.id(k.url), k.flags, how, k.text) for k in more]
            )
            known |= {link.url for link in more}
        return [link.url for link in fresh if self.recorder.on_site(link.url)]


@asynccontextmanager
async def looking(
    answers: Answers, recorder: Recorder, options: GatherOptions, start: str, stop: Callable[[], bool]
) -> AsyncIterator[Rendering]:
    """A browser for one audit, and what was looked at kept in the end, however it came."""
    async with Tabs(find(options.browser), answers, options.sandbox, options.render_memory) as tabs:
        rendering = Rendering(tabs, answers, recorder, options, start, stop)
        try:
            yield rendering
        finally:
            rendering.finish()


def _new(links: Iterable[Link], known: set[str]) -> list[Link]:
    return [link for link in links if link.url not in known]


def _section(url: str) -> str:
    pieces = split(url).path.partition("?")[0].rstrip("/").split("/")
    return f"/{pieces[1]}/*" if len(pieces) > 2 else "/*"


def _outcome(look: Look, seen: Rendered | None) -> str:
    if seen is None:
        return NONE
    return ERROR if (look.status or 200) >= 400 else seen.outcome


def _not_known(look: Look) -> str | None:
    """What a page asked for and nothing answered, if nothing else explains how it comes out: then that is not known."""
    needed = [a for a in look.asked if a.how == "load" and a.kind in ("script", "data", "frame", "document")]
    if any(a.result == REFUSED or (a.result == FAILED and (a.status or 0) >= 500) for a in needed):
        return None
    return next((a.url for a in needed if a.result == UNKNOWN), None)


def _outcome_of(look: Look) -> str | None:
    """How a look came out; None where it could not be seen."""
    return _outcome(look, read_seen(look.seen, crawlers.is_known)) if look.seen is not None else None


def _says_error(served: PageFacts) -> bool:
    headings = [h for h in (served.heading, served.title) if h]
    return outcome_of(served.excerpt or "", headings, served.own_words or 0, True) == ERROR
