"""robots.txt: what the file is, what its lines do, what they do to wanted pages."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterator

from indrel.base.plain import code
from indrel.checks.catalogue import Follows, Hit, Need, check
from indrel.checks.changes import ENTRY_GOES, LINE_GOES, ROBOTS, STATUS, Change, also_allowed, to
from indrel.checks.evidence import LISTED_ROW, PAGE_ROW, first_link, listings, robots_line, rules, said, stated, who_is
from indrel.checks.measures import MANY, MOST_NAMED, NEARLY_ALL
from indrel.core.address import made_up_path, origin_of, split
from indrel.core.answers import NO_SUCH_FILE, NO_SUCH_HOST, status_text
from indrel.core.model import CheckClass, Evidence, Severity, plural
from indrel.core.page.headers import is_html
from indrel.core.robots import Access, HostRobots
from indrel.core.robots.file import FIELDS, Rule
from indrel.decide.site import Site, once

UNSUPPORTED = frozenset({
    "noindex", "nofollow", "noarchive", "nosnippet", "host", "crawl-delay", "clean-param", "request-rate", "visit-time",
    "comment", "cache-delay",
})  # fmt: skip


def site_robots(site: Site) -> Iterator[HostRobots]:
    """robots.txt of the site's own hosts, as far as it was asked for."""
    for host in site.robots.values():
        if host.role == "site" and host.known:
            yield host


def is_page(host: HostRobots) -> bool:
    """Whether a robots.txt that answers 200 is an HTML page."""
    head = host.body.removeprefix(b"\xef\xbb\xbf").lstrip()[:2000].lower()
    looks = head.startswith((b"<!doctype html", b"<html", b"<head")) or (head.startswith(b"<") and b"<html" in head)
    return host.access is Access.RULES and (looks or (is_html(host.media_type) and not host.file.groups and bool(head)))


Shut = dict[tuple[str, int], int]
"""For an origin and a crawler (by number) that `site-barred` speaks of, the line that shuts the host."""


@once
def shut_hosts(site: Site) -> Shut:
    """The hosts of the site that robots.txt shuts as a whole."""
    found: Shut = {}
    for origin, start in site.fronts.items():
        host = site.robots.get(origin)
        if host is None or host.access is not Access.RULES or site.is_closed(origin):
            continue
        made_up = origin + made_up_path(origin)
        for i, crawler in enumerate(site.crawlers):
            allowed, rule, _ = site.rule_for(start, crawler)
            if allowed or rule is None:
                continue
            bit = 1 << i
            wanted, barred = site.rows(
                f"SELECT count(*), count(*) FILTER (barred & {bit} > 0) FROM fact "
                "WHERE origin = ? AND (want = 'show' OR id = (SELECT id FROM address WHERE origin || path = ?))",
                [origin, start],
            )[0]
            elsewhere = not site.rule_for(made_up, crawler)[0]
            if barred >= NEARLY_ALL * wanted and (elsewhere or wanted >= MANY):
                found[origin, i] = rule.line
    return found


def without_shut_site(site: Site, url: str, mask: int, shut: Shut) -> int:
    """A mask without the crawlers for which `site-barred` has told the cause, or whose host is closed."""
    origin = origin_of(url)
    host = site.robots.get(origin)
    if host is None or host.access is not Access.RULES:
        return 0
    for (shut_origin, i), line in shut.items():
        if shut_origin == origin and mask >> i & 1:
            rule = site.rule_for(url, site.crawlers[i])[1]
            if rule is not None and rule.line == line:
                mask &= ~(1 << i)
    return mask


_PLAIN = re.compile(r"^/[^*$?%]*[A-Za-z0-9]$")


def overreaching(site: Site) -> dict[str, tuple[str, Rule, int, int | None]]:
    """Wanted addresses that a rule written as a plain word or folder bars only because they begin alike.

    Gives per address its origin, the rule, the crawlers and the entry that states the want; addresses
    of hosts that are shut as a whole are left out.
    """
    shut = shut_hosts(site)
    found: dict[str, tuple[str, Rule, int, int | None]] = {}
    for url, mask, entry in site.rows(
        "SELECT origin || path, barred, entry FROM fact WHERE site AND barred > 0 AND want = 'show' ORDER BY origin, path"
    ):
        mask = without_shut_site(site, url, mask, shut)
        parts = split(url)
        for i, crawler in enumerate(site.crawlers):
            rule = site.rule_for(url, crawler)[1] if mask >> i & 1 else None
            if rule is not None and _PLAIN.match(rule.path) and parts.path.startswith(rule.path):
                following = parts.path[len(rule.path) : len(rule.path) + 1]
                if following.isalnum() or following in ("-", "_", "%"):
                    before = found.get(url, (parts.origin, rule, 0, entry))
                    found[url] = (parts.origin, rule, before[2] | 1 << i, entry)
    return found


@check(
    "robots-overreach",
    CheckClass.BLOCKED,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    rests_on_want=True,
    needs=(Need.ROBOTS, Need.PAGES),
    change=Change(ROBOTS, also_allowed),
    draft="robots",
)
def robots_overreach(site: Site) -> Iterator[Hit]:
    """A rule also bars wanted addresses that merely begin like what it names.

    Why: A rule is a prefix: `/news` also catches `/newsletter`, which was hardly meant.
    Mend: End the rule with `/` if a folder is meant, with `$` if one address is, or allow the others with a longer rule.
    Rests on: RFC 9309 section 2.2.2: a rule matches every address that begins with its path.
    Evidence: The rule; the addresses concerned stand beside the finding.
    """
    caught = overreaching(site)
    listed = site.rows(
        f"""SELECT u.url FROM (SELECT unnest(?::VARCHAR[]) AS url) u JOIN fact f ON f.origin || f.path = u.url WHERE f.listed OR EXISTS
        (SELECT 1 FROM link l WHERE l.target = f.id AND l.source = {-1 if site.front_id is None else site.front_id})""",
        [list(caught)],
    )
    firm = {url for (url,) in listed}
    groups: dict[tuple[str, Rule], tuple[int, list[str], set[int | None]]] = {}
    for url, (origin, rule, mask, entry) in caught.items():
        before = groups.get((origin, rule), (0, [], set()))
        groups[origin, rule] = (before[0] | mask, [*before[1], url], before[2] | {entry})
    for (origin, rule), (mask, urls, entries) in groups.items():
        host = site.robots[origin]
        begin = "begins" if len(urls) == 1 else "begin"
        message = f"{code(rule.text)} also bars {plural(len(urls), 'wanted address')} that only {begin} alike, such as {urls[0]}"
        line = robots_line(host, rule.line, rule.text)
        said = next((stated(site, e) for e in sorted(e for e in entries if e is not None)), ())
        implied = not said and firm.isdisjoint(urls)
        yield Hit(host.url, mask, message, (line, *said), also=tuple(urls[:MOST_NAMED]), implied=implied)


@check(
    "site-barred",
    CheckClass.BLOCKED,
    Severity.STOP,
    follows=Follows.NOTHING,
    whole_host=True,
    needs=(Need.ROBOTS,),
    draft="robots",
)
def site_barred(site: Site) -> Iterator[Hit]:
    """robots.txt bars the start page and nearly the whole site.

    Why: No crawler that obeys the rule fetches anything, so nothing of the site can be listed with its content.
    Mend: Take the rule out, or narrow it to the folders that are meant; then have the file fetched again.
    Rests on: RFC 9309 section 2.2.2: the most specific rule decides, and `Disallow: /` matches every address.
    Evidence: The rule of robots.txt that decides the start page.
    """
    by_rule: dict[tuple[str, tuple[Evidence, ...]], int] = {}
    for origin, i in shut_hosts(site):
        key = origin, rules(site, site.fronts[origin], 1 << i)
        by_rule[key] = by_rule.get(key, 0) | 1 << i
    for (origin, evidence), mask in by_rule.items():
        where = "the host" if site.is_lone_file else origin
        message = f"{code(evidence[0].text)} bars the start page and nearly everything on {where}"
        yield Hit(site.starts[origin], mask, message, evidence)


@check(
    "robots-unreachable",
    CheckClass.BLOCKED,
    Severity.STOP,
    follows=Follows.NOTHING,
    whole_host=True,
    needs=(Need.LIVE,),
    change=Change(STATUS, to("200 OK with the rules, or 404 Not Found if there are to be none")),
)
def robots_unreachable(site: Site) -> Iterator[Hit]:
    """robots.txt could not be had, so crawlers treat the whole host as closed.

    Why: While the file answers with a server error or not at all, obedient crawlers fetch nothing from the host.
    Mend: Bring the host back; /robots.txt then has to answer 200 with the rules, or 404 if there are to be none.
    Rests on: RFC 9309 section 2.3.1.4; that 429 counts as a server error is engine practice.
    Evidence: The status or failure that the address gave.
    """
    for host in site_robots(site):
        if host.access is Access.ALL_BARRED and not site.is_closed(host.origin):
            what = status_text(host.status, host.error)
            evidence = Evidence("status", host.final or host.url, None, what)
            mend = NAME_IT_RIGHT if host.error == NO_SUCH_HOST else END_THE_PAUSE if host.status and host.error else ""
            links = _strayed(site, host)
            if links:
                mend = f"Point the links at {site.base_origin}, or let this variant answer with a redirect to it."
            yield Hit(
                host.url,
                site.all_mask,
                _unreachable(host, what),
                (evidence, *links),
                severity=Severity.FIX if links else None,
                mend=mend,
            )


NAME_IT_RIGHT = "Check how the name is written: it has no address; if it is right, have its DNS entry restored."
END_THE_PAUSE = "Nothing, if the pause is meant: end it within days, since pages that stay away for long are dropped."


def _strayed(site: Site, host: HostRobots) -> tuple[Evidence, ...]:
    """The first link to a variant of the audited host (https, www) where nothing answers and nothing wanted stands: links
    are at fault then, and no pages are lost. None where that is not so."""
    own, there = (split(origin).host.removeprefix("www.") for origin in (site.base_origin, host.origin))
    if host.status is not None or host.origin == site.base_origin or own != there:
        return ()
    rows = site.rows(
        "SELECT id, want FROM fact WHERE origin = ? AND followed + unfollowed > 0 ORDER BY path", [host.origin]
    )
    if not rows or any(want == "show" for _, want in rows):
        return ()
    return first_link(site, [rows[0][0]]).get(rows[0][0], ())


def _unreachable(host: HostRobots, what: str) -> str:
    """Why robots.txt could not be had, and what that means: a name that is wrong, a pause, or a fault."""
    if host.status is None:
        return f"{host.origin} does not answer: {host.error or 'no answer'}"
    if host.error:
        return f"robots.txt answers “{what}” {host.error}: the host is down for a while, and crawlers wait"
    return f"robots.txt answers “{what}”: crawlers take the host as closed"


@check("robots-is-page", CheckClass.FLAW, Severity.STOP, follows=Follows.NOTHING, whole_host=True, needs=(Need.ROBOTS,))
def robots_is_page(site: Site) -> Iterator[Hit]:
    """robots.txt answers 200 with an HTML page.

    Why: The file seems to exist, but holds no rule: everything may be fetched, whatever was meant to be barred.
    Mend: Serve a plain text file at /robots.txt; exempt the address from the rule that answers every path with the app.
    Rests on: RFC 9309 section 2.3: the file is UTF-8 text of media type text/plain.
    Evidence: The first line of what is served.
    """
    for host in site_robots(site):
        if is_page(host):
            first = host.body.decode("utf-8", "replace").strip().partition("\n")[0][:200]
            evidence = Evidence("robots", host.where, 1, first)
            yield Hit(host.url, site.all_mask, "robots.txt is an HTML page: it holds no rules", (evidence,))


@check("robots-missing", CheckClass.FLAW, Severity.NOTE, follows=Follows.SHUT_HOST, needs=(Need.ROBOTS,))
def robots_missing(site: Site) -> Iterator[Hit]:
    """There is no robots.txt, so everything may be fetched.

    Why: That may be meant; but no crawler is told where the sitemap is, and nothing keeps them from junk addresses.
    Mend: Serve a robots.txt, if only with a Sitemap line.
    Rests on: RFC 9309 section 2.3.1.3: an unavailable file allows everything.
    Evidence: The status that the address gave.
    """
    for host in site_robots(site):
        if host.status is not None and 400 <= host.status < 500 and host.access is Access.ALL_ALLOWED:
            what = status_text(host.status, None) if site.is_live else NO_SUCH_FILE
            evidence = Evidence("status", host.final or host.url, None, what)
            yield Hit(host.url, site.all_mask, f"robots.txt: {what}; everything may be fetched", (evidence,))


@check(
    "robots-unknown-field",
    CheckClass.FLAW,
    Severity.FIX,
    follows=Follows.NOTHING,
    needs=(Need.ROBOTS,),
    change=Change(ROBOTS, lambda finding, before: _as_meant(before)),
)
def robots_unknown_field(site: Site) -> Iterator[Hit]:
    """A line of robots.txt begins with a field that no crawler knows.

    Why: The line has no effect, so what it was meant to bar or allow is not.
    Mend: Spell the field as the message says, with a colon behind it.
    Rests on: RFC 9309 section 2.2: crawlers ignore lines they do not know.
    Evidence: The line.
    """
    for host in site_robots(site):
        if is_page(host):
            continue
        for line in host.file.lines:
            if line.field in FIELDS or line.field in UNSUPPORTED:
                continue
            word = line.field or line.value.split()[0].lower()
            near = near_field(word)
            if not line.field:
                what = f"{code(line.text)} has no colon, so it has no effect"
                meant = f"; write `{near.capitalize()}: …`" if near else ""
            else:
                what = f"no crawler knows the field {code(line.field)}, so the line has no effect"
                meant = f"; {code(near.capitalize())} was probably meant" if near else ""
            yield Hit(host.url, site.all_mask, what + meant, (robots_line(host, line.number, line.text),))


def _as_meant(before: str) -> str | None:
    """A line with the field that its own was probably meant to be."""
    field, colon, value = before.partition(":")
    near = near_field(field.strip().lower()) if colon else None
    return f"{near.capitalize()}:{value}" if near else None


def near_field(word: str) -> str | None:
    """The field that a word was probably meant to be."""
    plain = word.replace("_", "-").replace(" ", "-")
    if plain in ("useragent", "agent"):
        return "user-agent"
    close = difflib.get_close_matches(plain, sorted(FIELDS), 1, 0.75)
    return close[0] if close else None


@check(
    "robots-orphan-rule",
    CheckClass.FLAW,
    Severity.FIX,
    follows=Follows.NOTHING,
    needs=(Need.ROBOTS,),
    change=Change(ROBOTS, lambda finding, before: f"User-agent: *\n{before}"),
)
def robots_orphan_rule(site: Site) -> Iterator[Hit]:
    """A rule stands before any User-agent line.

    Why: It belongs to no group, so no crawler obeys it.
    Mend: Put `User-agent: *`, or the crawler that is meant, on a line above it.
    Rests on: RFC 9309 section 2.2: rules belong to the group that a user-agent line begins.
    Evidence: The rule.
    """
    for host in site_robots(site):
        for rule in host.file.orphans:
            message = f"{code(rule.text)} stands before any User-agent line: no crawler obeys it"
            yield Hit(host.url, site.all_mask, message, (robots_line(host, rule.line, rule.text),))


@check(
    "barred-wanted",
    CheckClass.BLOCKED,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    rests_on_want=True,
    needs=(Need.ROBOTS, Need.PAGES),
    draft="robots",
)
def barred_wanted(site: Site) -> Iterator[Hit]:
    """A wanted page is barred by robots.txt.

    Why: The crawler may not fetch it, so it is listed without its content at best.
    Mend: Narrow the rule, or set a longer Allow rule for the page beside it.
    Rests on: RFC 9309 section 2.2.2.
    Evidence: The deciding rule, and what shows that the page is wanted.
    """
    shut, wide = shut_hosts(site), overreaching(site)
    for url, mask, start, named, entry in site.rows(
        "SELECT origin || path, barred, start, named, entry FROM fact WHERE site AND barred > 0 AND want = 'show' "
        f"AND {PAGE_ROW} ORDER BY origin, path"
    ):
        mask = without_shut_site(site, url, mask, shut)
        evidence = rules(site, url, mask)
        if mask and evidence and url not in wide:
            message = f"{code(evidence[0].text)} bars {who_is(start, named, entry)}"
            yield Hit(url, mask, message, (*evidence, *stated(site, entry)), implied=entry is None)


@check(
    "barred-noindex",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST,
    needs=(Need.ROBOTS,),
    feeds=("barred", "noindex"),
    change=LINE_GOES,
    draft="robots",
)
def barred_noindex(site: Site) -> Iterator[Hit]:
    """A barred page says noindex, which no crawler can ever read.

    Why: robots.txt stops the fetch, so the noindex is not seen, and the address may still be listed from links to it.
    Mend: Take the rule away so that the noindex is read; bar the page again, if at all, when it has left the listings.
    Rests on: RFC 9309 bars fetching, not listing; a directive on a page that is not fetched is not read.
    Evidence: The rule, and the tag or header.
    """
    found = site.rows(
        "SELECT id, origin || path, barred & noindex FROM fact WHERE site AND read AND barred & noindex > 0 "
        "AND status < 300 ORDER BY origin, path"
    )
    tags = said(site, [i for i, _, _ in found], site.all_mask)
    for number, url, mask in found:
        evidence = (*rules(site, url, mask), *tags.get(number, ()))
        yield Hit(url, mask, "says noindex, but robots.txt keeps crawlers from reading it", evidence)


@check("barred-unread", CheckClass.FLAW, Severity.NOTE, follows=Follows.SHUT_HOST, needs=(Need.LIVE, Need.ROBOTS))
def barred_unread(site: Site) -> Iterator[Hit]:
    """Barred pages were not read in this audit.

    Why: What they say (noindex, a canonical, an error) is not known, so checks that need it stay silent about them.
    Mend: For a site that you answer for, audit with --read-barred.
    Rests on: RFC 9309 section 2.2.2: this audit obeys the rules on behalf of the crawlers it speaks for.
    Evidence: The rules that bar them.
    """
    for host in site_robots(site):
        found = site.rows(
            "SELECT origin || path FROM fact WHERE known AND NOT read AND origin = ? AND barred = ? ORDER BY path",
            [host.origin, site.all_mask],
        )
        if found and host.access is Access.RULES:
            urls = [url for (url,) in found]
            lines = {e for url in urls[:1000] for e in rules(site, url, site.all_mask)}
            says = "it says" if len(urls) == 1 else "they say"
            message = f"{plural(len(urls), 'barred address')} not read: what {says} is not known"
            shown = sorted(lines, key=lambda e: (e.line or 0, e.text))[:10]
            yield Hit(host.url, site.all_mask, message, tuple(shown), also=tuple(urls[:200]))


@check(
    "listed-barred",
    CheckClass.CONFLICT,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    needs=(Need.ROBOTS, Need.PAGES),
    feeds=("entry",),
    change=ENTRY_GOES,
)
def listed_barred(site: Site) -> Iterator[Hit]:
    """The sitemap puts forward an address that robots.txt bars.

    Why: One file asks crawlers to come, the other forbids it; the address can at best be listed without content.
    Mend: Take it out of the sitemap, or let it be fetched.
    Rests on: Sitemaps protocol 0.9 lists addresses for crawling; RFC 9309 section 2.2.2 decides whether they may be.
    Evidence: The deciding rule, and the sitemap entry.
    """
    shut = shut_hosts(site)
    found = site.rows(
        f"SELECT id, origin || path, barred FROM fact WHERE site AND listed AND barred > 0 AND {LISTED_ROW} "
        "ORDER BY origin, path"
    )
    entries = listings(site, [i for i, _, _ in found])
    for number, url, mask in found:
        mask = without_shut_site(site, url, mask, shut)
        if mask:
            loc, entry = entries[number]
            evidence = rules(site, url, mask)
            yield Hit(loc, mask, f"in the sitemap, but barred by {code(evidence[0].text)}", (*evidence, entry))
