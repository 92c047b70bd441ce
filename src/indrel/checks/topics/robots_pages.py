"""robots.txt and single pages: the ones that it blocks although they are wanted, listed or have directives of their own."""

from __future__ import annotations

from collections.abc import Iterator

from indrel.base.plain import code
from indrel.checks.advice import LOOKS_PRIVATE
from indrel.checks.catalogue import Follows, Hit, Need, check
from indrel.checks.changes import LINE_GOES
from indrel.checks.evidence import LISTED_ROW_F, PAGE_ROW, kept_from_all, listings, rules, said, stated, who_is
from indrel.checks.narrowing import narrower
from indrel.checks.topics.robots import overreaching, shut_hosts, site_robots, without_shut_site
from indrel.checks.topics.sitemaps import listed
from indrel.core.model import CheckClass, Evidence, Severity, State, plural, verb
from indrel.core.robots import Access
from indrel.decide.site import Site


@check(
    "barred-wanted",
    CheckClass.BLOCKED,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    reports=State.BARRED,
    rests_on_want=True,
    needs=(Need.ROBOTS, Need.PAGES),
    draft="robots",
)
def barred_wanted(site: Site) -> Iterator[Hit]:
    """A wanted page is blocked by robots.txt.

    Why: The crawler cannot fetch it, so only its bare URL can be indexed, without its content.
    Fix: Limit the rule to the pages you mean, or add a longer Allow rule for the wanted page.
    Source: RFC 9309 section 2.2.2.
    Evidence: The deciding rule, and the entry that says that the page is wanted.
    """
    shut, wide = shut_hosts(site), overreaching(site)
    for url, mask, start, named, entry in site.rows(
        "SELECT origin || path, barred, start, named, entry FROM fact WHERE site AND barred > 0 AND want = 'show' "
        f"AND {PAGE_ROW} ORDER BY origin, path"
    ):
        mask = without_shut_site(site, url, mask, shut)
        evidence = rules(site, url, mask)
        if mask and evidence and url not in wide:
            what = code(evidence[0].text) if evidence[0].kind == "robots" else "An unreachable robots.txt"
            message = f"{what} blocks {who_is(start, named, entry)}."
            shown, advice = (*evidence, *stated(site, entry)), narrower(site, url, mask)
            yield Hit(url, mask, message, shown, implied=entry is None, advice=advice)


@check(
    "barred-noindex",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    needs=(Need.ROBOTS,),
    feeds=("barred", "noindex"),
    change=LINE_GOES,
    draft="robots",
)
def barred_noindex(site: Site) -> Iterator[Hit]:
    """A page blocked by robots.txt has noindex, which no crawler can read.

    Why: robots.txt prevents the fetch, so the noindex is never seen, and the bare URL can still be indexed.
    Fix: Unblock the page so that crawlers see the noindex. Block it again, if at all, once it has left the index.
    Source: RFC 9309 blocks fetching, not indexing; a directive on a page that is not fetched is not read.
    Evidence: The rule, and the tag or header.
    """
    found = site.rows(
        "SELECT id, origin || path, barred & noindex FROM fact WHERE site AND read AND barred & noindex > 0 "
        "AND status < 300 ORDER BY origin, path"
    )
    tags = said(site, [i for i, _, _ in found], site.all_mask)
    for number, url, mask in found:
        evidence = (*rules(site, url, mask), *tags.get(number, ()))
        yield Hit(
            url, mask, "The page has noindex, but robots.txt blocks it, so crawlers cannot read the noindex.", evidence
        )


@check("barred-unread", CheckClass.FLAW, Severity.NOTE, follows=Follows.SHUT_HOST, needs=(Need.LIVE, Need.ROBOTS))
def barred_unread(site: Site) -> Iterator[Hit]:
    """Pages blocked by robots.txt were not read in this audit.

    Why: Whether they have noindex, a canonical or an error is unknown, so checks that need to know skip them.
    Fix: If you are responsible for the site, audit it with --read-barred.
    Source: RFC 9309 section 2.2.2: this audit obeys the rules on behalf of the audited crawlers.
    Evidence: The rules that block them.
    """
    for host in site_robots(site):
        found = site.rows(
            "SELECT origin || path FROM fact WHERE known AND NOT read AND origin = ? AND barred = ? ORDER BY path",
            [host.origin, site.all_mask],
        )
        if found and host.access is Access.RULES:
            urls = [url for (url,) in found]
            lines = {e for url in urls[:1000] for e in rules(site, url, site.all_mask)}
            their = verb(len(urls), "was not read, so its", "were not read, so their")
            message = f"{plural(len(urls), 'blocked URL')} {their} directives are unknown."
            shown = sorted(lines, key=lambda e: (e.line or 0, e.text))[:10]
            yield Hit(host.url, site.all_mask, message, tuple(shown), also=tuple(urls[:200]))


@check(
    "listed-barred",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    reports=State.BARRED,
    needs=(Need.ROBOTS, Need.PAGES),
    feeds=("entry",),
)
def listed_barred(site: Site) -> Iterator[Hit]:
    """The sitemap lists a URL that is blocked by robots.txt.

    Why: One file asks crawlers to fetch the page, the other forbids it. At best the bare URL is indexed, without content.
    Fix: Remove the entry from the sitemap, or limit the rule so that the page can be fetched.
    Source: Sitemaps protocol 0.9 lists URLs for crawling; RFC 9309 section 2.2.2 decides whether they may be fetched.
    Evidence: The deciding rule, and the sitemap entry.
    """
    shut = shut_hosts(site)
    of_end = f"(CASE WHEN f.barred > 0 THEN f.barred ELSE e.barred & {site.all_mask} END)"
    found = listed(site, f"f.barred > 0 AND {LISTED_ROW_F} OR f.barred = 0 AND f.id <> e.id AND e.barred > 0", of_end)
    entries = listings(site, [one.id for one in found])
    barred = {number for (number,) in site.rows("SELECT id FROM fact WHERE listed AND barred > 0")}
    for one in found:
        url = one.url if one.id in barred else one.end_url
        mask = without_shut_site(site, url, one.crawlers, shut)
        evidence = rules(site, url, mask) if mask else ()
        if evidence:
            loc, entry = entries[one.id]
            redirect = "" if url == one.url else f"it redirects to {url}, which "
            message = f"The sitemap lists this URL, but {redirect}{_blocks(evidence[0], bool(redirect))}."
            also = (url,) if redirect else ()
            if one.id in kept_from_all(site):
                yield Hit(loc, mask, message, (*evidence, entry), also, Severity.ASK, advice=LOOKS_PRIVATE)
            else:
                yield Hit(loc, mask, message, (*evidence, entry), also, advice=narrower(site, url, mask))


def _blocks(line: Evidence, passive: bool = False) -> str:
    """What blocks a URL, as a clause."""
    if line.kind != "robots":
        return "is blocked, because robots.txt is unreachable" if passive else "robots.txt is unreachable"
    return f"is blocked by {code(line.text)}" if passive else f"{code(line.text)} blocks it"
