"""Two snapshots held against each other: what changed, what one edit explains it, what got worse."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any

from indrel.checks import checks as catalogue
from indrel.checks import verdict_of
from indrel.checks.catalogue import Need
from indrel.checks.evidence import robots_line
from indrel.checks.run import why_skipped
from indrel.core.address import HostMap, origin_of
from indrel.core.answers import status_text
from indrel.core.model import Evidence, Finding, Lost, State
from indrel.core.robots import Access
from indrel.decide.reasons import decides, reasons
from indrel.decide.site import Site
from indrel.errors import UsageError
from indrel.sqltext import quoted_list

MOST_EXPLAINED = 5_000
"""Changed addresses whose cause is looked up; of more, the first in order of harm."""


@dataclass(frozen=True, slots=True)
class StateChange:
    """One address whose state changed for one crawler."""

    url: str
    crawler: str
    before: str
    after: str
    wanted: bool
    want: str = "any"

    @property
    def is_worse(self) -> bool:
        """Wanted, open before, and known not to be now."""
        return self.wanted and self.before == State.OPEN

    def as_json(self) -> dict[str, object]:
        return {
            "url": self.url,
            "crawler": self.crawler,
            "before": self.before,
            "after": self.after,
            "wanted": self.wanted,
        }


@dataclass(frozen=True)
class Edit:
    """Changes that one edit explains: same states, same section, same rule, directive, canonical or status.

    `evidence` is what makes the state now, `was` what made the earlier one and is gone.
    """

    before: str
    after: str
    section: str
    evidence: Evidence | None
    was: Evidence | None
    crawlers: tuple[str, ...]
    urls: tuple[str, ...]
    wanted: int

    @property
    def is_worse(self) -> bool:
        return self.wanted > 0 and self.before == State.OPEN

    def as_json(self) -> dict[str, object]:
        return {
            "before": self.before, "after": self.after, "section": self.section, "count": len(self.urls),
            "wanted": self.wanted, "crawlers": list(self.crawlers), "urls": list(self.urls[:20]),
            "evidence": self.evidence.as_json() if self.evidence else None,
            "was": self.was.as_json() if self.was else None,
        }  # fmt: skip


@dataclass
class Comparison:
    """What changed from one snapshot to another. Addresses are the later snapshot's."""

    states: list[StateChange] = field(default_factory=list)
    edits: list[Edit] = field(default_factory=list)
    directives: list[dict[str, object]] = field(default_factory=list)
    rules: list[dict[str, object]] = field(default_factory=list)
    sitemap_new: list[str] = field(default_factory=list)
    sitemap_gone: list[str] = field(default_factory=list)
    addresses_new: list[str] = field(default_factory=list)
    addresses_gone: list[str] = field(default_factory=list)
    findings_new: list[Finding] = field(default_factory=list)
    findings_gone: list[Finding] = field(default_factory=list)
    findings_still: int = 0
    unknown: list[dict[str, object]] = field(default_factory=list)
    """What could not be read in one of the audits: `url`, `because`, and the checks that spoke of it in the other."""

    common: int = 0

    @property
    def worse(self) -> int:
        """Wanted addresses that were open for a crawler and are no more."""
        return len({c.url for c in self.states if c.is_worse})

    def as_json(self) -> dict[str, object]:
        return {
            "states": [c.as_json() for c in self.states], "edits": [e.as_json() for e in self.edits],
            "directives": self.directives, "rules": self.rules,
            "sitemap": {"new": self.sitemap_new, "gone": self.sitemap_gone},
            "addresses": {"new": self.addresses_new, "gone": self.addresses_gone, "common": self.common},
            "findings_new": [f.as_json() for f in self.findings_new],
            "findings_gone": [f.as_json() for f in self.findings_gone], "findings_still": self.findings_still,
            "unknown": self.unknown, "worse": self.worse,
        }  # fmt: skip


def compare(before: Site, after: Site, hosts: HostMap | None = None) -> Comparison:
    """Compare two readings by address and crawler; `hosts` names hosts of the earlier one that stand for later ones."""
    if [c.token for c in before.crawlers] != [c.token for c in after.crawlers]:
        raise UsageError("the two snapshots are seen by different crawlers: name them with --crawler")
    found = Comparison(changed_states(before, after, hosts or HostMap()))
    found.common = int(after.one("SELECT count(*) FROM fact JOIN earlier USING (origin, path) WHERE known"))
    _sets(after, found)
    _rules(before, after, found)
    _findings(before, after, hosts or HostMap(), found)
    found.edits = _edits(before, after, found.states, hosts or HostMap())
    return found


def _bring_over(before: Site, after: Site, hosts: HostMap) -> None:
    """`earlier`, `earlier_said` and `earlier_listed` in the later snapshot's connection, hosts mapped."""
    con = before.con
    origins = [(origin, hosts.origin(origin)) for (origin,) in before.rows("SELECT DISTINCT origin FROM address")]
    con.execute("CREATE OR REPLACE TEMP TABLE stands_for (origin VARCHAR, other VARCHAR)")
    con.executemany("INSERT INTO stands_for VALUES (?, ?)", origins)
    states = ", ".join(f"{before.state_sql(i)} AS s{i}" for i in range(len(before.crawlers)))
    tables = {
        "earlier": f"SELECT other AS origin, path, want, {UNKNOWN} AS unseen, {states} FROM fact "
        "JOIN stands_for USING (origin) WHERE known",
        "earlier_said": f"SELECT other AS origin, path, robots, canonical FROM ({said_sql('m.other')}) JOIN stands_for USING (origin)",
        "earlier_listed": "SELECT DISTINCT m.other AS origin, a.path FROM entry e "
        "JOIN address a ON a.id = e.address JOIN stands_for m ON m.origin = a.origin",
    }
    for name, sql in tables.items():
        data: Any = con.sql(sql).to_arrow_table()
        after.con.register(f"incoming_{name}", data)
        after.con.execute(f"CREATE OR REPLACE TEMP TABLE {name} AS SELECT * FROM incoming_{name}")
        after.con.unregister(f"incoming_{name}")


def said_sql(target: str = "t.origin") -> str:
    """What each page says of robots and canonical, in words that can be compared; `target` gives a canonical's origin."""
    mapped = " JOIN stands_for m ON m.origin = t.origin" if target.startswith("m.") else ""
    return f"""SELECT f.origin, f.path,
    coalesce((SELECT string_agg(t, '; ' ORDER BY t) FROM (SELECT DISTINCT CASE WHEN d.scope = '' THEN '' ELSE d.scope || ': ' END
        || array_to_string(d.tokens, ', ') AS t FROM directive d WHERE d.address = f.id AND d.void IS NULL AND len(d.tokens) > 0)),
        'none') AS robots,
    coalesce((SELECT string_agg(DISTINCT {target} || t.path, '; ' ORDER BY {target} || t.path) FROM canonical c
        JOIN address t ON t.id = c.target{mapped} WHERE c.address = f.id AND c.fault IS NULL AND NOT c.in_body), 'none') AS canonical
FROM fact f WHERE f.known AND f.read AND f.status < 300"""


UNKNOWN = "NOT read OR status IS NULL OR status >= 500 OR status IN (408, 425, 429)"
"""Whether nothing is known of an address, over the columns of `fact`: it was not read, or did not answer this time."""


def _unreachable(site: Site) -> set[str]:
    """The hosts whose robots.txt could not be had: crawlers keep away, and nothing is known of what it says."""
    return {host.origin for host in site.robots.values() if host.known and host.access is Access.ALL_BARRED}


def _origins(names: Iterable[str]) -> str:
    """Origins for a query's IN, which must not be empty."""
    return quoted_list(["", *sorted(names)])


class Unasked:
    """Why an audit says nothing of a check at an address: it was left out, or the page was not looked at with the browser."""

    def __init__(self, site: Site) -> None:
        self._left_out = {id: why for id, one in catalogue().items() if (why := why_skipped(one, site))}
        looked = "SELECT a.origin || a.path FROM render r JOIN address a ON a.id = r.address WHERE r.outcome <> 'none'"
        self._looked = {url for (url,) in site.rows(looked)} if "render" in site.filled else set()

    def why(self, check: str, url: str) -> str | None:
        """The reason; None where the audit would have found it."""
        if because := self._left_out.get(check):
            return f"{check} was left out: {because}"
        rendered = check in catalogue() and Need.RENDERED in catalogue()[check].needs
        return "not looked at with the browser this time" if rendered and url not in self._looked else None


class Unreadable:
    """Why an address could not be read in an audit; None where it was read, or is known not to be there any more."""

    def __init__(self, site: Site) -> None:
        self.site = site
        self._shut = {
            origin: f"robots.txt: {status_text(site.robots[origin].status, site.robots[origin].error)}"
            for origin in _unreachable(site)
        }
        self.whole = self._nothing_read()

    def _nothing_read(self) -> str | None:
        """Why an address that an audit does not know may be there all the same; None where it would have been found."""
        if not self.site.complete:
            return f"not read: {self.site.meta.get('incomplete_because') or 'the audit is not complete'}"
        start = self.site.rows(
            f"SELECT read, status, error, barred FROM fact WHERE id = ? AND ({UNKNOWN})", [self.site.start_id]
        )
        if not start:
            return None
        read, status, error, barred = start[0]
        if because := self._shut.get(self.site.base_origin):
            return because
        return f"the start page could not be read: {status_text(status, error) if read else 'barred' if barred else 'not asked'}"

    def why(self, urls: Iterable[str]) -> dict[str, str]:
        """Of some addresses those that could not be read, with the reason."""
        chosen = sorted({u for u in urls if "://" in u})
        rows = {
            row[0]: row[1:]
            for row in self.site.rows(
                f"""SELECT origin || path AS url, read, status, error, barred, {UNKNOWN} AS unseen FROM fact
                WHERE url IN (SELECT unnest(?::VARCHAR[]))""",
                [chosen],
            )
        }
        sitemaps = {
            url: (status, error)
            for url, status, error in self.site.rows("SELECT url, status, fetch_error FROM sitemap")
        }
        found = {}
        for url in chosen:
            reason = self._robots(url) or self._page(url, rows.get(url), sitemaps.get(url))
            if reason:
                found[url] = reason
        return found

    def _robots(self, url: str) -> str | None:
        host = self.site.robots.get(origin_of(url))
        if not url.endswith("/robots.txt") or host is None or not host.known:
            return None
        return status_text(host.status, host.error) if host.access is Access.ALL_BARRED else ""

    def _page(self, url: str, row: tuple[Any, ...] | None, sitemap: tuple[int | None, str | None] | None) -> str | None:
        if sitemap is not None:
            return None if sitemap[0] == 200 or (sitemap[0] and 400 <= sitemap[0] < 500) else status_text(*sitemap)
        if row is None:
            return self.whole
        read, status, error, barred, unseen = row
        if not unseen:
            return None
        if read:
            return status_text(status, error)
        if barred:
            return self._shut.get(origin_of(url)) or "barred, so it was not read"
        return self.whole


def lost_since(before: Site, after: Site) -> list[Lost]:
    """Wanted addresses that were open for a crawler and are known not to be now, with what does it."""
    worse = [c for c in changed_states(before, after) if c.is_worse]
    causes = _Causes(after, list(dict.fromkeys(c.url for c in worse)))
    return [Lost(c.url, c.crawler, c.after, causes.of(c.url, c.crawler)) for c in worse]


def changed_states(before: Site, after: Site, hosts: HostMap | None = None) -> list[StateChange]:
    """Addresses whose state changed, by crawler: wanted ones that got worse first."""
    hosts = hosts or HostMap()
    _bring_over(before, after, hosts)
    shut, shut_then = _origins(_unreachable(after)), _origins(map(hosts.origin, _unreachable(before)))
    found = []
    for i, crawler in enumerate(after.crawlers):
        found += [
            StateChange(url, crawler.token, old, new, wanted, want)
            for url, old, new, wanted, want in after.rows(
                f"""SELECT origin || path AS url, e.s{i}, {after.state_sql(i)} AS state, fact.want = 'show' OR e.want = 'show',
                    fact.want
                FROM fact JOIN earlier e USING (origin, path) WHERE known AND state <> e.s{i}
                AND NOT (({UNKNOWN}) AND (state <> 'barred' OR origin IN ({shut})))
                AND NOT (e.unseen AND (e.s{i} <> 'barred' OR origin IN ({shut_then}))) ORDER BY url"""
            )
        ]
    return sorted(found, key=lambda c: (not c.is_worse, not c.wanted, c.after == State.OPEN, c.url))


def _sets(after: Site, found: Comparison) -> None:
    """Addresses, directives and sitemap entries that are new, gone or changed."""

    def column(sql: str) -> list[str]:
        return [url for (url,) in after.rows(sql)]

    here = "SELECT origin, path FROM fact WHERE known"
    listed = "SELECT DISTINCT a.origin, a.path FROM entry e JOIN address a ON a.id = e.address"
    for urls, ours, theirs in (
        (found.addresses_new, here, "SELECT origin, path FROM earlier"),
        (found.addresses_gone, "SELECT origin, path FROM earlier", here),
        (found.sitemap_new, listed, "SELECT origin, path FROM earlier_listed"),
        (found.sitemap_gone, "SELECT origin, path FROM earlier_listed", listed),
    ):
        urls += column(f"SELECT origin || path AS url FROM (({ours}) EXCEPT ({theirs})) ORDER BY url")
    for what in ("robots", "canonical"):
        found.directives += [
            {"url": url, "what": what, "before": old, "after": new}
            for url, old, new in after.rows(
                f"SELECT origin || path AS url, e.{what}, n.{what} FROM ({said_sql()}) n JOIN earlier_said e USING (origin, path) "
                f"WHERE e.{what} <> n.{what} ORDER BY url"
            )
        ]


def _rules(before: Site, after: Site, found: Comparison) -> None:
    """Rules of the main host's robots.txt that only one of the files has."""
    sides = []
    for site in (before, after):
        host = site.robots.get(site.base_origin)
        groups = host.file.groups if host else ()
        sides.append({(", ".join(g.agents), r.label): r for g in groups for r in g.rules})
    old, new = sides
    for change, ours, theirs in (("gone", old, new), ("new", new, old)):
        for (group, label), rule in ours.items():
            if (group, label) not in theirs:
                found.rules.append({"change": change, "group": group, "text": rule.text, "line": rule.line})


def _findings(before: Site, after: Site, hosts: HostMap, found: Comparison) -> None:
    old, new = ([f for f in verdict_of(s).findings if not f.accepted] for s in (before, after))
    fresh, gone = apart(old, new, hosts)
    found.findings_still = len(new) - len(fresh)
    found.findings_gone, unseen_now = known_of(after, gone, hosts.url)
    found.findings_new, unseen_then = known_of(before, fresh, hosts.back().url)
    for when, unseen in (("now", unseen_now), ("then", unseen_then)):
        for (url, because), checks in unseen.items():
            found.unknown.append({"url": url, "because": because, "when": when, "checks": checks})
    told = {str(one["url"]) for one in found.unknown}
    lost_sight = after.rows(
        f"""SELECT origin || path AS url FROM fact JOIN earlier e USING (origin, path) WHERE known AND ({UNKNOWN})
        AND (barred = 0 OR origin IN ({_origins(_unreachable(after))})) AND NOT e.unseen ORDER BY url"""
    )
    now, then = Unreadable(after), Unreadable(before)
    reasons_of = now.why([url for (url,) in lost_sight])
    # what an audit could not have come across is neither gone nor new
    if now.whole:
        reasons_of |= dict.fromkeys(found.addresses_gone, now.whole)
        found.addresses_gone = []
        found.sitemap_gone = found.sitemap_gone if _sitemap_read(after) else []
    found.unknown += [
        {"url": u, "because": b, "when": "now", "checks": []} for u, b in reasons_of.items() if u not in told
    ]
    if then.whole:
        found.unknown += [
            {"url": u, "because": then.whole, "when": "then", "checks": []}
            for u in found.addresses_new
            if u not in told
        ]
        found.addresses_new = []
        found.sitemap_new = found.sitemap_new if _sitemap_read(before) else []


def _sitemap_read(site: Site) -> bool:
    return bool(site.one("SELECT count(*) FROM sitemap WHERE status = 200 AND fetch_error IS NULL"))


def known_of(
    site: Site, findings: Sequence[Finding], there: Callable[[str], str]
) -> tuple[list[Finding], dict[tuple[str, str], list[str]]]:
    """Findings of one audit of whose addresses the other, `site`, knows something, and of the rest address, reason, checks.

    `there` gives the address that stands for one in the other audit.
    """
    because = Unreadable(site).why(there(f.url) for f in findings)
    unasked = Unasked(site)
    known: list[Finding] = []
    unknown: dict[tuple[str, str], list[str]] = {}
    for finding in findings:
        reason = because.get(there(finding.url)) or unasked.why(finding.check, there(finding.url))
        if reason:
            unknown.setdefault((finding.url, reason), []).append(finding.check)
        else:
            known.append(finding)
    return known, unknown


def apart(
    old: Sequence[Finding], new: Sequence[Finding], hosts: HostMap | None = None
) -> tuple[list[Finding], list[Finding]]:
    """The findings that only the later audit has, and those that only the earlier one has.

    Findings are the same by check and subject, and by line for those of robots.txt.
    """

    def key(finding: Finding) -> tuple[str, str, str]:
        url = (hosts or HostMap()).url(finding.url)
        robots = finding.evidence[0].text if url.endswith("/robots.txt") and finding.evidence else ""
        return finding.check, url, robots

    def only(ones: Sequence[Finding], others: Sequence[Finding]) -> list[Finding]:
        left = Counter(key(f) for f in others)
        found = []
        for finding in ones:
            if left[key(finding)] > 0:
                left[key(finding)] -= 1
            else:
                found.append(finding)
        return found

    return only(new, old), only(old, new)


class _Causes:
    """What decided the states of some addresses of one site, looked up for all of them at once."""

    def __init__(self, site: Site, urls: Sequence[str]) -> None:
        self.site = site
        self.tokens = [c.token for c in site.crawlers]
        self.numbers = dict(
            site.rows("SELECT origin || path AS url, id FROM fact WHERE url IN (SELECT unnest(?::VARCHAR[]))", [urls])
        )
        self.reasons = reasons(site, self.numbers.values())

    def of(self, url: str, crawler: str) -> Evidence | None:
        """The rule, directive, canonical or status behind a state; nothing stands behind `open`."""
        found = self.reasons.get(self.numbers.get(url, -1), [])
        return next(iter(decides(found, self.tokens.index(crawler))), None)

    def allowing(self, url: str, crawler: str) -> Evidence | None:
        """The Allow line that lets a crawler in, if there is one."""
        allowed, rule, _ = self.site.rule_for(url, self.site.crawlers[self.tokens.index(crawler)])
        host = self.site.robots.get(url[: url.index("/", 8)])
        return robots_line(host, rule.line, rule.text) if allowed and rule and host else None


def _edits(before: Site, after: Site, states: list[StateChange], hosts: HostMap) -> list[Edit]:
    """Gather changes by what explains them, the most harmful first."""
    urls = list(dict.fromkeys(c.url for c in states))[:MOST_EXPLAINED]
    back = hosts.back()
    earlier = {url: back.url(url) for url in urls}
    now, then = _Causes(after, urls), _Causes(before, list(earlier.values()))
    groups: dict[tuple[str, ...], dict[str, Any]] = {}
    for change in states:
        if change.url not in now.numbers:
            continue
        evidence = now.of(change.url, change.crawler)
        was = then.of(earlier[change.url], change.crawler) if change.before != State.OPEN else None
        if change.before in UNSEEN:
            was = None
        elif change.before == State.BARRED and change.after == State.OPEN:
            evidence = now.allowing(change.url, change.crawler) or evidence
        each = (State.FOLDED, State.OPEN)  # their evidence is of each address, not of one line for many
        texts = [
            e.text if e and state not in each else "" for e, state in ((evidence, change.after), (was, change.before))
        ]
        key = (change.before, change.after, after.section(change.url), *texts)
        group = groups.setdefault(key, {"evidence": evidence, "was": was, "crawlers": {}, "urls": {}})
        group["crawlers"][change.crawler] = None
        group["urls"][change.url] = group["urls"].get(change.url, False) or change.wanted
    edits = [
        Edit(b, a, section, g["evidence"], g["was"], tuple(g["crawlers"]), tuple(g["urls"]), sum(g["urls"].values()))
        for (b, a, section, *_), g in groups.items()
    ]
    return sorted(edits, key=lambda e: (not e.is_worse, -e.wanted, e.after == State.OPEN, -len(e.urls), e.section))


UNSEEN = (State.UNREAD, State.BROKEN)
"""Earlier states that no edit of the site made, or none that is known."""
