"""Sitemaps: whether they can be read, and whether the URLs that they list can be indexed."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import NamedTuple

from indrel.base.plain import code
from indrel.checks.advice import LOOKS_PRIVATE, REMOVE, REPAIR, Advice, entry_advice, folded_entry_advice, targets
from indrel.checks.catalogue import Follows, Hit, Need, check
from indrel.checks.evidence import (
    LISTED_OTHER,
    LISTED_ROW_F,
    UNWANTED,
    answers,
    broken,
    canonicals,
    expired,
    kept_from_all,
    listings,
    robots_line,
    said,
    stated,
)
from indrel.checks.topics.directives import hidden_hosts, without_hidden_host
from indrel.core.answers import status_text
from indrel.core.model import CheckClass, Evidence, Severity, State, listing
from indrel.core.relation import in_words, relation
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

    Why: Crawlers find pages by links alone, and nothing tells them which pages the owner wants indexed.
    Fix: Publish a sitemap of the pages that should be indexed, and name it in robots.txt.
    Source: Sitemaps protocol 0.9; the usual URLs are practice.
    Evidence: The URLs that were tried.
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
    message = "No sitemap was found: robots.txt names none, and none is at the usual URLs."
    yield Hit(site.base, site.all_mask, message, tuple(shown))


@check("sitemap-is-page", CheckClass.FLAW, Severity.FIX, follows=Follows.SHUT_HOST, feeds=("sitemap",))
def sitemap_is_page(site: Site) -> Iterator[Hit]:
    """The sitemap's URL returns an HTML page.

    Why: The file seems to exist, but lists nothing. Often an app returns its home page for every path.
    Fix: Serve the sitemap at the URL, or return 404 there and remove the URL from robots.txt.
    Source: Sitemaps protocol 0.9: a sitemap is XML, text or a feed.
    Evidence: The URL, and the line that names it.
    """
    for url, via, status, by, line in site.rows(
        "SELECT url, via, status, announced_by, announced_line FROM sitemap "
        "WHERE status = 200 AND kind = 'html' ORDER BY url"
    ):
        shown = [Evidence("status", url, None, f"{status_text(status, None)}, an HTML page")]
        yield Hit(
            url, site.all_mask, "The sitemap's URL returns an HTML page.", (*shown, *_announced(site, via, by, line))
        )


def _announced(site: Site, via: str, origin: str | None, line: int | None) -> list[Evidence]:
    host = site.robots.get(origin or "")
    if via != "robots" or host is None:
        return []
    return [robots_line(host, line, one.text) for one in host.file.sitemaps if one.line == line]


@check("sitemap-unreadable", CheckClass.FLAW, Severity.FIX, follows=Follows.SHUT_HOST, feeds=("sitemap",))
def sitemap_unreadable(site: Site) -> Iterator[Hit]:
    """The sitemap cannot be read, or not to its end.

    Why: Engines drop what they cannot read, often the whole file.
    Fix: Repair the line that the message names, and serve the whole file with status 200.
    Source: Sitemaps protocol 0.9: well-formed XML in its namespace, UTF-8, entity-escaped; or text, or a feed.
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
            message = f"The sitemap cannot be read: {what}{place}."
            yield Hit(url, site.all_mask, message, (shown, *_announced(site, via, by, at)))


def sitemap_fault(
    status: int | None, fetch_error: str | None, kind: str, root: str | None, namespace: str | None, error: str | None
) -> str | None:
    """Why a sitemap cannot be read, or None."""
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


LED_ON = """CASE WHEN f.tail = 'folded' AND f.fold_how IN ('redirect', 'refresh') AND f.folds_into IS NOT NULL THEN f.folds_into
    ELSE f.id END"""
"""The page that a listed URL comes to: itself, or the end of its redirects."""


class Listed(NamedTuple):
    """A listed URL, and the page that it comes to: itself, or the end of its redirects (`led` tells which)."""

    id: int
    url: str
    crawlers: int
    end: int
    end_url: str

    @property
    def led(self) -> bool:
        return self.end != self.id

    @property
    def after(self) -> str:
        """How the end is named in a message."""
        return f"redirects to {self.end_url}, which" if self.led else ""


def listed(site: Site, condition: str, mask: str = "") -> list[Listed]:
    """Listed URLs whose page meets a condition over `e`, its row of `fact`; `mask` is over `f` (the listed URL) and `e`."""
    chosen = mask or f"{site.all_mask} & ~f.barred & ~e.barred"
    return [
        one
        for one in site.named(
            Listed,
            f"""SELECT f.id, f.origin || f.path, {chosen}, e.id, e.origin || e.path FROM fact f JOIN fact e ON e.id = {LED_ON}
            WHERE f.site AND f.listed AND ({condition}) AND {LISTED_OTHER} ORDER BY f.origin, f.path""",
        )
        if one.crawlers
    ]


def _by_answer(site: Site, condition: str, what: str, advice: Callable[[Listed], Advice | str],
               words: Callable[[str], str] = str) -> Iterator[Hit]:  # fmt: skip
    """One hit per entry whose page returns something that cannot be indexed; `what` takes the `words` of the status."""
    found = listed(site, condition)
    entries = listings(site, [one.id for one in found])
    shown = answers(site, [number for one in found for number in (one.id, one.end)])
    for one in found:
        loc, entry = entries[one.id]
        status = next((e for e in shown[one.end] if e.kind == "status"), shown[one.end][0])
        message = f"The sitemap lists this URL, but it {one.after} {what.format(words(status.text))}.".replace(
            "  ", " "
        )
        evidence = (*shown[one.id], *((status,) if one.led else ()), entry)
        also = (one.end_url,) if one.led else ()
        yield Hit(loc, one.crawlers, message, evidence, also, advice=advice(one))


UNDATED = (
    "Remove the date or set a later one if the page should be indexed. Otherwise remove the entry from the sitemap."
)


@check(
    "listed-hidden",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    reports=State.HIDDEN,
    feeds=("entry", "noindex"),
)
def listed_hidden(site: Site) -> Iterator[Hit]:
    """The sitemap lists a page that has noindex.

    Why: The sitemap says "index this", the page says "do not". The page is not indexed, and engines trust the sitemap less.
    Fix: Remove the noindex if the page should be indexed. Otherwise remove the page from the sitemap.
    Source: Sitemaps protocol 0.9; the robots meta tag and X-Robots-Tag as search engines document them.
    Evidence: The tag or header, and the sitemap entry.
    """
    found = listed(site, f"e.hidden > 0 AND (f.id <> e.id OR {LISTED_ROW_F})", "e.hidden & ~f.barred")
    ids = [one.end for one in found]
    entries, tags, dated = listings(site, [one.id for one in found]), said(site, ids, site.all_mask), expired(site, ids)
    unwanted = _ids(site, "want = 'hide'")
    told = hidden_hosts(site)
    for one in found:
        shown = tags.get(one.end, ())
        mask = without_hidden_host(told, one.end_url, shown, one.crawlers)
        if mask:
            loc, entry = entries[one.id]
            who = "" if mask == site.all_mask else f" for {listing(site.names(mask))}"
            has = "has counted as noindex since its date passed" if one.end in dated else "has noindex"
            subject = f"redirects to {one.end_url}, which" if one.led else "the page"
            message = f"The sitemap lists this URL, but {'it ' if one.led else ''}{subject} {has}{who}."
            advice = UNDATED if one.end in dated else REMOVE if one.end in unwanted else ""
            is_private = one.id in kept_from_all(site)
            yield Hit(
                loc, mask, message, (*shown, entry), (one.end_url,) if one.led else (), Severity.ASK if is_private else None,
                advice=LOOKS_PRIVATE if is_private else advice,
            )  # fmt: skip


def _ids(site: Site, condition: str) -> set[int]:
    return {number for (number,) in site.rows(f"SELECT id FROM fact WHERE {condition}")}


@check(
    "listed-folded",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.TARGET | Follows.CANONICAL,
    feeds=("entry", "canonical-fold"),
)
def listed_folded(site: Site) -> Iterator[Hit]:
    """The sitemap lists a page whose canonical points to another URL.

    Why: The page says that another URL represents it, so the sitemap should list only that one.
    Fix: List the URL that the canonical points to, or let the canonical point to the page's own URL.
    Source: Sitemaps protocol 0.9; RFC 6596.
    Evidence: The canonical, and the sitemap entry.
    """
    found = [one for one in listed(site, "f.tail = 'folded' AND f.fold_how = 'canonical'") if not one.led]
    ids = [one.id for one in found]
    entries, tags, led = listings(site, ids), canonicals(site, ids), targets(site, ids)
    for one in found:
        loc, entry = entries[one.id]
        target = led[one.id]
        message = f"The sitemap lists this page, but its canonical points to {target.url}."
        evidence, advice = (*tags.get(one.id, ()), entry), folded_entry_advice(target) or ""
        also = tuple(dict.fromkeys((target.url, target.end or target.url)))
        yield Hit(loc, one.crawlers, message, evidence, also, advice=advice, pair=(one.url, target.url))


@check(
    "listed-redirects",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.TARGET,
    feeds=("entry", "redirect"),
)
def listed_redirects(site: Site) -> Iterator[Hit]:
    """The sitemap lists a URL that redirects.

    Why: A sitemap should list final URLs. Each redirect costs a fetch, and many of them make the sitemap untrustworthy.
    Fix: List the URL at the end of the redirect.
    Source: Sitemaps protocol 0.9; RFC 9110 section 15.4.
    Evidence: The status and Location (or the refresh tag), and the sitemap entry.
    """
    led_on = "f.tail = 'folded' AND f.fold_how IN ('redirect', 'refresh')"
    ended = "e.id <> f.id AND (e.barred > 0 OR e.hidden > 0 OR e.tail IN ('gone', 'broken', 'locked'))"
    found = listed(site, f"{led_on} AND NOT ({ended})", f"{site.all_mask} & ~f.barred")
    ids = [one.id for one in found]
    entries, shown, led = listings(site, ids), answers(site, ids), targets(site, ids)
    for one in found:
        loc, entry = entries[one.id]
        end = led[one.id].end or led[one.id].url
        said = in_words(relation(one.url, end), "the target")
        apart = f": {said}" if said else ""
        listed_too = ", which the sitemap also lists" if led[one.id].listed and led[one.id].is_open else ""
        message = f"The sitemap lists this URL, but it redirects to {end}{listed_too}{apart}."
        advice = entry_advice(led[one.id]) or ""
        yield Hit(loc, one.crawlers, message, (*shown[one.id], entry), (end,), advice=advice, pair=(one.url, end))


@check(
    "listed-gone",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.NEEDED_VISIT,
    feeds=("entry", "gone"),
    change=REMOVE.change,
)
def listed_gone(site: Site) -> Iterator[Hit]:
    """The sitemap lists a URL that is gone.

    Why: Crawlers are sent to a page that does not exist, and engines trust the sitemap less.
    Fix: Remove the entry. If the page moved, list its new URL.
    Source: Sitemaps protocol 0.9; RFC 9110 section 15.5.
    Evidence: The status, and the sitemap entry.
    """
    yield from _by_answer(site, "e.tail = 'gone'", "returns “{}”", lambda one: REMOVE if one.led else "")


@check(
    "listed-broken",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.SOFT_404,
    reports=State.BROKEN,
    feeds=("entry", "broken"),
)
def listed_broken(site: Site) -> Iterator[Hit]:
    """The sitemap lists a URL that returns an error, does not respond, or is a soft 404.

    Why: Crawlers are sent to an error, and the page drops out of the index if that lasts.
    Fix: Repair the page, or remove the entry.
    Source: Sitemaps protocol 0.9; RFC 9110 section 15.6.
    Evidence: The status, and the sitemap entry.
    """
    soft = _ids(site, "tail = 'broken' AND status BETWEEN 200 AND 299")
    yield from _by_answer(site, "e.tail = 'broken'", "is {}", lambda one: "" if one.end in soft else REPAIR, broken)


@check(
    "listed-locked",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST,
    needs=(Need.LIVE,),
    feeds=("entry", "locked"),
    change=REMOVE.change,
)
def listed_locked(site: Site) -> Iterator[Hit]:
    """The sitemap lists a URL that returns 401 or 403.

    Why: No crawler can read the page, and the sitemap tells everyone that the URL exists.
    Fix: Remove the entry. If the page should be public, let the server return it without a login.
    Source: Sitemaps protocol 0.9; RFC 9110 sections 15.5.2 and 15.5.4.
    Evidence: The status, and the sitemap entry.
    """
    yield from _by_answer(site, "e.tail = 'locked'", "returns “{}”", lambda one: REMOVE if one.led else "")


@check(
    "wanted-unlisted",
    CheckClass.CONFLICT,
    Severity.ASK,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    needs=(Need.INTENT,),
    feeds=("sitemap", "stated"),
)
def wanted_unlisted(site: Site) -> Iterator[Hit]:
    """A page that you want shown is not in any sitemap, although sitemaps exist.

    Why: The sitemaps and the intent file disagree, and crawlers find the page by links alone.
    Fix: Add it to the sitemap, preferably in the generator's settings, so that the whole section is included.
    Source: Sitemaps protocol 0.9; the want that the intent file states.
    Evidence: The entry of the intent file.
    """
    if not site.one("SELECT count(*) FROM sitemap WHERE kind <> 'html'"):
        return
    for url, mask, entry in site.rows(
        f"""SELECT origin || path, open, entry FROM fact WHERE known AND open > 0 AND entry IS NOT NULL AND want = 'show'
        AND NOT listed AND NOT {is_part(site)} ORDER BY origin, path"""
    ):
        yield Hit(url, mask, "You want this page shown, but it is not in any sitemap.", stated(site, entry))


class _Stated(NamedTuple):
    """A URL with the entry of the intent file that states its want."""

    id: int
    want: str
    entry: int


@check(
    "listed-unwanted",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.NOTHING,
    feeds=("entry", "stated"),
    change=REMOVE.change,
)
def listed_unwanted(site: Site) -> Iterator[Hit]:
    """The sitemap lists a URL that you want hidden, locked or dropped.

    Why: The sitemap asks crawlers to fetch a page that the owner does not want indexed.
    Fix: Remove the entry, preferably in the generator's settings, so that the whole section stays out.
    Source: Sitemaps protocol 0.9; the want that the intent file states.
    Evidence: The entries of the intent file and of the sitemap.
    """
    found = site.named(
        _Stated,
        f"SELECT id, want, entry FROM fact WHERE site AND listed AND entry IS NOT NULL AND {UNWANTED} ORDER BY origin, path",
    )
    entries = listings(site, [one.id for one in found])
    words = {"hide": "hidden", "lock": "locked", "drop": "dropped"}
    for one in found:
        loc, entry = entries[one.id]
        message = f"The sitemap lists this URL, but you want it {words[one.want]}."
        yield Hit(loc, site.all_mask, message, (*stated(site, one.entry), entry))
