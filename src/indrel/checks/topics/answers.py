"""What addresses answer: errors that look like pages, pages that change with the crawler that asks."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from indrel.checks.catalogue import Follows, Hit, Need, check
from indrel.checks.changes import NOT_FOUND
from indrel.checks.evidence import WHERE, answers
from indrel.checks.topics.rendering import WRONG, looks, missed, sampled
from indrel.checks.topics.wants import page_texts
from indrel.core.address import split
from indrel.core.answers import status_text
from indrel.core.model import CheckClass, Evidence, Severity, listing
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
    """A made-up address is not answered with 404.

    Why: Crawlers cannot tell error pages from real ones, so gone pages stay listed and junk is fetched without end.
    Mend: Answer addresses that do not exist with 404 or 410, whatever page is shown to visitors.
    Rests on: RFC 9110 section 15.5.5: 404 says that there is nothing at an address.
    Evidence: The made-up address and its status.
    """
    for origin, url, status, final, final_status in site.rows(
        "SELECT origin, url, status, final, final_status FROM probe WHERE folder IS NULL ORDER BY origin"
    ):
        path = split(url).path
        to_start = split(final).path == "/"
        if final_status != 200 or not (status == 200 or to_start or path in final) or site.is_closed(origin):
            continue
        evidence = [Evidence("status", url, None, status_text(status, None))]
        message = "a made-up address answers 200, as if it existed"
        if status != 200:
            evidence.append(Evidence("status", final, None, status_text(final_status, None)))
            message = f"a made-up address leads to {'the start page' if to_start else final} instead of a 404"
        yield Hit(origin + "/", site.all_mask, message, tuple(evidence))


class _Disguised(NamedTuple):
    """An error page that answers 200: whether a made-up address (`probe`) gets it too, and who leads there."""

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
    needs=(Need.LIVE,),
    feeds=("page",),
    change=NOT_FOUND,
)
def soft_missing(site: Site) -> Iterator[Hit]:
    """An error or “nothing here” page is answered with 200.

    Why: Crawlers take it for a page; engines find out in the end and treat it as an error, after many fetches.
    Mend: Answer 404 or 410 (or redirect to what took its place) where there is nothing.
    Rests on: RFC 9110 section 15.5.5: 404 says that there is nothing at an address.
    Evidence: The status, what the page says, and the made-up address that gets the same page.
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
            shown.append(Evidence("status", one.probe, None, "a made-up address gets the same page"))
            message = "answers 200 with the page that a made-up address gets"
        else:
            message = f"answers 200, but says “{told[one.id].text}”, and has next to nothing else"
        named = ["the sitemap lists it"] * one.listed + ["pages link to it"] * one.linked
        yield Hit(one.url, one.crawlers, "; ".join([message, *([listing(named)] if named else [])]), tuple(shown))
    yield from _missing_once_rendered(site)


def _missing_once_rendered(site: Site) -> Iterator[Hit]:
    """Pages that say so only once their scripts have run, as what they asked for is not there (or nothing failed at all)."""
    if not site.holds("render"):
        return
    found = looks(site, f"{WRONG} AND f.tail <> 'broken' AND NOT r.served_error")
    lost = missed(site, [look.id for look in found])
    for look in found:
        refused, failed = lost.get((look.id, look.mask), ([], []))
        absent = [one for one in failed if one.status and 400 <= one.status < 500]
        if refused or len(absent) < len(failed) or not (absent or (look.outcome == "error" and not look.errors)):
            continue  # what is then wrong is the page: render-broken
        shown = [
            Evidence("status", look.url, None, status_text(look.status, None)),
            Evidence("rendered", look.place, None, look.excerpt or "no text"),
        ]
        shown += [Evidence("status", one.url, None, status_text(one.status, None)) for one in absent[:3]]
        said = f"says “{(look.excerpt or '')[:80]}”" if look.outcome == "error" else "is empty"
        because = f", as {absent[0].url} answers {absent[0].status}" if absent else ""
        message = f"answers 200, but {said} once its scripts have run{because}{sampled(site, look.group)}"
        yield Hit(look.url, look.crawlers, message, tuple(shown))


class _Told(NamedTuple):
    """An address that is told noindex: by a header (origin 1) or tag, where that stands, and what it says."""

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
    """A redirect or error says noindex, though it is never listed anyway.

    Why: It does no harm, but it is often a sign that a rule was set for more addresses than meant.
    Mend: Leave it, or send the noindex only with pages.
    Rests on: RFC 9110 sections 15.4 to 15.6: the status decides before any directive.
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
            yield Hit(one.url, one.crawlers, f"says noindex, but answers “{what}”", (first, *shown[one.id]))


@check(
    "agent-differs",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST,
    needs=(Need.LIVE, Need.AS_CRAWLERS),
    feeds=("as_crawler",),
)
def agent_differs(site: Site) -> Iterator[Hit]:
    """A page's status, robots directives or canonical change with the name of the crawler that asks.

    Why: What people and tools see is not what that crawler acts on; often a guard or cache is to blame.
    Mend: Give all who ask the same answer; take rules by name out of server, guard or cache.
    Rests on: Practice: a page is to be the same for all who ask; asked twice under each name.
    Evidence: What each was answered.
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
            message = f"{listing(list(names))} differ{'s' if len(names) == 1 else ''} when {listing(site.names(mask), 'or')} asks"
            yield Hit(url, mask, message, tuple(shown)[:8])
