"""Canonicals: which URL represents a page, and whether that URL can."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import NamedTuple

from indrel.base.plain import code
from indrel.checks.advice import UNWANTED_COPY, canonical_advice
from indrel.checks.advice import targets as leads
from indrel.checks.catalogue import Follows, Hit, Need, check
from indrel.checks.changes import NAMED, NAMES_ITSELF, Change
from indrel.checks.evidence import WHERE, Subject, answers, broken, canonicals, rules, said
from indrel.core.model import CheckClass, Evidence, Severity
from indrel.core.relation import in_words, relation
from indrel.decide.predicates import CANONICAL_COUNTS
from indrel.decide.site import Site, once

ABSOLUTE = "regexp_matches(c.href, '^[A-Za-z][A-Za-z0-9+.-]*:')"
"""Whether a canonical as written is a whole address."""


@once
def stage_special(site: Site) -> None:
    """`special`: pages whose canonical is bent or points to a variant of the page's own URL, each for some crawler.

    Bent: a relative canonical that leads, by base or path, to a URL that is not open.
    """
    site.con.execute(
        f"""CREATE TEMP TABLE special AS
        SELECT DISTINCT f.id, 'bent' AS why FROM canonical c
        JOIN fact f ON f.id = c.address JOIN page p ON p.address = c.address JOIN fact t ON t.id = c.target
        WHERE f.site AND f.fold_how = 'canonical' AND f.folds_to = c.target AND c.fault IS NULL AND NOT c.in_body
        AND c.origin = 0 AND NOT {ABSOLUTE} AND (p.base IS NOT NULL OR NOT starts_with(c.href, '/'))
        AND (t.read OR t.barred > 0 OR NOT t.site) AND {site.all_mask} & ~f.barred & ~t.open > 0
        UNION ALL
        SELECT f.id, 'variant' FROM fact f JOIN fact t ON t.id = f.folds_to
        WHERE f.site AND f.fold_how = 'canonical' AND f.origin <> t.origin AND f.path = t.path
        AND {site.all_mask} & ~f.barred > 0 AND {bare_host("f.origin")} = {bare_host("t.origin")}"""
    )


class Folding(NamedTuple):
    """A page whose canonical points to another URL: the number and URL of both, and the crawlers that it applies to.
    `unlisted` are those of them that cannot index the target, if that is asked."""

    id: int
    url: str
    target: int
    target_url: str
    crawlers: int
    unlisted: int = 0


def special(site: Site, why: str) -> list[Folding]:
    """The pages of `special` of one sort, for the crawlers that read the page."""
    stage_special(site)
    return site.named(
        Folding,
        f"""SELECT f.id, f.origin || f.path, t.id, t.origin || t.path, {site.all_mask} & ~f.barred AS crawlers,
            {site.all_mask} & ~f.barred & ~t.open FROM fact f JOIN fact t ON t.id = f.folds_to
        WHERE f.id IN (SELECT id FROM special WHERE why = ?) ORDER BY f.origin, f.path""",
        [why],
    )


def special_read(site: Site, why: str) -> list[int]:
    """The numbers of those whose target is on the site and known."""
    stage_special(site)
    rows = site.rows(
        """SELECT f.id FROM special s JOIN fact f ON f.id = s.id JOIN fact t ON t.id = f.folds_to
        WHERE s.why = ? AND t.site AND t.tail <> 'unread'""",
        [why],
    )
    return [number for (number,) in rows]


def bare_host(origin: str) -> str:
    """The host of an origin, without `www.`, scheme and port, as SQL."""
    return f"regexp_replace({origin}, '^[a-z]+://(www[.])?|:[0-9]+$', '', 'g')"


def targets(site: Site, condition: str, mask: str) -> list[Folding]:
    """Pages whose canonical points to another URL that meets a condition.

    The condition and the mask are SQL over `f` (the page) and `t` (the target). Crawlers that may not read the page are
    excluded, and so are pages that a more specific row reports (a bent relative value, a variant of the page's own host,
    a target on a host that should be closed).
    """
    stage_special(site)
    return [
        one
        for one in site.named(
            Folding,
            f"""SELECT f.id, f.origin || f.path, t.id, t.origin || t.path, ({mask}) & ~f.barred AS crawlers
            FROM fact f JOIN fact t ON t.id = f.folds_to
            WHERE f.site AND f.fold_how = 'canonical' AND ({condition})
            AND f.id NOT IN (SELECT id FROM special) AND (f.closed OR NOT t.closed) ORDER BY f.origin, f.path""",
        )
        if one.crawlers
    ]


SEVERAL = (
    "min(c.target) <> max(c.target) "
    "OR (count(*) > count(c.target) AND (count(c.target) > 0 OR min(c.href) <> max(c.href)))"
)
"""A condition on the grouped canonicals of a page: they differ from each other."""

OFTEN = "c.address IN (SELECT address FROM canonical GROUP BY address HAVING count(*) > 1)"
"""A condition on a canonical `c`: its page has others. Few pages have several, so only theirs are compared."""


@check("canonical-several", CheckClass.CONFLICT, Severity.FIX, follows=Follows.NOTHING, feeds=("several-canonicals",))
def canonical_several(site: Site) -> Iterator[Hit]:
    """The page has several different canonicals.

    Why: Engines then ignore all of them. Often a theme and a plug-in both print one.
    Fix: Keep one canonical, in the tag or in the header, and remove the others.
    Source: RFC 6596 section 3: one canonical; that several are ignored is engine practice.
    Evidence: Each of the canonicals.
    """
    found = site.named(
        Subject,
        f"""SELECT c.address, f.origin || f.path, {site.all_mask} & ~f.barred FROM canonical c JOIN fact f ON f.id = c.address
        WHERE {CANONICAL_COUNTS} AND {OFTEN} AND f.site AND f.status < 300 GROUP BY ALL HAVING {SEVERAL} ORDER BY 2""",
    )
    shown = canonicals(site, [one.id for one in found])
    for one in found:
        evidence = tuple(shown.get(one.id, ()))
        if one.crawlers:
            message = f"The page has {len(evidence)} different canonicals, so engines ignore all of them."
            yield Hit(one.url, one.crawlers, message, evidence)


@check(
    "canonical-in-body",
    CheckClass.FLAW,
    Severity.FIX,
    follows=Follows.NOTHING,
    feeds=("canonical-in-body",),
    change=Change(NAMED, lambda finding, before: f"{before}  (inside the head)"),
)
def canonical_in_body(site: Site) -> Iterator[Hit]:
    """The canonical comes after the end of the head.

    Why: Engines ignore a canonical in the body, because visitors could have written it there.
    Fix: Move the tag above the element that ended the head. An element that is not allowed in the head ends it silently.
    Source: RFC 6596 and WHATWG HTML, the "in head" insertion mode; that it is ignored is engine practice.
    Evidence: The tag, and what ended the head.
    """
    for url, line, text, barred, head_end, head_line, where in site.rows(
        f"""SELECT a.origin || a.path, c.line, c.text, a.barred, p.head_end, p.head_end_line, {WHERE}
        FROM canonical c JOIN fact a ON a.id = c.address JOIN answer n ON n.address = c.address
        JOIN page p ON p.address = c.address
        WHERE c.in_body AND a.site AND a.status < 300 ORDER BY a.origin, a.path, c.line"""
    ):
        evidence = [Evidence("canonical", where, line, text)]
        if head_end:
            evidence.append(Evidence("head-end", where, head_line, head_end))
        at = f" (line {head_line})" if head_line else ""
        ended = f"{code(head_end)}{at} ended the head before it" if head_end else "the head had ended before it"
        mask = site.all_mask & ~barred
        if mask:
            yield Hit(url, mask, f"The canonical is in the body, so it is ignored: {ended}.", tuple(evidence))


@check(
    "canonical-to-gone",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.TARGET | Follows.CANONICAL,
    feeds=("canonical-fold", "gone"),
    change=NAMES_ITSELF,
)
def canonical_to_gone(site: Site) -> Iterator[Hit]:
    """The canonical points to a URL that is gone.

    Why: Nothing exists at the URL that should represent the page, so the page can drop out of the index as well.
    Fix: Let the canonical point to the page's own URL, or to the page that replaced the target.
    Source: RFC 6596 section 5: a canonical should be available (not return 4xx).
    Evidence: The canonical, and what its target returns.
    """
    yield from _by_answer(site, "t.tail = 'gone'", "which is gone ({})")


@check(
    "canonical-to-broken",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.TARGET | Follows.CANONICAL,
    feeds=("canonical-fold", "broken"),
    change=NAMES_ITSELF,
)
def canonical_to_broken(site: Site) -> Iterator[Hit]:
    """The canonical points to a URL that returns an error, does not respond, or is a soft 404.

    Why: While the target cannot be fetched, it cannot represent the page.
    Fix: Repair the target, or let the canonical point to the page's own URL.
    Source: RFC 6596 section 5: a canonical should be available.
    Evidence: The canonical, and what its target returns.
    """
    yield from _by_answer(site, "t.tail = 'broken'", "which is {}", broken)


@check(
    "canonical-to-redirect",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.TARGET | Follows.CANONICAL,
    feeds=("canonical-fold", "redirect"),
)
def canonical_to_redirect(site: Site) -> Iterator[Hit]:
    """The canonical points to a URL that redirects.

    Why: The canonical names one URL, and that URL names another; engines may follow neither.
    Fix: Let the canonical point to the final URL.
    Source: RFC 6596 section 5: a canonical should not be a redirect.
    Evidence: The canonical, and what its target returns.
    """
    yield from _by_answer(
        site, "t.tail = 'folded' AND t.fold_how IN ('redirect', 'refresh')", "which redirects to {end}"
    )


def _by_answer(site: Site, condition: str, what: str, words: Callable[[str], str] = str) -> Iterator[Hit]:
    found = targets(site, condition, f"{site.all_mask} & ~t.barred")
    ids = [one.id for one in found]
    tags, led = canonicals(site, ids), leads(site, ids)
    shown = answers(site, [one.target for one in found])
    for one in found:
        end = led[one.id].end or "itself in a loop"
        status = next((e.text for e in shown[one.target] if e.kind == "status"), "")
        evidence = (*tags.get(one.id, ()), *shown[one.target])
        message = f"The canonical points to {one.target_url}, {what.format(words(status), end=end)}{_apart(one)}."
        also = tuple(dict.fromkeys((one.target_url, led[one.id].end or one.target_url)))
        advice = canonical_advice(one.url, led[one.id])
        yield Hit(one.url, one.crawlers, message, evidence, also, advice=advice or "", pair=(one.url, one.target_url))


def _apart(one: Folding) -> str:
    """How the target differs from the page, as a further clause of a message."""
    said = in_words(relation(one.url, one.target_url), "it")
    return f": {said}" if said else ""


@check(
    "canonical-to-hidden",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST | Follows.TARGET | Follows.CANONICAL,
    feeds=("canonical-fold", "noindex"),
    change=NAMES_ITSELF,
)
def canonical_to_hidden(site: Site) -> Iterator[Hit]:
    """The canonical points to a page that has noindex.

    Why: The page asks to be represented by a URL that must not be indexed, so neither of them appears in search.
    Fix: Remove the noindex from the target, or let the canonical point to the page's own URL.
    Source: RFC 6596 section 5; the robots meta tag and X-Robots-Tag as search engines document them.
    Evidence: The canonical, and the noindex of its target.
    """
    found = targets(site, "t.hidden > 0", "t.hidden")
    ids = [one.id for one in found]
    tags, led, noindex = canonicals(site, ids), leads(site, ids), said(site, [o.target for o in found], site.all_mask)
    for one in found:
        evidence = (*tags.get(one.id, ()), *noindex.get(one.target, ()))
        message = f"The canonical points to {one.target_url}, which has noindex{_apart(one)}."
        advice = canonical_advice(one.url, led[one.id]) or ""
        also = (one.target_url,)
        yield Hit(one.url, one.crawlers, message, evidence, also, advice=advice, pair=(one.url, one.target_url))


@check(
    "canonical-to-barred",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST | Follows.TARGET | Follows.CANONICAL,
    needs=(Need.ROBOTS,),
    feeds=("canonical-fold", "barred"),
)
def canonical_to_barred(site: Site) -> Iterator[Hit]:
    """The canonical points to a URL that is blocked by robots.txt.

    Why: The URL that should represent the page cannot be fetched, so it cannot be indexed with its content.
    Fix: Unblock the target, or let the canonical point to a URL that can be fetched.
    Source: RFC 6596 section 5; RFC 9309 section 2.2.2.
    Evidence: The canonical, and the rule that blocks its target.
    """
    found = targets(site, "t.barred > 0", "t.barred")
    ids = [one.id for one in found]
    tags, led = canonicals(site, ids), leads(site, ids)
    for one in found:
        evidence = (*tags.get(one.id, ()), *rules(site, one.target_url, one.crawlers))
        message = f"The canonical points to {one.target_url}, which robots.txt blocks{_apart(one)}."
        advice = canonical_advice(one.url, led[one.id]) or ""
        also = (one.target_url,)
        yield Hit(one.url, one.crawlers, message, evidence, also, advice=advice, pair=(one.url, one.target_url))


@check(
    "canonical-chain",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.TARGET | Follows.CANONICAL,
    feeds=("canonical-fold",),
)
def canonical_chain(site: Site) -> Iterator[Hit]:
    """The canonical points to a page whose canonical points elsewhere.

    Why: Engines may stop at the first URL or follow to the last, so which one represents the page is left to them.
    Fix: Let every canonical of the chain point to the last URL.
    Source: RFC 6596 section 5: the target of a canonical should not have another canonical.
    Evidence: Each canonical of the chain.
    """
    circle = {number for loop in loops(site) for number in loop}
    message = "The canonical points to {}, whose canonical points to {}."
    yield from _chained(site, lambda number: number not in circle, message)


@check("canonical-loop", CheckClass.CONFLICT, Severity.FIX, follows=Follows.CANONICAL, feeds=("canonical-fold",))
def canonical_loop(site: Site) -> Iterator[Hit]:
    """The canonicals form a loop.

    Why: Each page says that the other represents it, so neither does; engines choose for themselves.
    Fix: Decide which page represents the others, and let its canonical point to its own URL.
    Source: RFC 6596 section 5.
    Evidence: Each canonical of the loop.
    """
    circle = {number for loop in loops(site) for number in loop}
    message = "The canonical points to {}, whose canonical leads back here by way of {}."
    yield from _chained(site, lambda number: number in circle, message)


def loops(site: Site) -> list[list[int]]:
    """Loops of canonicals."""
    onward = dict(
        site.rows(
            "SELECT id, folds_to FROM fact WHERE site AND fold_how = 'canonical' AND folds_into IS NULL ORDER BY id"
        )
    )
    found: list[list[int]] = []
    seen: set[int] = set()
    for start in onward:
        path: dict[int, None] = {}
        number: int | None = start
        while number is not None and number not in seen:
            seen.add(number)
            path[number] = None
            number = onward.get(number)
        if number in path:
            order = list(path)
            found.append(order[order.index(number) :])
    return found


def _chained(site: Site, chosen: Callable[[int], bool], message: str) -> Iterator[Hit]:
    folding = targets(site, "t.fold_how = 'canonical' AND t.id <> f.id", f"{site.all_mask} & ~t.barred")
    found = [one for one in folding if chosen(one.id)]
    tags = canonicals(site, [number for one in found for number in (one.id, one.target)])
    led = leads(site, [one.id for one in found])
    onward = dict(
        site.rows(
            "SELECT f.id, t.origin || t.path FROM fact f JOIN fact t ON t.id = f.folds_to WHERE f.fold_how = 'canonical'"
        )
        if found
        else []
    )
    for one in found:
        evidence = (*tags.get(one.id, ()), *tags.get(one.target, ()))
        text = message.format(one.target_url, onward[one.target])
        end = led[one.id].end
        also = tuple(dict.fromkeys((one.target_url, onward[one.target], end or one.target_url)))
        advice = canonical_advice(one.url, led[one.id]) if end else ""
        pair = (one.url, one.target_url)
        yield Hit(one.url, one.crawlers, text, evidence, also, advice=advice or "", pair=pair)


@check(
    "canonical-and-noindex",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST | Follows.CANONICAL,
    feeds=("canonical-fold", "noindex"),
)
def canonical_and_noindex(site: Site) -> Iterator[Hit]:
    """The page has noindex together with a canonical that points to another page.

    Why: The noindex says "do not index this page", the canonical says "it is the same as that one"; the noindex can carry
    over to the target.
    Fix: If both pages have the same content, remove the noindex. Otherwise remove the canonical.
    Source: Engine practice: noindex together with a canonical that points elsewhere is contradictory.
    Evidence: The noindex and the canonical.
    """
    found = targets(site, "f.noindex > 0 AND f.status < 300", "f.noindex")
    ids = [one.id for one in found]
    noindex, tags, led = said(site, ids, site.all_mask), canonicals(site, ids), leads(site, ids)
    for one in found:
        evidence = (*noindex.get(one.id, ()), *tags.get(one.id, ()))
        message = f"The page has noindex, and its canonical points to {one.target_url}."
        advice = UNWANTED_COPY if led[one.id].is_unwanted else ""
        yield Hit(
            one.url, one.crawlers, message, evidence, (one.target_url,), advice=advice, pair=(one.url, one.target_url)
        )
