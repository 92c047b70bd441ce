"""Canonicals: what pages name as their representative, and whether that can stand for them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import NamedTuple

from indrel.base.plain import code
from indrel.checks.catalogue import Follows, Hit, Need, check
from indrel.checks.changes import NAMED, NAMES_ITSELF, NAMES_THE_LAST, NAMES_THE_TARGET, SAID, Change, to
from indrel.checks.evidence import WHERE, Subject, answers, canonicals, rules, said
from indrel.core.model import CheckClass, Evidence, Severity
from indrel.decide.predicates import CANONICAL_COUNTS
from indrel.decide.site import Site, once

ABSOLUTE = "regexp_matches(c.href, '^[A-Za-z][A-Za-z0-9+.-]*:')"
"""Whether a canonical as written is a whole address."""


@once
def stage_special(site: Site) -> None:
    """`special`: pages whose canonical is bent or names a variant of the page's own address, each for some crawler.

    Bent: a relative canonical that leads, by base or path, to an address that is not open.
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
    """A page that names another as canonical: its number and address, the target's, and the crawlers that it holds for.
    `unlisted` are those of them that may not list the target, where that is asked."""

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


def bare_host(origin: str) -> str:
    """The host of an origin, without `www.`, scheme and port, as SQL."""
    return f"regexp_replace({origin}, '^[a-z]+://(www[.])?|:[0-9]+$', '', 'g')"


def targets(site: Site, condition: str, mask: str) -> list[Folding]:
    """Pages that name another as canonical where the target meets a condition.

    The condition and the mask are SQL over `f` (the page) and `t` (the target). Crawlers that may
    not read the page are left out, and so are pages of which a more specific row speaks (a bent
    relative value, a variant of the page's own host, a target on a host that is meant to be closed).
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
"""Of the canonicals of one page that count: they are not all the same."""

OFTEN = "c.address IN (SELECT address FROM canonical GROUP BY address HAVING count(*) > 1)"
"""Of a canonical `c`: its page has others. Few pages have, so that only theirs are compared."""


@check("canonical-several", CheckClass.CONFLICT, Severity.FIX, follows=Follows.NOTHING, feeds=("several-canonicals",))
def canonical_several(site: Site) -> Iterator[Hit]:
    """A page names different canonicals.

    Why: Engines ignore them all then. Often a theme and an add-on both print one.
    Mend: Leave one canonical, in the tag or in the header.
    Rests on: RFC 6596 section 3: one canonical; that several are ignored is engine practice.
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
            yield Hit(
                one.url, one.crawlers, f"names {len(evidence)} different canonicals: engines ignore them all", evidence
            )


@check(
    "canonical-in-body",
    CheckClass.FLAW,
    Severity.FIX,
    follows=Follows.NOTHING,
    feeds=("canonical-in-body",),
    change=Change(NAMED, lambda finding, before: f"{before}  (inside the head)"),
)
def canonical_in_body(site: Site) -> Iterator[Hit]:
    """A canonical stands after the head has ended.

    Why: Engines ignore a canonical in the body, for visitors could have written it there.
    Mend: Move the tag up, above what ended the head (an element that may not stand there ends it, without notice).
    Rests on: RFC 6596 and WHATWG HTML, the "in head" insertion mode; that it is ignored is engine practice.
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
            yield Hit(url, mask, f"the canonical stands in the body and is ignored: {ended}", tuple(evidence))


@check(
    "canonical-to-gone",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST,
    feeds=("canonical-fold", "gone"),
    change=NAMES_ITSELF,
)
def canonical_to_gone(site: Site) -> Iterator[Hit]:
    """A page names as canonical an address that is gone.

    Why: There is nothing at the address that should stand for the page, so the page may drop out as well.
    Mend: Name the page itself, or the address that took the place of the gone one.
    Rests on: RFC 6596 section 5: a canonical should be available (not answer 4xx).
    Evidence: The canonical, and what its target answers.
    """
    yield from _by_answer(site, "t.tail = 'gone'", "names a canonical that is gone")


@check(
    "canonical-to-broken",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST,
    feeds=("canonical-fold", "broken"),
    change=NAMES_ITSELF,
)
def canonical_to_broken(site: Site) -> Iterator[Hit]:
    """A page names as canonical an address that answers with an error or not at all.

    Why: While the target cannot be fetched, it cannot stand for the page.
    Mend: Mend the target, or name the page itself.
    Rests on: RFC 6596 section 5: a canonical should be available.
    Evidence: The canonical, and what its target answers.
    """
    yield from _by_answer(site, "t.tail = 'broken'", "names a canonical that answers with an error")


@check(
    "canonical-to-redirect",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.NOTHING,
    feeds=("canonical-fold", "redirect"),
    change=NAMES_THE_TARGET,
)
def canonical_to_redirect(site: Site) -> Iterator[Hit]:
    """A page names as canonical an address that redirects.

    Why: The canonical says “this is the address”, and the address says “no, that one”; engines may follow neither.
    Mend: Name the final address.
    Rests on: RFC 6596 section 5: a canonical should not be a redirect.
    Evidence: The canonical, and what its target answers.
    """
    yield from _by_answer(
        site, "t.tail = 'folded' AND t.fold_how IN ('redirect', 'refresh')", "names a canonical that redirects"
    )


def _by_answer(site: Site, condition: str, message: str) -> Iterator[Hit]:
    found = targets(site, condition, f"{site.all_mask} & ~t.barred")
    tags = canonicals(site, [one.id for one in found])
    shown = answers(site, [one.target for one in found])
    for one in found:
        evidence = (*tags.get(one.id, ()), *shown.get(one.target, ()))
        yield Hit(one.url, one.crawlers, f"{message}: {one.target_url}", evidence, also=(one.target_url,))


@check(
    "canonical-to-hidden",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    feeds=("canonical-fold", "noindex"),
)
def canonical_to_hidden(site: Site) -> Iterator[Hit]:
    """A page names as canonical a page that says noindex.

    Why: The page folds into one that is not listed, so neither is.
    Mend: Take the noindex off the target, or name another canonical.
    Rests on: RFC 6596: the canonical stands for the page in listings; noindex keeps it out of them.
    Evidence: The canonical, and the noindex of its target.
    """
    found = targets(site, "t.noindex & ~t.barred > 0 AND t.status < 300", "t.noindex & ~t.barred")
    tags = canonicals(site, [one.id for one in found])
    shown = said(site, [one.target for one in found], site.all_mask)
    for one in found:
        evidence = (*tags.get(one.id, ()), *shown.get(one.target, ()))
        message = f"names a canonical that says noindex: {one.target_url}"
        yield Hit(one.url, one.crawlers, message, evidence, also=(one.target_url,))


@check(
    "canonical-to-barred",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    needs=(Need.ROBOTS,),
    feeds=("canonical-fold", "barred"),
)
def canonical_to_barred(site: Site) -> Iterator[Hit]:
    """A page names as canonical an address that robots.txt bars.

    Why: The address that should stand for the page cannot be fetched, so it cannot be listed with content.
    Mend: Let the target be fetched, or name an address that may be.
    Rests on: RFC 6596 section 5; RFC 9309 section 2.2.2.
    Evidence: The canonical, and the rule that bars its target.
    """
    found = targets(site, "t.barred > 0", "t.barred")
    tags = canonicals(site, [one.id for one in found])
    for one in found:
        evidence = (*tags.get(one.id, ()), *rules(site, one.target_url, one.crawlers))
        message = f"names a canonical that robots.txt bars: {one.target_url}"
        yield Hit(one.url, one.crawlers, message, evidence, also=(one.target_url,))


@check(
    "canonical-chain",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.NOTHING,
    feeds=("canonical-fold",),
    change=NAMES_THE_LAST,
)
def canonical_chain(site: Site) -> Iterator[Hit]:
    """A page names as canonical a page that itself names another.

    Why: Engines may stop at the first or follow to the last; which address stands for the page is left to them.
    Mend: Name the last address of the chain everywhere.
    Rests on: RFC 6596 section 5: the canonical should not itself name another.
    Evidence: Each canonical of the chain.
    """
    circle = {number for loop in loops(site) for number in loop}
    yield from _chained(site, lambda number: number not in circle, "names a canonical that names another: {}, then {}")


@check("canonical-loop", CheckClass.CONFLICT, Severity.FIX, follows=Follows.NOTHING, feeds=("canonical-fold",))
def canonical_loop(site: Site) -> Iterator[Hit]:
    """Canonicals lead back to where they began.

    Why: Each page says that the other stands for it, so neither does; engines choose for themselves.
    Mend: Decide which page stands for the others, and let it name itself.
    Rests on: RFC 6596 section 5.
    Evidence: Each canonical of the circle.
    """
    circle = {number for loop in loops(site) for number in loop}
    yield from _chained(site, lambda number: number in circle, "names a canonical that leads back here: {}, then {}")


def loops(site: Site) -> list[list[int]]:
    """Circles of canonicals."""
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
        yield Hit(
            one.url, one.crawlers, text, evidence, also=tuple(dict.fromkeys((one.target_url, onward[one.target])))
        )


@check(
    "canonical-and-noindex",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    feeds=("canonical-fold", "noindex"),
    change=Change(SAID, to("(the noindex goes, or the canonical does)")),
)
def canonical_and_noindex(site: Site) -> Iterator[Hit]:
    """A page says noindex and names another page as canonical.

    Why: One says “leave this page out”, the other “it is the same as that one”; the noindex may carry over to the target.
    Mend: Keep the canonical if the pages are the same, the noindex if they are not.
    Rests on: Engine practice: noindex beside a canonical elsewhere is contradictory.
    Evidence: The noindex and the canonical.
    """
    found = targets(site, "f.noindex > 0 AND f.status < 300", "f.noindex")
    ids = [one.id for one in found]
    noindex, tags = said(site, ids, site.all_mask), canonicals(site, ids)
    for one in found:
        evidence = (*noindex.get(one.id, ()), *tags.get(one.id, ()))
        message = f"says noindex and names another canonical: {one.target_url}"
        yield Hit(one.url, one.crawlers, message, evidence, also=(one.target_url,))
