"""robots.txt: what the file is, what its lines do, what they do to wanted pages."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterator

from indrel.base.plain import code
from indrel.checks.catalogue import Follows, Hit, Need, check
from indrel.checks.changes import ROBOTS, STATUS, Change, to
from indrel.checks.evidence import (
    first_link,
    robots_line,
    rules,
    stated,
)
from indrel.checks.measures import MANY, MOST_NAMED, NEARLY_ALL
from indrel.checks.narrowing import narrower
from indrel.core.address import made_up_path, origin_of, split
from indrel.core.answers import NO_SUCH_FILE, NO_SUCH_HOST, status_text
from indrel.core.model import CheckClass, Evidence, Severity, State, plural
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
    """Wanted URLs that a rule written as a plain word or folder blocks only because they share its prefix.

    Gives per URL its origin, the rule, the crawlers and the entry that states the want. URLs of hosts that are shut as a
    whole are excluded, and so are rules whose URLs are one family by name, such as `/release-15-3.html` under `/release`.
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
    strange = {
        (origin, rule.line)
        for url, (origin, rule, _, _) in found.items()
        if not _ONE_FAMILY.match(split(url).path[len(rule.path) :])
    }
    return {url: one for url, one in found.items() if (one[0], one[1].line) in strange}


_ONE_FAMILY = re.compile(r"^[-_.]?v?[0-9]")
"""What follows a family's name: a number."""


@check(
    "robots-overreach",
    CheckClass.BLOCKED,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    reports=State.BARRED,
    rests_on_want=True,
    needs=(Need.ROBOTS, Need.PAGES),
    draft="robots",
)
def robots_overreach(site: Site) -> Iterator[Hit]:
    """A rule also blocks wanted URLs that only share its prefix.

    Why: A rule is a prefix: `/news` also matches `/newsletter`, which was probably not intended.
    Fix: End the rule with `/` if you mean a folder, or with `$` if you mean one URL. Or allow the others with a longer rule.
    Source: RFC 9309 section 2.2.2: a rule matches every URL that begins with its path.
    Evidence: The rule; the finding also lists the URLs concerned.
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
        share = "shares" if len(urls) == 1 else "share"
        message = f"{code(rule.text)} also blocks {plural(len(urls), 'wanted URL')} that only {share} its prefix, such as {urls[0]}."
        line = robots_line(host, rule.line, rule.text)
        said = next((stated(site, e) for e in sorted(e for e in entries if e is not None)), ())
        implied = not said and firm.isdisjoint(urls)
        advice = narrower(site, urls[0], mask)
        yield Hit(
            host.url,
            mask,
            message,
            (line, *said),
            also=tuple(urls[:MOST_NAMED]),
            implied=implied,
            advice=advice,
            pages=len(urls),
        )


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
    """robots.txt blocks the home page and nearly the whole site.

    Why: No crawler that obeys the rule fetches anything, so no page of the site can be indexed with its content.
    Fix: Remove the rule or limit it to the folders you mean, then ask the engine to read robots.txt again.
    Source: RFC 9309 section 2.2.2: the most specific rule decides, and `Disallow: /` matches every URL.
    Evidence: The rule of robots.txt that decides the home page.
    """
    by_rule: dict[tuple[str, tuple[Evidence, ...]], int] = {}
    for origin, i in shut_hosts(site):
        key = origin, rules(site, site.fronts[origin], 1 << i)
        by_rule[key] = by_rule.get(key, 0) | 1 << i
    for (origin, evidence), mask in by_rule.items():
        where = "the host" if site.is_lone_file else origin
        message = f"{code(evidence[0].text)} blocks the home page and nearly everything on {where}."
        yield Hit(site.starts[origin], mask, message, evidence)


@check(
    "robots-unreachable",
    CheckClass.BLOCKED,
    Severity.STOP,
    follows=Follows.NOTHING,
    whole_host=True,
    needs=(Need.LIVE,),
    change=Change(STATUS, to("200 OK with the rules, or 404 Not Found for no rules")),
)
def robots_unreachable(site: Site) -> Iterator[Hit]:
    """robots.txt is unreachable, so crawlers treat the whole host as blocked.

    Why: While the file returns a server error or nothing, crawlers that obey it fetch nothing from the host.
    Fix: Bring the host back up. /robots.txt must return 200 with rules, or 404 for no rules.
    Source: RFC 9309 section 2.3.1.4; that 429 counts as a server error is engine practice.
    Evidence: The status or the failure of the request.
    """
    for host in site_robots(site):
        if host.access is Access.ALL_BARRED and not site.is_closed(host.origin):
            what = status_text(host.status, host.error)
            evidence = Evidence("status", host.final or host.url, None, what)
            mend = NAME_IT_RIGHT if host.error == NO_SUCH_HOST else END_THE_PAUSE if host.status and host.error else ""
            links = _strayed(site, host)
            if links:
                mend = f"Let the links point to {site.base_origin}, or redirect this variant to it."
            yield Hit(
                host.url,
                site.all_mask,
                _unreachable(host, what),
                (evidence, *links),
                severity=Severity.FIX if links else None,
                advice=mend,
            )


NAME_IT_RIGHT = "Check the spelling of the host name: it has no IP address. If it is right, restore its DNS entry."
END_THE_PAUSE = "If the pause is intended, do nothing now, but end it within days: pages that stay unavailable for long are dropped."


def _strayed(site: Site, host: HostRobots) -> tuple[Evidence, ...]:
    """The first link to a variant of the audited host (https, www) that does not respond and has no wanted page: then the
    links are wrong, and no pages are lost. None otherwise."""
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
    """Why robots.txt is unreachable, and what that means: a wrong name, a pause, or a fault."""
    if host.status is None:
        return f"{host.origin} does not respond: {host.error or 'no response'}."
    name = split(host.origin + "/").host
    if host.error:
        return f"robots.txt of {name} returns {what} {host.error}: the host is down for a while, and crawlers wait."
    return f"robots.txt of {name} returns {what}: crawlers treat the whole host as blocked."


@check("robots-is-page", CheckClass.FLAW, Severity.STOP, follows=Follows.NOTHING, whole_host=True, needs=(Need.ROBOTS,))
def robots_is_page(site: Site) -> Iterator[Hit]:
    """robots.txt is an HTML page.

    Why: The file seems to exist, but has no rules: everything can be fetched, whatever should be blocked.
    Fix: Serve a plain text file at /robots.txt, and exclude /robots.txt from the catch-all route.
    Source: RFC 9309 section 2.3: the file is UTF-8 text of media type text/plain.
    Evidence: The first line that is served.
    """
    for host in site_robots(site):
        if is_page(host):
            first = host.body.decode("utf-8", "replace").strip().partition("\n")[0][:200]
            evidence = Evidence("robots", host.where, 1, first)
            yield Hit(
                host.url,
                site.all_mask,
                f"robots.txt of {split(host.url).host} is an HTML page, so it has no rules.",
                (evidence,),
            )


@check("robots-missing", CheckClass.FLAW, Severity.NOTE, follows=Follows.SHUT_HOST, needs=(Need.ROBOTS,))
def robots_missing(site: Site) -> Iterator[Hit]:
    """There is no robots.txt, so everything can be fetched.

    Why: That may be intended. But crawlers do not learn where the sitemap is, and nothing keeps them from junk URLs.
    Fix: Serve a robots.txt, even if it has only a Sitemap line.
    Source: RFC 9309 section 2.3.1.3: an unavailable file allows everything.
    Evidence: The status of the request.
    """
    for host in site_robots(site):
        if host.status is not None and 400 <= host.status < 500 and host.access is Access.ALL_ALLOWED:
            what = status_text(host.status, None) if site.is_live else NO_SUCH_FILE
            evidence = Evidence("status", host.final or host.url, None, what)
            yield Hit(
                host.url, site.all_mask, f"There is no robots.txt ({what}), so everything can be fetched.", (evidence,)
            )


@check(
    "robots-unknown-field",
    CheckClass.FLAW,
    Severity.FIX,
    follows=Follows.NOTHING,
    needs=(Need.ROBOTS,),
    change=Change(ROBOTS, lambda finding, before: _as_meant(before)),
)
def robots_unknown_field(site: Site) -> Iterator[Hit]:
    """A line of robots.txt has a field that no crawler knows.

    Why: The line has no effect, so it neither blocks nor allows anything.
    Fix: Spell the field as the message shows, followed by a colon.
    Source: RFC 9309 section 2.2: crawlers ignore lines they do not know.
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
                what = f"{code(line.text)} has no colon, so it has no effect."
                meant = f" Write `{near.capitalize()}: ...`." if near else ""
            else:
                what = f"No crawler knows the field {code(line.field)}, so the line has no effect."
                meant = f" It probably means {code(near.capitalize())}." if near else ""
            yield Hit(host.url, site.all_mask, what + meant, (robots_line(host, line.number, line.text),))


def _as_meant(before: str) -> str | None:
    """A line with the known field that its own probably means."""
    field, colon, value = before.partition(":")
    near = near_field(field.strip().lower()) if colon else None
    return f"{near.capitalize()}:{value}" if near else None


def near_field(word: str) -> str | None:
    """The known field that a word probably means."""
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
    """A rule comes before any User-agent line.

    Why: It does not belong to a group, so no crawler obeys it.
    Fix: Add `User-agent: *`, or the crawler that you mean, on a line above it.
    Source: RFC 9309 section 2.2: rules belong to the group that a user-agent line begins.
    Evidence: The rule.
    """
    for host in site_robots(site):
        for rule in host.file.orphans:
            message = f"{code(rule.text)} comes before any User-agent line, so no crawler obeys it."
            yield Hit(host.url, site.all_mask, message, (robots_line(host, rule.line, rule.text),))
