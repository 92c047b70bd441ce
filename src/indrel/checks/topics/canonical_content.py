"""Canonicals and content: pages that fold into unlike ones, and like ones that fold into nothing."""

from __future__ import annotations

import re
from collections.abc import Iterator

from indrel.checks.catalogue import Hit, check
from indrel.checks.changes import EACH_ITSELF, NAMES_ITSELF
from indrel.checks.evidence import WHERE, canonicals, of_each
from indrel.checks.measures import MANY, MOST_NAMED
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


@check("canonical-to-start", CheckClass.BLOCKED, Severity.FIX, feeds=("canonical-fold",), change=EACH_ITSELF)
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


def to_first_page(site: Site) -> list[tuple[int, str, int, str]]:
    """Numbered pages that name page 1: page, crawlers, page 1."""
    rows = site.rows(
        f"""SELECT f.id, f.origin || f.path, {site.all_mask} & ~f.barred, t.origin || t.path FROM fact f
        JOIN fact t ON t.id = f.folds_to WHERE f.site AND f.fold_how = 'canonical'
        AND regexp_matches(f.path, '/page/[0-9]+/?|[?&](page|paged)=[0-9]+') ORDER BY f.origin, f.path"""
    )
    return [row for row in rows if row[3] in first_pages(row[1])]


@check("canonical-first-page", CheckClass.BLOCKED, Severity.ASK, feeds=("canonical-fold",), change=EACH_ITSELF)
def canonical_first_page(site: Site) -> Iterator[Hit]:
    """A numbered page names page 1 as canonical.

    Why: Page 2 is not the same as page 1: what only it lists or links may be left out.
    Mend: Let each numbered page name itself.
    Rests on: Engine practice: numbered pages should name themselves.
    Evidence: The canonical.
    """
    found = to_first_page(site)
    tags = canonicals(site, [row[0] for row in found])
    for number, url, mask, first in found:
        if mask:
            yield Hit(
                url, mask, "a numbered page names page 1 as canonical", tuple(tags.get(number, ())), also=(first,)
            )


@check("canonical-unlike", CheckClass.BLOCKED, Severity.ASK, feeds=("canonical-fold",), change=NAMES_ITSELF)
def canonical_unlike(site: Site) -> Iterator[Hit]:
    """A page names as canonical a page with clearly different content.

    Why: Engines may ignore it; if they do not, the page's own content is left out of the listings.
    Mend: Name the page itself, unless its content really is part of the other's.
    Rests on: RFC 6596 section 3: the canonical's content is the page's own or contains it.
    Evidence: The canonical, and what both pages say.
    """
    told = set(to_start(site)) | {row[0] for row in to_first_page(site)}
    rows = site.rows(
        f"""SELECT f.id, f.origin || f.path, {site.all_mask} & ~f.barred, t.origin || t.path, p.sketch, q.sketch,
            p.named, q.named, p.own_words, q.own_words
        FROM fact f JOIN fact t ON t.id = f.folds_to JOIN ({WORDING}) p ON p.id = f.id JOIN ({WORDING}) q ON q.id = t.id
        WHERE f.site AND f.fold_how = 'canonical' AND p.sketch IS NOT NULL AND q.sketch IS NOT NULL AND t.tail <> 'broken'
        AND least(p.own_words, q.own_words) >= {ENOUGH} AND NOT (f.entry IS NOT NULL AND f.want = 'show')
        ORDER BY f.origin, f.path"""
    )
    if not rows:
        return
    from indrel.core.page.sketch import alike

    chosen = []
    for row in rows:
        contained = min(row[8], row[9]) < 0.3 * max(
            row[8], row[9]
        )  # a part of the other has few words in common with it
        if row[0] not in told and not contained and alike(row[4], row[5])[1] <= UNLIKE and row[6] != row[7]:
            chosen.append(row)
    tags = canonicals(site, [row[0] for row in chosen])
    for number, url, mask, target, _, _, own, theirs, _, _ in chosen:
        if mask:
            shown = (*tags.get(number, ()), Evidence("text", url, None, own), Evidence("text", target, None, theirs))
            message = f"names a page with clearly different content as canonical: {target}"
            yield Hit(url, mask, message, shown, also=(target,))


@check("twin-open", CheckClass.EXPOSED, Severity.ASK, feeds=("page",))
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
        names = [f"`{n}`" for n in idle_parameters(twins.urls)]
        how = "nearly the same" if twins.near else "the same"
        more = len(twins.urls) - 2
        message = f"{how} content as {twins.urls[1]}"
        if more:
            message += f" and {plural(more, 'other open address', 'other open addresses')}"
        if names:
            message += f"; they differ only in {listing(names)}, which changes {'little' if twins.near else 'nothing'}"
        shown = tuple(texts[number] for number in twins.ids[:SHOWN_TWINS])
        yield Hit(twins.urls[0], twins.mask, message, shown, also=twins.urls[1 : MOST_NAMED + 1])


ERROR_PAGE = "/(404|50x|500)[.]html?$"
"""The files that builds hold for servers to answer missing addresses with: no one comes to them by name."""


@check("canonical-none", CheckClass.FLAW, Severity.NOTE)
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


@check("canonical-against-alternates", CheckClass.CONFLICT, Severity.ASK, feeds=("canonical", "alternate"))
def canonical_against_alternates(site: Site) -> Iterator[Hit]:
    """A language alternate points at a page that folds elsewhere.

    Why: Alternates must name pages that stand for themselves; otherwise the pair is ignored.
    Mend: Point the alternate at the page's canonical, or let the page name itself.
    Rests on: Engine practice: alternates that fold are ignored.
    Evidence: The alternate, and the canonical or redirect of its target.
    """
    found = site.rows(
        f"""SELECT f.id, f.origin || f.path, {site.all_mask} & ~f.barred & ~t.barred, t.id, t.origin || t.path,
            o.origin || o.path, l.line, l.text, coalesce(n.file, f.origin || f.path)
        FROM alternate l JOIN fact f ON f.id = l.source JOIN fact t ON t.id = l.target JOIN fact o ON o.id = t.folds_to
        JOIN answer n ON n.address = f.id
        WHERE f.site AND f.status < 300 AND t.tail = 'folded' AND l.target <> l.source ORDER BY f.origin, f.path, l.line"""
    )
    tags = canonicals(site, [row[3] for row in found])
    for _, url, mask, target, target_url, into, line, text, where in found:
        if mask:
            shown = (Evidence("link", where, line, text), *tags.get(target, ()))
            message = f"a language alternate points at {target_url}, which folds into {into}"
            yield Hit(url, mask, message, shown, also=(target_url, into))
