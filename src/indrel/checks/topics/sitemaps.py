"""Sitemaps: whether they can be read, and whether what they put forward deserves it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import NamedTuple

from indrel.base.plain import code
from indrel.checks.catalogue import Follows, Hit, Need, check
from indrel.checks.changes import ENTRY_GOES
from indrel.checks.evidence import (
    LISTED_OTHER,
    LISTED_ROW,
    UNWANTED,
    Subject,
    answers,
    canonicals,
    expired,
    listings,
    robots_line,
    said,
    stated,
)
from indrel.checks.topics.directives import hidden_hosts, without_hidden_host
from indrel.core.answers import status_text
from indrel.core.model import CheckClass, Evidence, Severity, listing
from indrel.core.sitemap import USUAL
from indrel.core.sitemap.read import NAMESPACE, TOO_LONG, TOO_MANY
from indrel.decide.site import Site
from indrel.decide.sitemaps import is_part


@check(
    "sitemap-none",
    CheckClass.FLAW,
    Severity.ASK,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    needs=(Need.SITEMAPS, Need.ROBOTS),
)
def sitemap_none(site: Site) -> Iterator[Hit]:
    """No sitemap was found.

    Why: Crawlers find pages by links alone, and nothing tells which pages the owner puts forward.
    Mend: Publish a sitemap of the pages that are meant to be listed, and name it in robots.txt.
    Rests on: Sitemaps protocol 0.9; the usual addresses are practice.
    Evidence: The places that were looked at.
    """
    if site.one("SELECT count(*) FROM sitemap") or (
        site.meta.get("incomplete_because", "") and not site.one("SELECT count(*) FROM answer")
    ):
        return
    host = site.robots.get(site.base_origin)
    shown = []
    if host and host.known:
        shown.append(robots_line(host, None, "no Sitemap line"))
    shown += [Evidence("sitemap", site.base_origin + path, None, "no sitemap there") for path in USUAL]
    yield Hit(
        site.base, site.all_mask, "no sitemap: none named in robots.txt, none at the usual addresses", tuple(shown)
    )


@check("sitemap-is-page", CheckClass.FLAW, Severity.FIX, follows=Follows.SHUT_HOST, feeds=("sitemap",))
def sitemap_is_page(site: Site) -> Iterator[Hit]:
    """A sitemap's address answers 200 with an HTML page.

    Why: The file seems to exist, but lists nothing; often an app answers every path with its start page.
    Mend: Serve the sitemap itself at the address, or answer 404 and take the address out of robots.txt.
    Rests on: Sitemaps protocol 0.9: a sitemap is XML, text or a feed.
    Evidence: The address and what names it.
    """
    for url, via, status, by, line in site.rows(
        "SELECT url, via, status, announced_by, announced_line FROM sitemap "
        "WHERE status = 200 AND kind = 'html' ORDER BY url"
    ):
        shown = [Evidence("status", url, None, f"{status_text(status, None)}, an HTML page")]
        yield Hit(url, site.all_mask, "the sitemap is an HTML page", (*shown, *_announced(site, via, by, line)))


def _announced(site: Site, via: str, origin: str | None, line: int | None) -> list[Evidence]:
    host = site.robots.get(origin or "")
    if via != "robots" or host is None:
        return []
    return [robots_line(host, line, one.text) for one in host.file.sitemaps if one.line == line]


@check("sitemap-unreadable", CheckClass.FLAW, Severity.FIX, follows=Follows.SHUT_HOST, feeds=("sitemap",))
def sitemap_unreadable(site: Site) -> Iterator[Hit]:
    """A sitemap cannot be read, or not to its end.

    Why: Engines drop what they cannot read, often the whole file.
    Mend: Repair the place that the message names; serve the file whole, with status 200.
    Rests on: Sitemaps protocol 0.9: well-formed XML in its namespace, UTF-8, entity-escaped; or text, or a feed.
    Evidence: The file, with line and column.
    """
    for url, via, status, fetch_error, kind, root, namespace, error, line, column, by, at in site.rows(
        """SELECT url, via, status, fetch_error, kind, root, namespace, error, line, col, announced_by, announced_line
        FROM sitemap WHERE kind <> 'html' ORDER BY url"""
    ):
        what = sitemap_fault(status, fetch_error, kind, root, namespace, error)
        if what:
            place = f" (line {line}, column {column})" if line else ""
            shown = Evidence("sitemap", url, line, what)
            message = f"the sitemap cannot be read: {what}{place}"
            yield Hit(url, site.all_mask, message, (shown, *_announced(site, via, by, at)))


def sitemap_fault(
    status: int | None, fetch_error: str | None, kind: str, root: str | None, namespace: str | None, error: str | None
) -> str | None:
    """What keeps a sitemap from being read, or None."""
    if status != 200:
        return status_text(status, fetch_error)
    if error and error not in (TOO_LONG, TOO_MANY):  # so far it was read
        return error
    if fetch_error:
        return fetch_error
    if kind == "unknown":
        return f"its root element is {code(root)}" if root else "it is neither XML nor text"
    if kind in ("urlset", "index") and namespace != NAMESPACE:
        return f"its namespace is {code(namespace or '')} instead of {code(NAMESPACE)}"
    return None


def _listed(site: Site, condition: str, mask: str = "") -> list[Subject]:
    """Listed addresses that meet a condition over `fact`."""
    chosen = mask or f"{site.all_mask} & ~barred"
    return [
        one
        for one in site.named(
            Subject,
            f"SELECT id, origin || path, {chosen} FROM fact WHERE site AND listed AND {condition} AND {LISTED_OTHER} "
            "ORDER BY origin, path",
        )
        if one.crawlers
    ]


def _by_answer(site: Site, condition: str, message: str, mends: Mapping[int, str] | None = None) -> Iterator[Hit]:
    """One hit an entry, with what is to be done of those of which the catalogue says it otherwise."""
    found = _listed(site, condition)
    ids = [one.id for one in found]
    entries, shown = listings(site, ids), answers(site, ids)
    for one in found:
        loc, entry = entries[one.id]
        first = next((e for e in shown[one.id] if e.kind == "status"), shown[one.id][0])
        mend = (mends or {}).get(one.id, "")
        yield Hit(loc, one.crawlers, message.format(first.text), (*shown[one.id], entry), mend=mend)


UNDATED = "Take the date out, or set a later one, if the page is to be listed; else take it out of the sitemap."


@check(
    "listed-hidden",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    feeds=("entry", "noindex"),
    change=ENTRY_GOES,
)
def listed_hidden(site: Site) -> Iterator[Hit]:
    """The sitemap puts forward a page that says noindex.

    Why: One says “list this”, the other “do not”; the page is not listed, and the sitemap is trusted less.
    Mend: Take the noindex off if the page is to be listed, else take the page out of the sitemap.
    Rests on: Sitemaps protocol 0.9; the robots meta tag and X-Robots-Tag as search engines document them.
    Evidence: The tag or header, and the sitemap entry.
    """
    found = _listed(site, f"hidden > 0 AND {LISTED_ROW}", "hidden")
    ids = [one.id for one in found]
    entries, tags, dated = listings(site, ids), said(site, ids, site.all_mask), expired(site, ids)
    told = hidden_hosts(site)
    for one in found:
        shown = tags.get(one.id, ())
        mask = without_hidden_host(told, one.url, shown, one.crawlers)
        if mask:
            loc, entry = entries[one.id]
            who = "" if mask == site.all_mask else f" for {listing(site.names(mask))}"
            says = "counts as noindex since a date that has passed" if one.id in dated else "says noindex"
            mend = UNDATED if one.id in dated else ""
            yield Hit(loc, mask, f"in the sitemap, but {says}{who}", (*shown, entry), mend=mend)


@check(
    "listed-folded",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST,
    feeds=("entry", "canonical-fold"),
    change=ENTRY_GOES,
)
def listed_folded(site: Site) -> Iterator[Hit]:
    """The sitemap puts forward a page that names another as canonical.

    Why: The page says that another address stands for it, so only that one should be put forward.
    Mend: List the canonical instead, or let the page name itself.
    Rests on: Sitemaps protocol 0.9; RFC 6596.
    Evidence: The canonical, and the sitemap entry.
    """
    found = _listed(site, "tail = 'folded' AND fold_how = 'canonical'")
    ids = [one.id for one in found]
    entries, tags = listings(site, ids), canonicals(site, ids)
    into = dict(
        site.rows("SELECT f.id, t.origin || t.path FROM fact f JOIN fact t ON t.id = f.folds_to WHERE f.listed")
    )
    for one in found:
        loc, entry = entries[one.id]
        message = f"in the sitemap, but its canonical names {into[one.id]}"
        yield Hit(loc, one.crawlers, message, (*tags.get(one.id, ()), entry), also=(into[one.id],))


@check(
    "listed-redirects",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST,
    feeds=("entry", "redirect"),
    change=ENTRY_GOES,
)
def listed_redirects(site: Site) -> Iterator[Hit]:
    """The sitemap puts forward an address that redirects.

    Why: A sitemap is to list final addresses; each redirect costs a fetch, and many make it untrustworthy.
    Mend: List the address that the redirect leads to.
    Rests on: Sitemaps protocol 0.9; RFC 9110 section 15.4.
    Evidence: The status and Location (or the refresh tag), and the sitemap entry.
    """
    redirects = "tail = 'folded' AND fold_how IN ('redirect', 'refresh')"
    useless = site.rows(
        f"""SELECT id FROM fact JOIN (SELECT id AS place FROM fact WHERE {UNWANTED} OR hidden > 0
            OR tail IN ('gone', 'broken', 'locked')) ON place = coalesce(folds_into, folds_to) WHERE listed AND {redirects}"""
    )
    mends = {number: "Take the entry out: it leads to a page that is not to be listed." for (number,) in useless}
    yield from _by_answer(site, redirects, "in the sitemap, but redirects ({})", mends)


@check(
    "listed-gone",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.NEEDED_VISIT,
    feeds=("entry", "gone"),
    change=ENTRY_GOES,
)
def listed_gone(site: Site) -> Iterator[Hit]:
    """The sitemap puts forward an address that is gone.

    Why: Crawlers are sent to nothing, and the sitemap is trusted less.
    Mend: Take the entry out; if the page moved, list where it went.
    Rests on: Sitemaps protocol 0.9; RFC 9110 section 15.5.
    Evidence: The status, and the sitemap entry.
    """
    yield from _by_answer(site, "tail = 'gone'", "in the sitemap, but answers “{}”")


@check(
    "listed-broken",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.SOFT_404,
    feeds=("entry", "broken"),
    change=ENTRY_GOES,
)
def listed_broken(site: Site) -> Iterator[Hit]:
    """The sitemap puts forward an address that answers with an error, not at all, or with an error page as 200.

    Why: Crawlers are sent to an error, and the page drops out of the listings if it lasts.
    Mend: Mend the page, or take the entry out.
    Rests on: Sitemaps protocol 0.9; RFC 9110 section 15.6.
    Evidence: The status, and the sitemap entry.
    """
    yield from _by_answer(site, "tail = 'broken'", "in the sitemap, but broken ({})")


@check(
    "listed-locked",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST,
    needs=(Need.LIVE,),
    feeds=("entry", "locked"),
    change=ENTRY_GOES,
)
def listed_locked(site: Site) -> Iterator[Hit]:
    """The sitemap puts forward an address that asks for credentials.

    Why: No crawler gets in, and the sitemap tells everyone that the address is there.
    Mend: Take the entry out, or open the page.
    Rests on: Sitemaps protocol 0.9; RFC 9110 sections 15.5.2 and 15.5.4.
    Evidence: The status, and the sitemap entry.
    """
    yield from _by_answer(site, "tail = 'locked'", "in the sitemap, but asks for credentials ({})")


@check(
    "wanted-unlisted",
    CheckClass.CONFLICT,
    Severity.ASK,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    needs=(Need.INTENT,),
    feeds=("sitemap", "stated"),
)
def wanted_unlisted(site: Site) -> Iterator[Hit]:
    """An open page that is to be shown is in no sitemap, though there are sitemaps.

    Why: What the owner puts forward and what is wanted are not the same; the page is found by links alone.
    Mend: Add it to the sitemap, at best in the generator's settings, so that the section is in.
    Rests on: Sitemaps protocol 0.9; the want that the intent file states.
    Evidence: The intent's entry.
    """
    if not site.one("SELECT count(*) FROM sitemap WHERE kind <> 'html'"):
        return
    for url, mask, entry in site.rows(
        f"""SELECT origin || path, open, entry FROM fact WHERE known AND open > 0 AND entry IS NOT NULL AND want = 'show'
        AND NOT listed AND NOT {is_part(site)} ORDER BY origin, path"""
    ):
        yield Hit(url, mask, "is to be shown, but no sitemap lists it", stated(site, entry))


class _Stated(NamedTuple):
    """An address of which the intent's entry states what is wanted."""

    id: int
    want: str
    entry: int


@check(
    "listed-unwanted",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.NOTHING,
    feeds=("entry", "stated"),
    change=ENTRY_GOES,
)
def listed_unwanted(site: Site) -> Iterator[Hit]:
    """The sitemap puts forward an address that is to be hidden, locked or dropped.

    Why: The sitemap asks crawlers to come to what the owner does not want listed.
    Mend: Take the entry out, at best in the generator's settings, so that the section stays out.
    Rests on: Sitemaps protocol 0.9; the want that the intent file states.
    Evidence: The intent's entry, and the sitemap's.
    """
    found = site.named(
        _Stated,
        f"SELECT id, want, entry FROM fact WHERE site AND listed AND entry IS NOT NULL AND {UNWANTED} ORDER BY origin, path",
    )
    entries = listings(site, [one.id for one in found])
    words = {"hide": "hidden", "lock": "locked", "drop": "dropped"}
    for one in found:
        loc, entry = entries[one.id]
        message = f"in the sitemap, but it is to be {words[one.want]}"
        yield Hit(loc, site.all_mask, message, (*stated(site, one.entry), entry))
