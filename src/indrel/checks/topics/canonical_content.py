"""Canonicals and content: canonicals that point to different content, and duplicates without a canonical."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from indrel.base.plain import code
from indrel.checks.advice import EACH_ITSELF, Advice, canonical_advice
from indrel.checks.advice import targets as leads
from indrel.checks.catalogue import Follows, Hit, check
from indrel.checks.changes import GOES, NAMED, NAMES_ITSELF, Change, to
from indrel.checks.evidence import WHERE, canonicals, of_each
from indrel.checks.measures import FEW_WORDS, MANY, MOST_NAMED
from indrel.checks.topics.canonical import Folding
from indrel.core.model import CheckClass, Evidence, Severity, listing, plural
from indrel.core.relation import (
    CASE,
    FILE,
    FIRST_PAGE,
    PARAMETERS,
    PARENT,
    PART,
    SLASH,
    VARIANTS,
    Relation,
    in_words,
    relation,
)
from indrel.decide.site import Site
from indrel.decide.twins import WORDING, idle_parameters, open_twins

UNLIKE = 0.2
"""Share of words up to which two texts are clearly different."""

SHOWN_TWINS = 3
ENOUGH = 8
"""Words that both texts must have to be compared."""


def to_start(site: Site) -> dict[int, tuple[str, str]]:
    """Pages of hosts on which the canonicals of many unlike pages point to the home page: page, home page."""
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
    follows=Follows.CANONICAL,
    feeds=("canonical-fold",),
    change=EACH_ITSELF.change,
)
def canonical_to_start(site: Site) -> Iterator[Hit]:
    """The canonicals of many pages with different content point to the home page.

    Why: All of them ask engines to index the home page instead. The template has a fixed URL where the page's own belongs.
    Fix: In the template, print each page's own URL as its canonical.
    Source: RFC 6596 section 3: the canonical's content is the page's own or contains it.
    Evidence: The canonical.
    """
    found = to_start(site)
    tags = canonicals(site, found)
    barred = dict(site.rows("SELECT id, barred FROM fact WHERE barred > 0"))
    # pages that only scripts fill: what is served is the same file, whatever view it becomes
    shells = {
        number
        for (number,) in site.rows(
            f"""SELECT id FROM fact WHERE html AND own_words <= {FEW_WORDS} AND own_links = 0
            AND id IN (SELECT source FROM resource WHERE kind = 'script')
            AND text_hash IN (SELECT text_hash FROM fact WHERE html GROUP BY text_hash HAVING count(*) > 1)"""
        )
    }
    for number, (url, start) in found.items():
        mask = site.all_mask & ~barred.get(number, 0)
        if mask:
            message = f"The canonicals of {plural(len(found), 'page')} with different content point to the home page."
            advice = NO_SHELL_CANONICAL if number in shells else ""
            shown = tuple(tags.get(number, ()))
            yield Hit(url, mask, message, shown, also=(start,), pair=(url, start), advice=advice)


NO_SHELL_CANONICAL = Advice(
    "Remove the canonical from the shell that is served for every URL; let the script of each view set its own.",
    Change(NAMED, to(GOES)),
    "shell",
)
"""A shell is one file for all pages, so it cannot print each page's own URL."""


def to_first_page(site: Site) -> list[Folding]:
    """Paginated pages whose canonical points to page 1."""
    found = site.named(
        Folding,
        f"""SELECT f.id, f.origin || f.path, t.id, t.origin || t.path, {site.all_mask} & ~f.barred FROM fact f
        JOIN fact t ON t.id = f.folds_to WHERE f.site AND f.fold_how = 'canonical'
        AND f.kind = 'numbered-page' AND t.kind <> 'numbered-page' ORDER BY f.origin, f.path""",
    )
    return [one for one in found if _is_first(relation(one.url, one.target_url))]


def _is_first(found: Relation) -> bool:
    """Whether the target of a paginated page is where its series begins: the same URL but for the number."""
    if found.host and found.host not in VARIANTS:
        return False
    if found.kind == PARAMETERS:
        return len(found.parts) == 1
    return found.kind in (FIRST_PAGE, PARENT, PART, FILE)


@check(
    "canonical-first-page",
    CheckClass.BLOCKED,
    Severity.ASK,
    follows=Follows.CANONICAL,
    feeds=("canonical-fold",),
    change=EACH_ITSELF.change,
)
def canonical_first_page(site: Site) -> Iterator[Hit]:
    """The canonical of a paginated page points to page 1.

    Why: Page 2 has other content than page 1: pages that only page 2 links to may not be found.
    Fix: Let the canonical of each paginated page point to its own URL.
    Source: Engine practice: paginated pages should be their own canonical.
    Evidence: The canonical.
    """
    found = to_first_page(site)
    tags = canonicals(site, [one.id for one in found])
    for one in found:
        if one.crawlers:
            shown = tuple(tags.get(one.id, ()))
            message = f"The canonical of this paginated page points to page 1, {one.target_url}."
            yield Hit(one.url, one.crawlers, message, shown, also=(one.target_url,), pair=(one.url, one.target_url))


class _Pair(NamedTuple):
    """A page and the target of its canonical: URLs, crawlers of the page, and of each its sketch, name and words."""

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
        """Whether one is so much shorter that it has few words in common with the other, even as a part of it."""
        return min(self.words, self.its_words) < 0.3 * max(self.words, self.its_words)


@check(
    "canonical-unlike",
    CheckClass.BLOCKED,
    Severity.ASK,
    follows=Follows.CANONICAL,
    feeds=("canonical-fold",),
    change=NAMES_ITSELF,
)
def canonical_unlike(site: Site) -> Iterator[Hit]:
    """The canonical points to a page with clearly different content.

    Why: Engines may ignore it. If they do not, the page's own content is not indexed.
    Fix: Let the canonical point to the page's own URL, unless its content really is part of the other page's.
    Source: RFC 6596 section 3: the canonical's content is the page's own or contains it.
    Evidence: The canonical, and the headings of both pages.
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
    ids = [one.id for one in chosen]
    tags, led = canonicals(site, ids), leads(site, ids)
    for one in chosen:
        if one.crawlers:
            texts = Evidence("text", one.url, None, one.name), Evidence("text", one.target_url, None, one.its_name)
            message = f"The canonical points to {one.target_url}, whose content is clearly different."
            advice = canonical_advice(one.url, led[one.id]) if led[one.id].is_unwanted else None
            evidence, pair = (*tags.get(one.id, ()), *texts), (one.url, one.target_url)
            yield Hit(one.url, one.crawlers, message, evidence, also=(one.target_url,), pair=pair, advice=advice or "")


@check("twin-open", CheckClass.EXPOSED, Severity.ASK, follows=Follows.NOTHING, feeds=("page",))
def twin_open(site: Site) -> Iterator[Hit]:
    """The same content is open at several URLs (duplicate content).

    Why: Links are spread over several URLs, and engines choose one of them themselves.
    Fix: Choose one URL. Redirect the others to it, or let their canonicals point to it.
    Source: RFC 6596: a canonical tells which of several URLs represents their content.
    Evidence: The headings of the pages; the finding also lists the other URLs.
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
        how = "Nearly the same" if twins.near else "The same"
        more = len(twins.urls) - 2
        first, second, *_ = sorted(twins.urls[:2])
        message = f"{how} content is open at {twins.urls[0]} and {twins.urls[1]}"
        if more:
            message += f" and {plural(more, 'more URL')}"
        if names:
            change = "change" if len(names) > 1 else "changes"
            message += (
                f". They differ only in {listing(names)}, which {change} {'little' if twins.near else 'nothing'}."
            )
        else:
            apart = in_words(relation(first, second), "one of them")
            message += f": {apart}." if apart else "."
        shown = tuple(texts[number] for number in twins.ids[:SHOWN_TWINS])
        also, pair = twins.urls[1 : MOST_NAMED + 1], (first, second)
        yield Hit(twins.urls[0], twins.mask, message, shown, also=also, pair=pair, advice=_one_of(relation(*pair)))


def _one_of(found: Relation) -> str:
    """How one of several duplicates is chosen: by a rule of the server if they differ in what a server can tell."""
    rules = {
        CASE: "Redirect one letter case to the other on the server, and use that one in links.",
        SLASH: "Redirect one form to the other on the server (with or without the slash), and use that one in links.",
        FILE: "Redirect one form to the other on the server, and use that one in links.",
        PARAMETERS: "Let the canonical of each variant point to the URL without the parameters that change nothing.",
    }
    if found.kind in VARIANTS:
        return "Redirect one variant of the host to the other on the server, for every URL."
    return rules.get(found.kind, "")


ERROR_PAGE = "/(404|50x|500)[.]html?$"
"""The files of a build that servers return for missing URLs: nobody visits them by name."""


@check("canonical-none", CheckClass.FLAW, Severity.NOTE, follows=Follows.SHUT_HOST)
def canonical_none(site: Site) -> Iterator[Hit]:
    """The page has no canonical.

    Why: Variants of its URL (parameters, http, www) have nothing that points to the right one; engines choose themselves.
    Fix: In the template, print each page's own URL as its canonical.
    Source: RFC 6596; that pages should be their own canonical is engine practice.
    Evidence: The page.
    """
    for url, mask, where in site.rows(
        f"""SELECT a.origin || a.path, a.open, {WHERE} FROM fact a JOIN answer n ON n.address = a.id
        WHERE a.site AND a.known AND a.open > 0 AND a.html AND NOT a.closed AND a.id NOT IN (SELECT address FROM canonical)
        AND NOT regexp_matches(a.path, '{ERROR_PAGE}') ORDER BY a.origin, a.path"""
    ):
        yield Hit(url, mask, "The page has no canonical.", (Evidence("canonical", where, None, "none"),))


class _Alternate(NamedTuple):
    """A hreflang link to a page that leads elsewhere: where to, and the line of the link."""

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
    """A hreflang link points to a page that redirects, or whose canonical points elsewhere.

    Why: hreflang links must point to pages that are their own canonical; otherwise engines ignore the pair.
    Fix: Let the hreflang link point to the URL that its target leads to, or make the target its own canonical.
    Source: Engine practice: hreflang links to pages that lead elsewhere are ignored.
    Evidence: The hreflang link, and the canonical or redirect of its target.
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
            how = "has its canonical at" if tags.get(one.target) else "redirects to"
            message = f"A hreflang link points to {one.target_url}, which {how} {one.into}."
            # which language it is does not matter to the edit: one wrong version in the template is one cause
            pair, place = (one.target_url, one.into), ("hreflang",)
            yield Hit(one.url, one.crawlers, message, shown, also=(one.target_url, one.into), pair=pair, place=place)
