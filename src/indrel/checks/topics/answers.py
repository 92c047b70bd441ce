"""Responses: errors that look like pages, and pages that differ by user agent."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from indrel.checks.catalogue import Follows, Hit, Need, check
from indrel.checks.changes import NOT_FOUND
from indrel.checks.evidence import WHERE, answers, page_texts
from indrel.checks.topics.rendering import WRONG, looks, missed, sampled
from indrel.core.address import split
from indrel.core.answers import status_text
from indrel.core.model import CheckClass, Evidence, Severity, State, capital, listing, verb
from indrel.decide.site import Site


@check(
    "missing-answers-200",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST,
    needs=(Need.LIVE,),
    feeds=("probe",),
    change=NOT_FOUND,
)
def missing_answers_200(site: Site) -> Iterator[Hit]:
    """A URL that cannot exist returns 200 or redirects to the home page.

    Why: Crawlers cannot tell error pages from real ones, so removed pages stay indexed and junk is fetched without end.
    Fix: Return 404 or 410 for URLs that do not exist, whatever page visitors see.
    Source: RFC 9110 section 15.5.5: 404 means that there is no page at a URL.
    Evidence: The URL that cannot exist, and its status.
    """
    for origin, url, status, final, final_status in site.rows(
        "SELECT origin, url, status, final, final_status FROM probe WHERE folder IS NULL ORDER BY origin"
    ):
        path = split(url).path
        to_start = split(final).path == "/"
        if final_status != 200 or not (status == 200 or to_start or path in final) or site.is_closed(origin):
            continue
        evidence = [Evidence("status", url, None, status_text(status, None))]
        message = "A URL that cannot exist returns 200, as if it existed."
        if status != 200:
            evidence.append(Evidence("status", final, None, status_text(final_status, None)))
            message = f"A URL that cannot exist redirects to {'the home page' if to_start else final} instead of returning 404."
        yield Hit(origin + "/", site.all_mask, message, tuple(evidence))


class _Disguised(NamedTuple):
    """An error page that returns 200: whether a URL that cannot exist (`probe`) gets it too, and what leads there."""

    id: int
    url: str
    crawlers: int
    status: int
    matches: bool
    probe: str
    listed: bool
    linked: bool


@check(
    "soft-missing",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.NEEDED_VISIT,
    reports=State.BROKEN,
    needs=(Need.LIVE,),
    feeds=("page",),
    change=NOT_FOUND,
)
def soft_missing(site: Site) -> Iterator[Hit]:
    """An error or "nothing here" page returns 200 (soft 404).

    Why: Crawlers take it for a page. Engines find out in the end and treat it as an error, after many fetches.
    Fix: Return 404 or 410 (or redirect to the page that replaced it) if there is no page.
    Source: RFC 9110 section 15.5.5: 404 means that there is no page at a URL.
    Evidence: The status, the text of the page, and the URL that cannot exist and gets the same page.
    """
    found = site.named(
        _Disguised,
        f"""SELECT f.id, f.origin || f.path, {site.all_mask} & ~f.barred, f.status, f.matches_missing,
            (SELECT p.url FROM probe p WHERE p.origin = f.origin
                AND (p.folder IS NULL OR starts_with(f.path, '/' || p.folder || '/'))
                ORDER BY p.text_hash IS NOT DISTINCT FROM f.text_hash DESC, p.folder NULLS FIRST LIMIT 1),
            f.listed, f.followed + f.unfollowed > 0
        FROM fact f WHERE f.site AND f.read AND f.status BETWEEN 200 AND 299 AND f.tail = 'broken' AND f.html
        AND (f.matches_missing OR f.kind = 'error') ORDER BY f.origin, f.path""",
    )
    told = page_texts(site, [one.id for one in found])
    for one in found:
        if not one.crawlers:
            continue
        shown = [Evidence("status", one.url, None, status_text(one.status, None)), told[one.id]]
        if one.matches:
            shown.append(Evidence("status", one.probe, None, "a URL that cannot exist gets the same page"))
            message = "The page returns 200, but it is the page that a URL that cannot exist gets"
        else:
            message = f"The page returns 200, but it only says “{told[one.id].text}”"
        named = ["the sitemap lists it"] * one.listed + ["pages link to it"] * one.linked
        yield Hit(
            one.url,
            one.crawlers,
            ". ".join([message, *([f"{listing(named)[:1].upper()}{listing(named)[1:]}"] if named else [])]) + ".",
            tuple(shown),
        )
    yield from _missing_once_rendered(site)


def _missing_once_rendered(site: Site) -> Iterator[Hit]:
    """Pages that turn out to be errors only once their scripts have run, because their data is missing (or nothing failed at all)."""
    if not site.holds("render"):
        return
    found = looks(site, f"{WRONG} AND f.tail <> 'broken' AND NOT r.served_error")
    lost = missed(site, [look.id for look in found])
    for look in found:
        refused, failed = lost.get((look.id, look.mask), ([], []))
        absent = [one for one in failed if one.status and 400 <= one.status < 500]
        if refused or len(absent) < len(failed) or not (absent or (look.outcome == "error" and not look.errors)):
            continue  # then the page itself is wrong: render-broken
        shown = [
            Evidence("status", look.url, None, status_text(look.status, None)),
            Evidence("rendered", look.place, None, look.excerpt or "no text"),
        ]
        shown += [Evidence("status", one.url, None, status_text(one.status, None)) for one in absent[:3]]
        said = f"says “{(look.excerpt or '')[:80]}”" if look.outcome == "error" else "is empty"
        because = f", because {absent[0].url} returns {absent[0].status}" if absent else ""
        message = f"The page returns 200, but {said} once its scripts have run{because}{sampled(site, look.group)}."
        yield Hit(look.url, look.crawlers, message, tuple(shown))


class _Told(NamedTuple):
    """A URL with noindex: from a header (origin 1) or tag, its line and its text."""

    id: int
    url: str
    crawlers: int
    origin: int
    line: int | None
    text: str
    where: str


@check(
    "noindex-on-answer", CheckClass.FLAW, Severity.NOTE, follows=Follows.NOTHING, needs=(Need.LIVE,), feeds=("noindex",)
)
def noindex_on_answer(site: Site) -> Iterator[Hit]:
    """A redirect or error has noindex, although it is never indexed anyway.

    Why: It does no harm, but it often shows that a rule applies to more URLs than intended.
    Fix: Ignore it, or send the noindex only with pages.
    Source: RFC 9110 sections 15.4 to 15.6: the status decides before any directive.
    Evidence: The tag or header, and the status.
    """
    found = site.named(
        _Told,
        f"""SELECT d.address, a.origin || a.path, bit_or(s.mask) & ~any_value(a.barred), min(d.origin),
            first(d.line ORDER BY d.origin, d.line, d.text), first(d.text ORDER BY d.origin, d.line, d.text),
            any_value({WHERE}) FROM directive d JOIN scope s ON s.name = d.scope JOIN fact a ON a.id = d.address
            JOIN answer n ON n.address = d.address
            WHERE a.site AND d.noindex AND d.void IS NULL AND a.status >= 300 GROUP BY ALL ORDER BY a.origin || a.path""",
    )
    shown = answers(site, [one.id for one in found])
    for one in found:
        if one.crawlers:
            first = Evidence("header" if one.origin else "tag", one.where, one.line, one.text)
            what = shown[one.id][0].text
            yield Hit(
                one.url,
                one.crawlers,
                f"The URL has noindex, but it returns “{what}”, which is never indexed.",
                (first, *shown[one.id]),
            )


_NAMES = {"robots": "the robots directives", "canonical": "the canonical", "status": "the status"}


@check(
    "agent-differs",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST,
    needs=(Need.LIVE, Need.AS_CRAWLERS),
    feeds=("as_crawler",),
)
def agent_differs(site: Site) -> Iterator[Hit]:
    """The status, robots directives or canonical of a page differ by user agent (cloaking).

    Why: Crawlers act on something else than people and tools see. Often a firewall or cache is the reason.
    Fix: Return the same response to every user agent: remove rules by user agent from server, firewall and cache.
    Source: Practice: a page should be the same for every user agent; each was requested twice.
    Evidence: What was returned to each.
    """
    tokens = {c.token: 1 << i for i, c in enumerate(site.crawlers)}
    pages: dict[str, tuple[int, dict[str, None], dict[Evidence, None]]] = {}
    for url, crawler, what, ours, theirs in site.rows(
        """SELECT a.origin || a.path AS url, c.crawler, c.what, c.ours, c.theirs FROM as_crawler c
        JOIN address a ON a.id = c.address ORDER BY url, c.what = 'links', c.what DESC, c.crawler"""
    ):
        if crawler not in tokens:
            continue
        kind = {"robots": "tag", "links": "link"}.get(what, what)
        mask, names, shown = pages.get(url, (0, {}, {}))
        shown[Evidence(kind, url, None, f"to {crawler}: {theirs}")] = None
        shown[Evidence(kind, url, None, f"otherwise: {ours}")] = None
        if what != "links":
            mask |= tokens[crawler]
            names[what] = None
        pages[url] = (mask, names, shown)
    for url, (mask, names, shown) in pages.items():
        if mask:
            what = listing([_NAMES.get(n, n) for n in names])
            differ = verb(len(names) + ("robots" in names), "differs", "differ")
            message = f"{capital(what)} {differ} for {listing(site.names(mask), 'or')}."
            yield Hit(url, mask, message, tuple(shown)[:8])
