"""robots.txt compared with the known URLs, the resources of pages and the other hosts."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

from indrel.base.plain import code
from indrel.checks.advice import Advice
from indrel.checks.catalogue import Follows, Hit, Need, check
from indrel.checks.changes import ROBOTS, After, Change, Effect, in_its_case
from indrel.checks.evidence import PAGE_ROW, WHERE, answers, canonicals, of_each, robots_line, rules, stated
from indrel.checks.rule_use import unused
from indrel.checks.topics.robots_lines import readable
from indrel.core.address import origin_of, split
from indrel.core.model import CheckClass, Evidence, Severity, listing, plural, verb
from indrel.core.robots import Access, HostRobots, RobotsFile
from indrel.decide.site import Site


@check(
    "robots-wrong-base",
    CheckClass.FLAW,
    Severity.FIX,
    follows=Follows.SHUT_HOST,
    needs=(Need.ROBOTS, Need.PAGES, Need.COMPLETE, Need.LINKS),
)
def robots_wrong_base(site: Site) -> Iterator[Hit]:
    """Rules match nothing because their paths lack the site's base path, or have one that the site does not have.

    Why: The paths of robots.txt begin at the root of the host. These rules have no effect.
    Fix: Write the paths as the message shows.
    Source: RFC 9309 section 2.2.2: paths are matched from the beginning of the URL's path.
    Evidence: The rules.
    """
    for host in readable(site):
        found = unused(site)[host.origin].misplaced
        if found is None:
            continue
        rules_of = plural(len(found.rules), "rule")
        message = f"{rules_of} {verb(len(found.rules), 'matches', 'match')} nothing: the paths {found.fault}."
        lines = [(rule.text, f"{rule.text.partition(':')[0]}: {path}") for rule, path in found.rules]
        text = "; ".join(f"{code(new)}" for _, new in lines[:5]) + (
            f"; and {len(lines) - 5} more" if len(lines) > 5 else ""
        )
        proof = f"{plural(found.urls, 'known URL')} would be decided by them"
        if found.wanted:
            blocks = f"As they are meant, these rules would also block {plural(found.wanted, 'wanted page')}"
            advice = Advice(f"{blocks}. Keep the right ones, and write them as {text}.", key="base")
        else:
            advice = Advice(f"Write: {text}.", Change(ROBOTS, _as_meant(dict(lines))), "base", proof)
        shown = tuple(robots_line(host, rule.line, rule.text) for rule, _ in found.rules)
        place = ("robots", host.where, f"base {found.base}")
        yield Hit(host.url, site.all_mask, message, shown, advice=advice, place=place)


def _as_meant(lines: dict[str, str]) -> After:
    return lambda finding, before: lines.get(before)


@check(
    "robots-rule-unused",
    CheckClass.FLAW,
    Severity.NOTE,
    follows=Follows.SHUT_HOST,
    needs=(Need.ROBOTS, Need.PAGES, Need.COMPLETE, Need.LINKS),
)
def robots_rule_unused(site: Site) -> Iterator[Hit]:
    """A rule does not decide any known URL.

    Why: It may be a leftover, protect something that nothing links to, or not match what you mean.
    Fix: If it is a leftover, remove it. Otherwise check it against the URLs that it is meant for (indrel robots match).
    Source: RFC 9309 section 2.2.2, applied to the URLs found.
    Evidence: The rule.
    """
    for host in readable(site):
        found = unused(site)[host.origin]
        told = {rule.line for rule, _ in found.misplaced.rules} if found.misplaced else set()
        for rule in found.rules:
            if rule.line not in found.slips and rule.line not in told:
                message = f"{code(rule.text)} does not decide any known URL."
                yield Hit(host.url, site.all_mask, message, (robots_line(host, rule.line, rule.text),))


@check(
    "robots-case-slip",
    CheckClass.FLAW,
    Severity.ASK,
    follows=Follows.NOTHING,
    needs=(Need.ROBOTS, Need.PAGES),
    change=Change(ROBOTS, in_its_case, Effect.RULE),
)
def robots_case_slip(site: Site) -> Iterator[Hit]:
    """A rule matches nothing as written, but would if upper and lower case were ignored.

    Why: Paths are case-sensitive, so the rule has no effect.
    Fix: Write the path in the letter case of the URLs.
    Source: RFC 9309 section 2.2.2: matching of paths is case-sensitive.
    Evidence: The rule, and a URL that it was probably meant for.
    """
    for host in readable(site):
        found = unused(site)[host.origin]
        for rule in found.rules:
            if rule.line in found.slips:
                path = found.slips[rule.line]
                message = (
                    f"{code(rule.text)} matches nothing in this letter case; ignoring case, it would match {path}."
                )
                shown = (robots_line(host, rule.line, rule.text),)
                yield Hit(host.url, site.all_mask, message, shown, also=(host.origin + path,))


@check(
    "robots-no-sitemap",
    CheckClass.FLAW,
    Severity.NOTE,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    needs=(Need.ROBOTS, Need.PAGES),
)
def robots_no_sitemap(site: Site) -> Iterator[Hit]:
    """Sitemaps exist, but robots.txt does not name any.

    Why: Engines to which the sitemap was not submitted by hand may not find it.
    Fix: Add a line `Sitemap: ` with the whole URL of the sitemap.
    Source: Sitemaps protocol 0.9: robots.txt may name the sitemap for all crawlers.
    Evidence: The sitemaps found.
    """
    host = site.robots.get(site.base_origin)
    found = site.rows("SELECT url FROM sitemap WHERE via = 'usual' AND kind <> 'html' ORDER BY url")
    if host and host.access is Access.RULES and found and not host.file.sitemaps:
        shown = tuple(Evidence("sitemap", url, None, "found, but not named") for (url,) in found)
        yield Hit(host.url, site.all_mask, f"robots.txt does not name a sitemap, although {found[0][0]} exists.", shown)


@check("robots-host-differs", CheckClass.CONFLICT, Severity.FIX, follows=Follows.NOTHING, needs=(Need.LIVE,))
def robots_host_differs(site: Site) -> Iterator[Hit]:
    """Host variants (http/https, with and without www) return different rules and do not redirect to one variant.

    Why: To crawlers each variant is a host of its own: what one blocks, another allows.
    Fix: Redirect all variants to one, and serve the same robots.txt on all of them.
    Source: RFC 9309 section 2.3: rules apply to one scheme, host and port.
    Evidence: Both files, with a line that only one of them has.
    """
    own = site.robots.get(site.base_origin)
    for host in site.robots.values():
        if own is None or host.role != "variant":
            continue
        status = site.one("SELECT n.status FROM answer n JOIN address a ON a.id = n.address WHERE a.origin || a.path = ?",
                          [host.origin + "/"])  # fmt: skip
        if status is None or status >= 300:
            continue
        if host.access is own.access and _decisions(host.file) == _decisions(own.file):
            continue
        shown = (_differing(own, host), _differing(host, own))
        message = f"{host.origin} does not redirect here, and its robots.txt has different rules."
        yield Hit(site.base, site.all_mask, message, shown, also=(host.origin + "/",))


def _decisions(file: RobotsFile) -> dict[str, list[tuple[bool, str]]]:
    return {t: sorted((r.allow, r.path) for r in file.ruleset((t,)).rules) for t in file.agents}


def _differing(host: HostRobots, other: HostRobots) -> Evidence:
    """The first rule of a file that the other lacks, or that it has none."""
    theirs = {r.label for g in other.file.groups for r in g.rules}
    for group in host.file.groups:
        for rule in group.rules:
            if rule.label not in theirs:
                return robots_line(host, rule.line, rule.text)
    what = "no further rule" if host.access is Access.RULES else f"{host.access}: no rules"
    return Evidence("robots", host.url, None, what)


@check(
    "robots-agent-differs",
    CheckClass.CONFLICT,
    Severity.ASK,
    follows=Follows.NOTHING,
    needs=(Need.LIVE, Need.AS_CRAWLERS),
    feeds=("robots_as",),
)
def robots_agent_differs(site: Site) -> Iterator[Hit]:
    """robots.txt differs by user agent.

    Why: People who look at the file do not see what that crawler sees; caches may serve one crawler's file to another.
    Fix: Serve one file to all, with a group for each crawler that needs other rules.
    Source: RFC 9309 section 2.2.1: groups tell crawlers apart within one file.
    Evidence: What was returned to each.
    """
    host = site.robots.get(site.base_origin)
    tokens = {c.token: 1 << i for i, c in enumerate(site.crawlers)}
    mask, shown = 0, []
    for token, status, body in site.rows("SELECT crawler, status, body FROM robots_as ORDER BY crawler"):
        if host and token in tokens and (status, body or b"") != (host.status, host.body):
            mask |= tokens[token]
            first = (body or b"").decode("utf-8", "replace").strip().partition("\n")[0][:120]
            shown.append(
                Evidence("robots", host.url, None, f"to {token}: {status}, {len(body or b''):,} bytes, {first!r}")
            )
    if host and mask:
        message = f"robots.txt is a different file for {listing(site.names(mask), 'or')}."
        yield Hit(host.url, mask, message, tuple(shown))


@check(
    "barred-to-hide",
    CheckClass.EXPOSED,
    Severity.FIX,
    follows=Follows.SHUT_HOST,
    rests_on_want=True,
    needs=(Need.ROBOTS, Need.PAGES),
    feeds=("barred", "hide"),
    draft="robots",
)
def barred_to_hide(site: Site) -> Iterator[Hit]:
    """An unwanted URL is kept out by robots.txt alone.

    Why: A blocked URL is not fetched, but the bare URL can still be indexed from links to it.
    Fix: Unblock it and give it noindex (tag or header), or require a login. Keep the rule only if you want to save fetches.
    Source: RFC 9309 blocks fetching, not indexing.
    Evidence: The rule.
    """
    for url, mask, kind, entry in site.rows(
        f"""SELECT origin || path, barred, kind, entry FROM fact WHERE known AND barred > 0
        AND want = 'hide' AND noindex & barred = 0 AND {PAGE_ROW} ORDER BY origin, path"""
    ):
        evidence = rules(site, url, mask)
        if evidence and evidence[0].kind == "robots":
            why = f"The URL looks like junk ({kind})" if entry is None else "You want this URL hidden"
            message = f"{why}, but only {code(evidence[0].text)} keeps it out: the bare URL can still be indexed."
            yield Hit(url, mask, message, (*evidence, *stated(site, entry)), implied=entry is None)


class _Barred(NamedTuple):
    """A blocked page that leads elsewhere: how, and where to."""

    id: int
    url: str
    crawlers: int
    how: str
    target: str


@check(
    "barred-canonical",
    CheckClass.CONFLICT,
    Severity.ASK,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    needs=(Need.ROBOTS, Need.READ_BARRED),
    feeds=("barred",),
)
def barred_canonical(site: Site) -> Iterator[Hit]:
    """A page blocked by robots.txt has a canonical or a redirect, which no crawler can read.

    Why: Crawlers never learn that another URL represents this one, so nothing of it is passed on.
    Fix: Unblock the page, so that crawlers see the canonical or redirect.
    Source: RFC 9309 section 2.2.2: a page that must not be fetched is not read.
    Evidence: The rule, and the canonical or redirect.
    """
    found = site.named(
        _Barred,
        "SELECT f.id, f.origin || f.path, f.barred, f.fold_how, t.origin || t.path FROM fact f JOIN address t "
        "ON t.id = f.folds_to WHERE f.site AND f.read AND f.barred > 0 ORDER BY f.origin, f.path",
    )
    ids = [one.id for one in found]
    tags, shown = canonicals(site, ids), answers(site, ids)
    for one in found:
        names = one.how == "canonical"
        said = tags.get(one.id, ()) if names else shown.get(one.id, ())
        how = "Its canonical points" if names else "It redirects"
        message = f"robots.txt blocks this page. {how} to {one.target}, which crawlers cannot see."
        yield Hit(
            one.url,
            one.crawlers,
            message,
            (*rules(site, one.url, one.crawlers), *said),
            also=(one.target,),
            pair=(one.url, one.target),
        )


_COUNTS_VISITS = re.compile(
    r"/(collect|beacons?|pixels?|ping|hits?|track(er|ing)?|page-?views?|telemetry)(/|[?.]|$)", re.IGNORECASE
)
"""Data calls that only count visits."""


@check(
    "resource-barred",
    CheckClass.BLOCKED,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    feeds=("resource",),
)
def resource_barred(site: Site) -> Iterator[Hit]:
    """A script, style sheet, data call or image that an open page needs is blocked by robots.txt of its host.

    Why: The crawler renders the page without it, and may see an error or an empty page.
    Fix: Allow the resources that pages need for rendering, on the host that serves them.
    Source: RFC 9309 section 2.3: the resource's own host decides; that engines render pages is engine practice.
    Evidence: The rule, and a page that needs the resource.
    """
    found = site.rows(
        f"""WITH needed AS (
            SELECT r.target, min(CASE WHEN r.kind IN ('image', 'media') THEN 1 ELSE 0 END) AS picture,
                arg_min(r.source, p.origin || p.path) AS source,
                count(DISTINCT r.source) AS pages, bit_or(p.open & t.barred) AS mask
            FROM resource r JOIN fact p ON p.id = r.source JOIN fact t ON t.id = r.target
            WHERE p.site AND p.open & t.barred > 0 AND r.kind <> 'frame' GROUP BY r.target)
        SELECT needed.target, t.origin || t.path AS url, picture, pages, mask, r.kind, r.line, r.text, {WHERE}
        FROM needed JOIN fact t ON t.id = needed.target
        JOIN resource r ON r.target = needed.target AND r.source = needed.source
        JOIN address a ON a.id = needed.source JOIN answer n ON n.address = needed.source
        QUALIFY row_number() OVER (PARTITION BY needed.target ORDER BY r.line) = 1 ORDER BY url"""
    )
    pages = _needing(site, [row[0] for row in found])
    rendered = _rendered_without(site)
    for number, url, picture, count, mask, kind, line, text, where in found:
        host = site.robots.get(origin_of(url))
        if host is None or host.status is None:
            continue  # without a response, what crawlers get is unknown
        well, ill = rendered.get(number, (0, 0))
        if (ill and not well) or (kind == "data" and _COUNTS_VISITS.search(split(url).path)):
            continue  # render-broken reports it; or no page shows anything of it
        evidence = (*rules(site, url, mask), Evidence("resource", where, line, text))
        blocks = (
            f"{code(evidence[0].text)} blocks it" if evidence[0].kind == "robots" else "its robots.txt is unreachable"
        )
        message = f"{plural(count, 'open page')} {verb(count, 'needs', 'need')} this {kind}, but {blocks}."
        if well:
            message += f" Rendered in a browser, {plural(well, 'page')} {verb(well, 'works', 'work')} without it"
            message += f", {ill} {verb(ill, 'does', 'do')} not (render-broken)." if ill else "."
        severity = Severity.NOTE if picture or well else None
        yield Hit(url, mask, message, evidence, also=tuple(pages.get(number, ())), severity=severity, pages=count)


def _rendered_without(site: Site) -> dict[int, tuple[int, int]]:
    """Per resource that was refused to rendered pages, how many of them work without it, and how many do not."""
    if not site.holds("render_request"):
        return {}
    return {
        target: (well, ill)
        for target, well, ill in site.rows(
            """SELECT q.target, count(DISTINCT q.source) FILTER (r.outcome = 'ok'), count(DISTINCT q.source) FILTER (r.outcome <> 'ok')
            FROM render_request q JOIN render r ON r.address = q.source AND r.mask = q.mask
            WHERE q.result = 'refused' AND r.outcome <> 'none' GROUP BY q.target"""
        )
    }


def _needing(site: Site, ids: list[int]) -> dict[int, list[str]]:
    found: dict[int, list[str]] = {}
    for target, url in of_each(
        site,
        ids,
        """SELECT DISTINCT r.target, a.origin || a.path AS url FROM resource r JOIN picked ON picked.id = r.target
        JOIN address a ON a.id = r.source
        QUALIFY dense_rank() OVER (PARTITION BY r.target ORDER BY url) <= 200 ORDER BY r.target, url""",
    ):
        found.setdefault(target, []).append(url)
    return found
