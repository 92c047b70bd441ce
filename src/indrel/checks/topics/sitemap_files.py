"""Sitemap files by themselves: their size, nesting, URLs, dates and hints."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import UTC, date, datetime, timedelta

from indrel.base.plain import code
from indrel.base.sqltext import quoted_list
from indrel.checks.catalogue import Follows, Hit, Need, check
from indrel.checks.evidence import rules
from indrel.checks.measures import MANY, MOST_NAMED, NEARLY_ALL
from indrel.checks.topics.canonical_values import unreachable_host
from indrel.core.address import normalise, origin_of, split
from indrel.core.model import CheckClass, Evidence, Severity, plural, verb
from indrel.core.page.tokens import parse_date
from indrel.core.page.wording import W3C_DATE
from indrel.core.robots import Access
from indrel.core.sitemap.read import MAX_ENTRIES, MAX_OCTETS
from indrel.decide.site import Site, once

FREQUENCIES = ("always", "hourly", "daily", "weekly", "monthly", "yearly", "never")

_AHEAD = timedelta(hours=14)
"""How far a date may be ahead for its time zone."""


def loc(kind: str, text: str) -> str:
    """An entry as evidence shows it."""
    return text if kind == "text" else f"<loc>{text}</loc>"


@check("sitemap-too-large", CheckClass.FLAW, Severity.FIX, follows=Follows.NOTHING, feeds=("sitemap",))
def sitemap_too_large(site: Site) -> Iterator[Hit]:
    """A sitemap has over 50,000 entries or is over 50 MiB.

    Why: Engines may drop the whole file, or the part over the limit.
    Fix: Split it into several files, and list them in an index.
    Source: Sitemaps protocol 0.9: at most 50,000 entries and 52,428,800 bytes, unpacked.
    Evidence: The file, with its entries and bytes.
    """
    for url, kind, entries, octets in site.rows(
        f"""SELECT url, kind, entries, octets FROM sitemap
        WHERE kind <> 'html' AND (entries > {MAX_ENTRIES} OR octets > {MAX_OCTETS}) ORDER BY url"""
    ):
        what = "sitemaps" if kind == "index" else "entries"
        text = f"{entries:,} {what}, {octets:,} bytes"
        over = f"{entries:,} {what}" if entries > MAX_ENTRIES else f"{octets:,} bytes"
        limit = f"{MAX_ENTRIES:,}" if entries > MAX_ENTRIES else f"{MAX_OCTETS:,}"
        yield Hit(
            url, site.all_mask, f"The file has {over}; the limit is {limit}.", (Evidence("sitemap", url, None, text),)
        )


@check("sitemap-empty", CheckClass.FLAW, Severity.ASK, follows=Follows.NOTHING, feeds=("sitemap",))
def sitemap_empty(site: Site) -> Iterator[Hit]:
    """A sitemap, or an index with all its files, has no entry.

    Why: It lists nothing: the program that builds it may have failed silently.
    Fix: Let the generator list the pages that should be indexed, or remove the file.
    Source: Sitemaps protocol 0.9: a sitemap lists the URLs that are available for crawling.
    Evidence: The file.
    """
    for url, kind, entries, children in site.rows(
        """SELECT m.url, m.kind, m.entries, count(c.id) FROM sitemap m LEFT JOIN sitemap c ON c.parent = m.id
        WHERE m.status = 200 AND m.parent IS NULL AND m.error IS NULL AND m.kind NOT IN ('html', 'unknown')
        AND NOT EXISTS (SELECT 1 FROM elsewhere o WHERE o.sitemap = m.id)
        GROUP BY m.id, m.url, m.kind, m.entries
        HAVING CASE WHEN m.kind = 'index' THEN coalesce(sum(c.entries), 0) = 0 AND bool_and(coalesce(c.status, 200) = 200)
            AND count(c.id) >= m.entries ELSE m.entries = 0 END ORDER BY m.url"""
    ):
        what = (
            f"an index of {plural(children, 'sitemap')} without entries" if kind == "index" and entries else "no entry"
        )
        yield Hit(url, site.all_mask, f"The sitemap has no entry ({kind}).", (Evidence("sitemap", url, None, what),))


@check("sitemap-index-elsewhere", CheckClass.CONFLICT, Severity.FIX, follows=Follows.NOTHING, feeds=("elsewhere",))
def sitemap_index_elsewhere(site: Site) -> Iterator[Hit]:
    """A sitemap index lists files of another host, all or some.

    Why: Engines do not accept one host's files from another host's index, so their entries are lost from view.
    Fix: List this site's own sitemaps in the index. Often the generator's base URL is wrong.
    Source: Sitemaps protocol 0.9: an index lists sitemaps on its own host.
    Evidence: The lines that list them.
    """
    for url, own, listed in site.rows(
        """SELECT m.url, (SELECT count(*) FROM sitemap c WHERE c.parent = m.id), list((o.loc, o.line) ORDER BY o.line, o.loc)
        FROM sitemap m JOIN elsewhere o ON o.sitemap = m.id
        WHERE m.kind = 'index'
        GROUP BY m.id, m.url ORDER BY m.url"""
    ):
        shown = tuple(Evidence("sitemap", url, line, f"<loc>{where}</loc>") for where, line in listed[:3])
        every = f"{len(listed):,} of {plural(len(listed) + own, 'sitemap')}"
        message = (
            f"{every} in the index {verb(len(listed))} on another host. Engines ignore {verb(len(listed), 'it', 'them')}, so the "
            f"entries there are lost from view: {listed[0][0]}."
        )
        yield Hit(url, site.all_mask, message, shown, also=tuple(where for where, _ in listed[:MOST_NAMED]))


@check("sitemap-index-nested", CheckClass.FLAW, Severity.FIX, follows=Follows.NOTHING, feeds=("sitemap",))
def sitemap_index_nested(site: Site) -> Iterator[Hit]:
    """A sitemap index lists another index.

    Why: Engines read one level: what the inner index lists is not read.
    Fix: List the sitemaps themselves in one index, or name the inner index in robots.txt.
    Source: Sitemaps protocol 0.9: an index lists sitemaps, not indexes.
    Evidence: The outer index with the line that lists the inner one.
    """
    for outer, inner, line in site.rows(
        """SELECT o.url, i.url, i.announced_line FROM sitemap i JOIN sitemap o ON o.id = i.parent
        WHERE i.kind = 'index' AND o.kind = 'index' ORDER BY o.url, i.announced_line, i.url"""
    ):
        shown = Evidence("sitemap", outer, line, f"<loc>{inner}</loc>")
        yield Hit(outer, site.all_mask, f"The index lists another index: {inner}.", (shown,), also=(inner,))


@check(
    "sitemap-barred",
    CheckClass.BLOCKED,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    needs=(Need.ROBOTS,),
    feeds=("sitemap",),
)
def sitemap_barred(site: Site) -> Iterator[Hit]:
    """The sitemap's own URL is blocked by robots.txt.

    Why: Crawlers cannot fetch the file, so they do not see what it lists.
    Fix: Limit the rule, or add an Allow rule for the sitemap.
    Source: RFC 9309 section 2.2.2; the sitemap is a URL like any other.
    Evidence: The rule.
    """
    for (url,) in site.rows("SELECT DISTINCT url FROM sitemap ORDER BY url"):
        mask = 0
        for i, crawler in enumerate(site.crawlers):
            allowed, rule, _ = site.rule_for(url, crawler)
            mask |= 1 << i if not allowed and rule is not None else 0
        if mask:
            evidence = rules(site, url, mask)
            yield Hit(url, mask, f"{code(evidence[0].text)} blocks the sitemap.", evidence)


@check("sitemap-foreign", CheckClass.CONFLICT, Severity.FIX, follows=Follows.NOTHING, feeds=("entry",))
def sitemap_foreign(site: Site) -> Iterator[Hit]:
    """A sitemap lists URLs on another host or scheme, or above its folder, that nothing vouches for.

    Why: Engines ignore such entries: otherwise anyone could list another site's pages.
    Fix: List the URL in a sitemap on its own host, or name this sitemap in that host's robots.txt.
    Source: Sitemaps protocol 0.9: entries are on the file's host and scheme, at or below its folder, unless that host's
    robots.txt names the file.
    Evidence: Where the file is; the entry.
    """
    for url, final, kind, entry, line in site.rows(
        """SELECT m.url, m.final, m.kind, e.loc, e.line FROM entry e JOIN sitemap m ON m.id = e.sitemap
        WHERE e.fault IS NULL AND m.kind NOT IN ('html', 'index') AND starts_with(m.url, 'http')
        AND (NOT starts_with(e.loc, m.url[:length(m.url) - strpos(reverse(m.url), '/') + 1]) OR contains(e.loc, '/.'))
        ORDER BY m.url, e.line, e.col"""
    ):
        meant = normalise(entry) or entry  # written differently, it may mean a URL of the file's own place
        if any(f"{meant}/".startswith(own[: own.rindex("/") + 1]) for own in (url, final) if own):
            continue
        origin = origin_of(meant)
        if vouched(site, url, origin) or (final != url and vouched(site, final, origin)):
            continue
        own = origin_of(url)
        if origin == own:
            why = f"above the folder of {url}"
        elif origin.partition("://")[2] == own.partition("://")[2]:
            why = f"on another scheme than {url}"
        else:
            why = f"on another host than {url}"
        shown = (Evidence("sitemap", url, None, f"entries {why}"), Evidence("sitemap", url, line, loc(kind, entry)))
        message = f"The entry is {why}, and no robots.txt of its host names the file."
        advice = SET_THE_URL if unreachable_host(split(meant).host) else ""
        if "scheme" in why:
            message = f"The entry is {why}: engines ignore it."
            advice = f"Write the entries with {split(url).scheme}://, as the pages of the site are."
        yield Hit(entry, site.all_mask, message, shown, advice=advice)


SET_THE_URL = "Set the site's public URL in the generator, and build the sitemap again: visitors cannot reach the host of its entries."


@once
def _named(site: Site) -> tuple[set[tuple[str, str]], dict[str, str]]:
    """The sitemaps that each host's robots.txt names, and per sitemap the index that lists it."""
    named: set[tuple[str, str]] = set()
    for host in site.robots.values():
        authority = host.origin.partition("://")[2]
        named |= {(authority, line.value.strip()) for line in host.file.sitemaps}
    return named, dict(site.rows("SELECT i.url, o.url FROM sitemap i JOIN sitemap o ON o.id = i.parent"))


def vouched(site: Site, sitemap: str, origin: str) -> bool:
    """Whether robots.txt of the entries' host names a sitemap or an index that lists it, or that index is on the entries' host
    itself, so that the host's owner vouches for the file."""
    named, parents = _named(site)
    scheme, _, authority = origin.partition("://")
    asked = site.robots.get(origin)
    if (
        asked and asked.access is Access.ALL_BARRED and origin in site.starts
    ):  # what the site's own host names is unknown
        return True
    if scheme != split(sitemap).scheme:
        return False  # a name vouches for hosts, never for another scheme
    if (authority, sitemap) in named:
        return True
    parent = parents.get(sitemap)
    if parent is None or not parent.startswith("http"):
        return False
    index = split(parent).origin
    return index.partition("://")[2] == authority or ((authority, parent) in named and index == split(sitemap).origin)


@check("sitemap-bad-entry", CheckClass.FLAW, Severity.FIX, follows=Follows.NOTHING, feeds=("entry",))
def sitemap_bad_entry(site: Site) -> Iterator[Hit]:
    """A `loc` is empty, relative, too long, malformed, or has a fragment.

    Why: Engines skip entries that are not URLs.
    Fix: Write the whole URL, with scheme and host, as is served, with `&` as `&amp;`.
    Source: Sitemaps protocol 0.9: `loc` is a whole URL of fewer than 2,048 characters.
    Evidence: What is wrong; the entry.
    """
    for url, kind, entry, line, column, fault in site.rows(
        """SELECT m.url, m.kind, e.loc, e.line, e.col, e.fault FROM entry e JOIN sitemap m ON m.id = e.sitemap
        WHERE e.fault IS NOT NULL ORDER BY m.url, e.line, e.col"""
    ):
        what = re.sub(r"^[0-9,]+ characters long", "too long", fault)
        shown = (Evidence("sitemap", url, None, what), Evidence("sitemap", url, line, loc(kind, entry[:300])))
        yield Hit(entry[:2_048] or url, site.all_mask, f"The URL at line {line}, column {column} is {fault}.", shown)


@check("sitemap-repeat", CheckClass.FLAW, Severity.NOTE, follows=Follows.NOTHING, feeds=("entry",))
def sitemap_repeat(site: Site) -> Iterator[Hit]:
    """A URL is listed twice, in one sitemap or in several.

    Why: It does no harm, but dates and hints may disagree, and the limits are reached sooner.
    Fix: List each URL once.
    Source: Sitemaps protocol 0.9 lists each URL once; a feed in addition to a sitemap may repeat what is new.
    Evidence: Both entries.
    """
    # A file found only at a usual URL, such as a text copy of the sitemap, is not a second list.
    rows = site.rows(
        f"""WITH said AS (SELECT e.loc, e.line, e.col, m.url, m.kind, m.via, e.sitemap,
                row_number() OVER (PARTITION BY e.loc ORDER BY e.sitemap, e.line, e.col) AS place,
                first(m.url) OVER (PARTITION BY e.loc ORDER BY e.sitemap, e.line, e.col) AS first_url,
                first(m.kind) OVER (PARTITION BY e.loc ORDER BY e.sitemap, e.line, e.col) AS first_kind,
                first(e.line) OVER (PARTITION BY e.loc ORDER BY e.sitemap, e.line, e.col) AS first_line
            FROM entry e JOIN sitemap m ON m.id = e.sitemap
            WHERE e.loc <> '' AND m.kind NOT IN ('rss', 'atom'))
        SELECT url, kind, first_url, first_kind, count(*), (list(DISTINCT loc ORDER BY loc))[:{MOST_NAMED}], first(loc ORDER BY line, col),
            min(line), first(first_line ORDER BY line, col) FROM said
        WHERE place > 1 AND (via <> 'usual' OR url = first_url) GROUP BY ALL ORDER BY url, first_url"""
    )
    for url, kind, first_url, first_kind, count, urls, entry, line, first_line in rows:
        where = "twice in this file" if url == first_url else f"in {first_url} too"
        shown = (
            Evidence("sitemap", url, line, loc(kind, entry)),
            Evidence("sitemap", first_url, first_line, loc(first_kind, entry)),
        )
        message = f"{plural(count, 'entry', 'entries')} {verb(count)} {where}."
        yield Hit(url, site.all_mask, message, shown, also=tuple(urls))


def date_fault(text: str, kind: str, now: datetime) -> str | None:
    """What is wrong with a `lastmod` as written: its form, or that it is in the future."""
    if kind == "rss":
        found = parse_date(text)
        if found is None:
            return "not a date as feeds write them (RFC 822)"
        return "in the future" if found > now + timedelta(minutes=5) else None
    form = W3C_DATE.fullmatch(text)
    if form is None:
        return "not a W3C Datetime"
    try:
        day = date(int(form[1]), int(form[2] or 1), int(form[3] or 1))
    except ValueError:
        return "no such day"
    if form[4] is None:
        return "in the future" if day > (now + _AHEAD).date() else None
    found = datetime.fromisoformat(text.replace(":60", ":59"))
    return "in the future" if found > now + timedelta(minutes=5) else None


@check("sitemap-bad-date", CheckClass.FLAW, Severity.FIX, follows=Follows.NOTHING, feeds=("entry",))
def sitemap_bad_date(site: Site) -> Iterator[Hit]:
    """A lastmod is not a valid date, or is in the future.

    Why: Engines stop trusting the dates of a file if some are wrong.
    Fix: Write the date of the last real change as 2026-11-23 or 2026-11-23T08:00:00+00:00.
    Source: Sitemaps protocol 0.9: `lastmod` in W3C Datetime.
    Evidence: The dates.
    """
    started = str(site.meta.get("started") or "")
    now = datetime.fromisoformat(started) if started else datetime.now(UTC)
    faults: dict[tuple[str, str], str] = {}
    for text, kind in site.rows(
        "SELECT DISTINCT e.lastmod, m.kind FROM entry e JOIN sitemap m ON m.id = e.sitemap WHERE e.lastmod IS NOT NULL"
    ):
        fault = date_fault(text, kind, now)
        if fault:
            faults[text, kind] = fault
    if not faults:
        return
    files: dict[str, tuple[list[str], list[Evidence], dict[str, None]]] = {}
    for url, kind, text, line, entry in site.rows(
        """SELECT m.url, m.kind, e.lastmod, e.line, e.loc FROM entry e JOIN sitemap m ON m.id = e.sitemap
        WHERE e.lastmod IN (SELECT unnest(?::VARCHAR[])) ORDER BY m.url, e.line, e.col""",
        [sorted({text for text, _ in faults})],
    ):
        if (text, kind) in faults:
            urls, shown, what = files.setdefault(url, ([], [], {}))
            urls.append(entry)
            what[faults[text, kind]] = None
            if len(shown) < 3:
                shown.append(Evidence("sitemap", url, line, f"<lastmod>{text}</lastmod>"))
    for url, (urls, shown, what) in files.items():
        message = f"{plural(len(urls), 'lastmod date')} {verb(len(urls))} wrong: {', '.join(what)}."
        yield Hit(url, site.all_mask, message, tuple(shown), also=tuple(urls[:MOST_NAMED]))


@check("sitemap-flat-dates", CheckClass.FLAW, Severity.NOTE, follows=Follows.NOTHING, feeds=("entry",))
def sitemap_flat_dates(site: Site) -> Iterator[Hit]:
    """Nearly all lastmod values of a sitemap are the same instant, so they carry no information.

    Why: It is the time of the build, not of changes; engines learn to ignore the dates.
    Fix: Write the time at which the page's content last changed, or omit the date.
    Source: Sitemaps protocol 0.9: `lastmod` is the date of the page's last change.
    Evidence: The date, and how often it occurs.
    """
    for url, text, same, dated in site.rows(
        f"""SELECT url, lastmod, same, dated FROM (
            SELECT m.url, e.lastmod, count(*) AS same, sum(count(*)) OVER (PARTITION BY m.url) AS dated
            FROM entry e JOIN sitemap m ON m.id = e.sitemap WHERE e.lastmod IS NOT NULL GROUP BY m.url, e.lastmod)
        WHERE dated >= {MANY} AND same >= {NEARLY_ALL} * dated ORDER BY url"""
    ):
        message = f"{same:,} of {int(dated):,} dates are {text}, so they carry no information about changes."
        yield Hit(url, site.all_mask, message, (Evidence("sitemap", url, None, f"<lastmod>{text}</lastmod>"),))


@check("sitemap-bad-hint", CheckClass.FLAW, Severity.NOTE, follows=Follows.NOTHING, feeds=("entry",))
def sitemap_bad_hint(site: Site) -> Iterator[Hit]:
    """A changefreq or priority is outside the protocol.

    Why: Strict readers reject the file; large engines ignore both hints anyway.
    Fix: Omit both, or write one of the protocol's words and a number from 0.0 to 1.0.
    Source: Sitemaps protocol 0.9: changefreq is one of seven words, priority is between 0.0 and 1.0.
    Evidence: The hints.
    """
    words = quoted_list(FREQUENCIES)
    files: dict[str, tuple[list[str], dict[Evidence, None]]] = {}
    for url, entry, line, frequency, priority, wrong in site.rows(
        f"""SELECT m.url, e.loc, e.line, e.changefreq, e.priority, coalesce(e.changefreq NOT IN ({words}), false)
        FROM entry e JOIN sitemap m ON m.id = e.sitemap
        WHERE e.changefreq NOT IN ({words}) OR (e.priority IS NOT NULL
            AND NOT coalesce(try_cast(e.priority AS DOUBLE) BETWEEN 0 AND 1, false)) ORDER BY m.url, e.line, e.col"""
    ):
        urls, shown = files.setdefault(url, ([], {}))
        urls.append(entry)
        if len(shown) < 3:
            text = f"<changefreq>{frequency}</changefreq>" if wrong else f"<priority>{priority}</priority>"
            shown[Evidence("sitemap", url, line, text)] = None
    for url, (urls, shown) in files.items():
        has, first = verb(len(urls), "has a hint", "have hints"), code(next(iter(shown)).text)
        message = f"{plural(len(urls), 'entry', 'entries')} {has} outside the protocol, such as {first}."
        yield Hit(url, site.all_mask, message, tuple(shown), also=tuple(urls[:MOST_NAMED]))
