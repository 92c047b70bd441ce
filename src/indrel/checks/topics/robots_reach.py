"""robots.txt held against the addresses that are known, the resources of pages and the other hosts."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from indrel.base.plain import code
from indrel.checks.catalogue import Follows, Hit, Need, check
from indrel.checks.changes import ROBOTS, Change, in_its_case
from indrel.checks.evidence import PAGE_ROW, WHERE, answers, canonicals, of_each, robots_line, rules, stated
from indrel.checks.topics.robots_lines import beaten, readable
from indrel.core.address import origin_of
from indrel.core.model import CheckClass, Evidence, Severity, listing, plural
from indrel.core.robots import Access, HostRobots, RobotsFile, Rule
from indrel.core.robots.file import compile_path, written_path
from indrel.decide.site import Site


class RuleUse(NamedTuple):
    """What a rule does on this site: addresses it decides, addresses it matches but loses, for whose group."""

    rule: Rule
    group: str
    decides: int
    loses: int
    wanted: int


def rule_uses(site: Site, host: HostRobots) -> list[RuleUse]:
    """Per group and rule of a robots.txt, what it does to the known addresses, pages and resources."""
    import numpy as np

    from indrel.core.robots import match_many

    ids, paths = site.paths(host.origin)
    wanted_ids = [i for (i,) in site.rows("SELECT id FROM fact WHERE want = 'show'")]
    wanted = np.isin(ids, np.array(wanted_ids, dtype=ids.dtype))
    uses = []
    for token in host.file.agents:
        rules_of = host.file.ruleset((token,)).rules
        decided = match_many(rules_of, paths)
        for index, rule in enumerate(rules_of):
            mine = decided == index
            matched = int((match_many([rule], paths) >= 0).sum())
            uses.append(RuleUse(rule, token, int(mine.sum()), matched - int(mine.sum()), int((mine & wanted).sum())))
    return uses


def unused_rules(site: Site, host: HostRobots) -> list[Rule]:
    """Rules that decide no known address in any group, unless they can never win anyway."""
    from indrel.core.robots import match_many

    paths = site.paths(host.origin)[1]
    used: set[int] = set()
    everything: dict[int, Rule] = {}
    for token in host.file.agents:
        rules_of = host.file.ruleset((token,)).rules
        everything |= {r.line: r for r in rules_of}
        used |= {rules_of[i].line for i in set(match_many(rules_of, paths).tolist()) if i >= 0}
    used |= {rule.line for rule, _ in beaten(host)}
    return [rule for line, rule in sorted(everything.items()) if line not in used]


def case_slips(site: Site, host: HostRobots, unused: list[Rule]) -> dict[int, str]:
    """Rules that match nothing, but would match known addresses if case were ignored: line and one such path."""
    from indrel.core.robots import match_many

    paths = site.paths(host.origin)[1]
    unused = [rule for rule in unused if not (match_many([rule], paths) >= 0).any()]  # others lose to a longer rule
    if not unused:
        return {}
    lowered = paths.lowered()
    found = {}
    for rule in unused:
        lower = Rule(rule.allow, rule.path.lower(), rule.line, rule.text, compile_path(rule.path.lower()))
        hits = (match_many([lower], lowered) >= 0).nonzero()[0]
        if len(hits):
            found[rule.line] = written_path(paths[int(hits[0])].decode())
    return found


@check(
    "robots-rule-unused",
    CheckClass.FLAW,
    Severity.NOTE,
    follows=Follows.SHUT_HOST,
    needs=(Need.ROBOTS, Need.PAGES, Need.COMPLETE, Need.LINKS),
)
def robots_rule_unused(site: Site) -> Iterator[Hit]:
    """A rule decides no address that this audit knows.

    Why: It may be a leftover, or protect something that nothing links; or it does not match what was meant.
    Mend: Take it out if it is a leftover; else hold it against the addresses that it is meant for (indrel robots match).
    Rests on: RFC 9309 section 2.2.2, over the addresses found.
    Evidence: The rule.
    """
    for host in readable(site):
        unused = unused_rules(site, host)
        slips = case_slips(site, host, unused)
        for rule in unused:
            if rule.line not in slips:
                message = f"{code(rule.text)} decides no known address"
                yield Hit(host.url, site.all_mask, message, (robots_line(host, rule.line, rule.text),))


@check(
    "robots-case-slip",
    CheckClass.FLAW,
    Severity.ASK,
    follows=Follows.NOTHING,
    needs=(Need.ROBOTS, Need.PAGES),
    change=Change(ROBOTS, in_its_case),
)
def robots_case_slip(site: Site) -> Iterator[Hit]:
    """A rule matches nothing as written, but would if upper and lower case were ignored.

    Why: Paths are compared with case, so the rule has no effect.
    Mend: Write the path in the case that the addresses have.
    Rests on: RFC 9309 section 2.2.2: matching of paths is case-sensitive.
    Evidence: The rule; one address that it was probably meant for.
    """
    for host in readable(site):
        unused = unused_rules(site, host)
        slips = case_slips(site, host, unused)
        for rule in unused:
            if rule.line in slips:
                path = slips[rule.line]
                message = f"{code(rule.text)} matches nothing in this case; it would match {path}"
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
    """There are sitemaps, but robots.txt names none.

    Why: Engines that were not told of the sitemap by hand may not find it.
    Mend: Add a line `Sitemap: ` with the sitemap's whole address.
    Rests on: Sitemaps protocol 0.9: robots.txt may name the sitemap for all crawlers.
    Evidence: The sitemaps found.
    """
    host = site.robots.get(site.base_origin)
    found = site.rows("SELECT url FROM sitemap WHERE via = 'usual' AND kind <> 'html' ORDER BY url")
    if host and host.access is Access.RULES and found and not host.file.sitemaps:
        shown = tuple(Evidence("sitemap", url, None, "found, but not named") for (url,) in found)
        yield Hit(host.url, site.all_mask, f"robots.txt names no sitemap, though there is {found[0][0]}", shown)


@check("robots-host-differs", CheckClass.CONFLICT, Severity.FIX, follows=Follows.NOTHING, needs=(Need.LIVE,))
def robots_host_differs(site: Site) -> Iterator[Hit]:
    """Variants of the host (http/https, bare/www) answer themselves, with other rules.

    Why: Each variant is a host of its own to crawlers: what one bars, the other leaves open.
    Mend: Redirect all variants to one, and serve the same robots.txt on all.
    Rests on: RFC 9309 section 2.3: rules hold for one scheme, host and port.
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
        message = f"{host.origin} does not redirect here, and its robots.txt has other rules"
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
    """robots.txt changes with the name of the crawler that asks.

    Why: No one who looks at the file sees what that crawler sees; caches may hand one crawler's file to another.
    Mend: Serve one file to all, with a group for each crawler that is to be treated otherwise.
    Rests on: RFC 9309 section 2.2.1: groups tell crawlers apart within one file.
    Evidence: What each was answered.
    """
    host = site.robots.get(site.base_origin)
    tokens = {c.token: 1 << i for i, c in enumerate(site.crawlers)}
    mask, shown = 0, []
    for token, status, body in site.rows("SELECT crawler, status, body FROM robots_as ORDER BY crawler"):
        if host and token in tokens and (status, body or b"") != (host.status, host.body):
            mask |= tokens[token]
            first = (body or b"").decode("utf-8", "replace").strip().partition("\n")[0][:120]
            shown.append(
                Evidence("robots", host.url, None, f"to {token}: {status}, {len(body or b''):,} octets, {first!r}")
            )
    if host and mask:
        message = f"robots.txt is another file when {listing(site.names(mask), 'or')} asks"
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
    """An unwanted address is kept out by robots.txt alone.

    Why: A barred address is not fetched, but it may still be listed by its address, from links to it.
    Mend: Let it be fetched and say noindex there (tag or header); or lock it; keep the rule only to save fetches.
    Rests on: RFC 9309 bars fetching, not listing.
    Evidence: The rule.
    """
    for url, mask, kind, entry in site.rows(
        f"""SELECT origin || path, barred, kind, entry FROM fact WHERE known AND barred > 0
        AND want = 'hide' AND noindex & barred = 0 AND {PAGE_ROW} ORDER BY origin, path"""
    ):
        evidence = rules(site, url, mask)
        if evidence and evidence[0].kind == "robots":
            why = f"it looks like junk ({kind})" if entry is None else "it is to be hidden"
            message = f"barred by {code(evidence[0].text)}, so it may still be listed by its address; {why}"
            yield Hit(url, mask, message, (*evidence, *stated(site, entry)), implied=entry is None)


class _Barred(NamedTuple):
    """A barred page that leads elsewhere: how, and where to."""

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
    """A barred page names another canonical or redirects, which no crawler can ever read.

    Why: The crawler never learns that another address stands for this one, so nothing of it is passed on.
    Mend: Let the page be fetched, so that the canonical or redirect is seen.
    Rests on: RFC 9309 section 2.2.2: what may not be fetched is not read.
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
        message = f"{'names the canonical' if names else 'redirects to'} {one.target}, which crawlers cannot read"
        yield Hit(one.url, one.crawlers, message, (*rules(site, one.url, one.crawlers), *said), also=(one.target,))


@check(
    "resource-barred",
    CheckClass.BLOCKED,
    Severity.FIX,
    follows=Follows.SHUT_HOST | Follows.HIDDEN_HOST,
    feeds=("resource",),
)
def resource_barred(site: Site) -> Iterator[Hit]:
    """A script, style sheet, data call or image that an open page needs is barred by its own host's rules.

    Why: The crawler renders the page without it, and may see an error or an empty page.
    Mend: Allow what pages need to be rendered, on the host that serves it.
    Rests on: RFC 9309 section 2.3: the resource's own host decides; that engines render pages is engine practice.
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
            continue  # no answer to this audit says nothing of crawlers
        well, ill = rendered.get(number, (0, 0))
        if ill and not well:
            continue  # render-broken says what comes of it
        evidence = (*rules(site, url, mask), Evidence("resource", where, line, text))
        need = "needs" if count == 1 else "need"
        message = f"{plural(count, 'open page')} {need} this {kind}, but {code(evidence[0].text)} bars it"
        if well:
            verb = "comes" if well == 1 else "come"
            message += f"; looked at with a browser, {plural(well, 'page')} {verb} out well without it"
            message += f", {ill} not (render-broken)" if ill else ""
        severity = Severity.NOTE if picture or well else None
        yield Hit(url, mask, message, evidence, also=tuple(pages.get(number, ())), severity=severity)


def _rendered_without(site: Site) -> dict[int, tuple[int, int]]:
    """Per resource that was kept from pages looked at with a browser how many came out well without it, and how many not."""
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
