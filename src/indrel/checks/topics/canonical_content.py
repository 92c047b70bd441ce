"""Canonicals and content: pages that fold into unlike ones, and like ones that fold into nothing."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

from indrel.base.plain import code
from indrel.checks.catalogue import Follows, Hit, check
from indrel.checks.changes import EACH_ITSELF, NAMES_ITSELF
from indrel.checks.evidence import WHERE, canonicals, of_each
from indrel.checks.measures import MANY, MOST_NAMED
from indrel.checks.topics.canonical import Folding
from indrel.core.model import CheckClass, Evidence, Severity, listing, plural
from indrel.decide.site import Site
from indrel.decide.twins import WORDING, idle_parameters, open_twins

UNLIKE = 0.2
"""Share of words up to which two texts are clearly different."""

SHOWN_TWINS = 3
ENOUGH = 8
"""Words that both texts must have to be compared."""


def to_start(site: Site) -> dict[int, tuple[str, str]]:
    """Pages of hosts on which many unlike pages name the start page: page, start page."""
    rows = site.rows(
        """SELECT f.id, f.origin || f.path, t.origin || t.path FROM fact f JOIN fact t ON t.id = f.folds_to
        JOIN page p ON p.address = f.id LEFT JOIN page s ON s.address = t.id
        WHERE f.site AND f.fold_how = 'canonical' AND t.path = '/' AND split_part(f.path, '?', 1) <> '/'
        AND f.kind <> 'numbered-page' AND p.text_hash IS DISTINCT FROM s.text_hash ORDER BY f.origin, f.path"""
    )
    starts: dict[str, int] = {}
    for _, _, start in rows:
        starts[start] = starts.get(start, 0) + 1
    return {number: (url, start) for number, url, start in rows if starts[start] >= MANY}


@check(
    "canonical-to-start",
    CheckClass.BLOCKED,
    Severity.FIX,
    follows=Follows.NOTHING,
    feeds=("canonical-fold",),
    change=EACH_ITSELF,
)
def canonical_to_start(site: Site) -> Iterator[Hit]:
    """Many unlike pages name the start page as canonical.

    Why: All of them ask to be left out in favour of the start page; a template has a fixed address where its own belongs.
    Mend: Let the template print each page's own address.
    Rests on: RFC 6596 section 3: the canonical's content is the page's own or contains it.
    Evidence: The canonical.
    """
    found = to_start(site)
    tags = canonicals(site, found)
    barred = dict(site.rows("SELECT id, barred FROM fact WHERE barred > 0"))
    for number, (url, start) in found.items():
        mask = site.all_mask & ~barred.get(number, 0)
        if mask:
            message = f"names the start page as canonical, as {plural(len(found), 'unlike page')} do"
            yield Hit(url, mask, message, tuple(tags.get(number, ())), also=(start,))


_PAGE_PATH = re.compile(r"^(.*?)/page/[0-9]+/?(\?.*)?$")
_PAGE_QUERY = re.compile(r"([?&])(page|paged)=[0-9]+(&|$)")


def first_pages(url: str) -> set[str]:
    """The addresses that page 1 of a numbered page may have."""
    found = set()
    path = _PAGE_PATH.match(url)
    if path:
        base, query = path[1], path[2] or ""
        found |= {f"{base}{query}", f"{base}/{query}", f"{base}/page/1{query}", f"{base}/page/1/{query}"}
    query_form = _PAGE_QUERY.search(url)
    if query_form:
        found.add(_PAGE_QUERY.sub(lambda m: m[1] if m[3] == "&" else "", url))
        found.add(_PAGE_QUERY.sub(lambda m: f"{m[1]}{m[2]}=1{m[3]}", url))
    return found - {url}


def to_first_page(site: Site) -> list[Folding]:
    """Numbered pages that name page 1."""
    found = site.named(
        Folding,
        f"""SELECT f.id, f.origin || f.path, t.id, t.origin || t.path, {site.all_mask} & ~f.barred FROM fact f
        JOIN fact t ON t.id = f.folds_to WHERE f.site AND f.fold_how = 'canonical'
        AND regexp_matches(f.path, '/page/[0-9]+/?|[?&](page|paged)=[0-9]+') ORDER BY f.origin, f.path""",
    )
    return [one for one in found if one.target_url in first_pages(one.url)]


@check(
    "canonical-first-page",
    CheckClass.BLOCKED,
    Severity.ASK,
    follows=Follows.NOTHING,
    feeds=("canonical-fold",),
    change=EACH_ITSELF,
)
def canonical_first_page(site: Site) -> Iterator[Hit]:
    """A numbered page names page 1 as canonical.

    Why: Page 2 is not the same as page 1: what only it lists or links may be left out.
    Mend: Let each numbered page name itself.
    Rests on: Engine practice: numbered pages should name themselves.
    Evidence: The canonical.
    """
    found = to_first_page(site)
    tags = canonicals(site, [one.id for one in found])
    for one in found:
        if one.crawlers:
            shown = tuple(tags.get(one.id, ()))
            yield Hit(one.url, one.crawlers, "a numbered page names page 1 as canonical", shown, also=(one.target_url,))


class _Pair(NamedTuple):
    """A page and what it names as canonical: addresses, crawlers of the page, and of each its sketch, name and words."""

    id: int
    url: str
    crawlers: int
    target_url: str
    sketch: bytes
    its_sketch: bytes
    name: str
    its_name: str
    words: int
    its_words: int

    @property
    def is_part(self) -> bool:
        """Whether one is so short beside the other that it has few words in common with it, even as a part of it."""
        return min(self.words, self.its_words) < 0.3 * max(self.words, self.its_words)


@check(
    "canonical-unlike",
    CheckClass.BLOCKED,
    Severity.ASK,
    follows=Follows.NOTHING,
    feeds=("canonical-fold",),
    change=NAMES_ITSELF,
)
def canonical_unlike(site: Site) -> Iterator[Hit]:
    """A page names as canonical a page with clearly different content.

    Why: Engines may ignore it; if they do not, the page's own content is left out of the listings.
    Mend: Name the page itself, unless its content really is part of the other's.
    Rests on: RFC 6596 section 3: the canonical's content is the page's own or contains it.
    Evidence: The canonical, and what both pages say.
    """
    told = set(to_start(site)) | {one.id for one in to_first_page(site)}
    found = site.named(
        _Pair,
        f"""SELECT f.id, f.origin || f.path, {site.all_mask} & ~f.barred, t.origin || t.path, p.sketch, q.sketch,
            p.named, q.named, p.own_words, q.own_words
        FROM fact f JOIN fact t ON t.id = f.folds_to JOIN ({WORDING}) p ON p.id = f.id JOIN ({WORDING}) q ON q.id = t.id
        WHERE f.site AND f.fold_how = 'canonical' AND p.sketch IS NOT NULL AND q.sketch IS NOT NULL AND t.tail <> 'broken'
        AND least(p.own_words, q.own_words) >= {ENOUGH} AND NOT (f.entry IS NOT NULL AND f.want = 'show')
        ORDER BY f.origin, f.path""",
    )
    if not found:
        return
    from indrel.core.page.sketch import alike

    chosen = [
        one
        for one in found
        if one.id not in told
        and not one.is_part
        and alike(one.sketch, one.its_sketch)[1] <= UNLIKE
        and one.name != one.its_name
    ]
    tags = canonicals(site, [one.id for one in chosen])
    for one in chosen:
        if one.crawlers:
            texts = Evidence("text", one.url, None, one.name), Evidence("text", one.target_url, None, one.its_name)
            message = f"names a page with clearly different content as canonical: {one.target_url}"
            yield Hit(one.url, one.crawlers, message, (*tags.get(one.id, ()), *texts), also=(one.target_url,))


@check("twin-open", CheckClass.EXPOSED, Severity.ASK, follows=Follows.NOTHING, feeds=("page",))
def twin_open(site: Site) -> Iterator[Hit]:
    """The same content is open at several addresses, and none folds into another.

    Why: Links and listings spread over several addresses, and engines choose one themselves.
    Mend: Redirect all but one to it, or let them name it as canonical.
    Rests on: RFC 6596: a canonical tells which of several addresses stands for their content.
    Evidence: What the pages say; the other addresses stand beside the finding.
    """
    groups = open_twins(site)
    texts = {
        number: Evidence("text", where, None, text or "")
        for number, where, text in of_each(
            site,
            [number for twins in groups for number in twins.ids[:SHOWN_TWINS]],
            f"""SELECT p.address, {WHERE}, coalesce(p.heading, p.title, p.excerpt) FROM picked JOIN page p ON p.address = picked.id
            JOIN address a ON a.id = p.address JOIN answer n ON n.address = p.address""",
        )
    }
    for twins in groups:
        names = [f"{code(n)}" for n in idle_parameters(twins.urls)]
        how = "nearly the same" if twins.near else "the same"
        more = len(twins.urls) - 2
        message = f"{how} content as {twins.urls[1]}"
        if more:
            message += f" and {plural(more, 'other open address', 'other open addresses')}"
        if names:
            change = "change" if len(names) > 1 else "changes"
            message += f"; they differ only in {listing(names)}, which {change} {'little' if twins.near else 'nothing'}"
        shown = tuple(texts[number] for number in twins.ids[:SHOWN_TWINS])
        yield Hit(twins.urls[0], twins.mask, message, shown, also=twins.urls[1 : MOST_NAMED + 1])


ERROR_PAGE = "/(404|50x|500)[.]html?$"
"""The files that builds hold for servers to answer missing addresses with: no one comes to them by name."""


@check("canonical-none", CheckClass.FLAW, Severity.NOTE, follows=Follows.SHUT_HOST)
def canonical_none(site: Site) -> Iterator[Hit]:
    """An open page names no canonical.

    Why: Variants of its address (parameters, http, www) have nothing to fold into; engines choose themselves.
    Mend: Let the template print each page's own address as canonical.
    Rests on: RFC 6596; that pages should name themselves is engine practice.
    Evidence: The page.
    """
    for url, mask, where in site.rows(
        f"""SELECT a.origin || a.path, a.open, {WHERE} FROM fact a JOIN answer n ON n.address = a.id
        WHERE a.site AND a.known AND a.open > 0 AND a.html AND NOT a.closed AND a.id NOT IN (SELECT address FROM canonical)
        AND NOT regexp_matches(a.path, '{ERROR_PAGE}') ORDER BY a.origin, a.path"""
    ):
        yield Hit(url, mask, "names no canonical", (Evidence("canonical", where, None, "none"),))


class _Alternate(NamedTuple):
    """A language alternate of a page that points at one which folds: what into, and where the alternate stands."""

    url: str
    crawlers: int
    target: int
    target_url: str
    into: str
    line: int | None
    text: str
    where: str


@check(
    "canonical-against-alternates",
    CheckClass.CONFLICT,
    Severity.ASK,
    follows=Follows.NOTHING,
    feeds=("canonical", "alternate"),
)
def canonical_against_alternates(site: Site) -> Iterator[Hit]:
    """A language alternate points at a page that folds elsewhere.

    Why: Alternates must name pages that stand for themselves; otherwise the pair is ignored.
    Mend: Point the alternate at the page's canonical, or let the page name itself.
    Rests on: Engine practice: alternates that fold are ignored.
    Evidence: The alternate, and the canonical or redirect of its target.
    """
    found = site.named(
        _Alternate,
        f"""SELECT f.origin || f.path, {site.all_mask} & ~f.barred & ~t.barred, t.id, t.origin || t.path,
            o.origin || o.path, l.line, l.text, coalesce(n.file, f.origin || f.path)
        FROM alternate l JOIN fact f ON f.id = l.source JOIN fact t ON t.id = l.target JOIN fact o ON o.id = t.folds_to
        JOIN answer n ON n.address = f.id
        WHERE f.site AND f.status < 300 AND t.tail = 'folded' AND l.target <> l.source ORDER BY f.origin, f.path, l.line""",
    )
    tags = canonicals(site, [one.target for one in found])
    for one in found:
        if one.crawlers:
            shown = (Evidence("link", one.where, one.line, one.text), *tags.get(one.target, ()))
            message = f"a language alternate points at {one.target_url}, which folds into {one.into}"
            yield Hit(one.url, one.crawlers, message, shown, also=(one.target_url, one.into))
