"""Two snapshots compared: what changed, what one edit explains it, what got worse."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

from indrel.ask.removed_pages import gone_from, vanished
from indrel.ask.unknown import UNKNOWN, Unasked, Unreadable, unknown_state_sql, unreachable
from indrel.base.errors import AuditCutShort, UsageError
from indrel.base.sqltext import quoted_list
from indrel.checks import verdict_of
from indrel.checks.causes import line_of
from indrel.checks.evidence import robots_line
from indrel.core.address import HostMap, origin_of
from indrel.core.model import Evidence, Finding, Lost, State, Want
from indrel.core.robots import Access
from indrel.decide.reasons import decides, reasons
from indrel.decide.site import Site

MOST_EXPLAINED = 5_000
"""Changed addresses whose cause is looked up; of more, the first in order of harm."""


MOVED = """(tail = 'folded' AND fold_how IN ('redirect', 'refresh') AND NOT listed AND NOT named
    AND followed + unfollowed = 0)"""
"""Whether a page is no longer listed and leads elsewhere, over the columns of `fact`: if that is open it is the page now,
and nothing is lost."""


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
    """Changes that one edit explains: `evidence` is what makes the state now, `was` what made the earlier one and is gone."""

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


@dataclass(frozen=True)
class Comparison:
    """What changed from one snapshot to another. Addresses are the later snapshot's."""

    common: int
    states: list[StateChange]
    edits: list[Edit]
    directives: list[dict[str, object]]
    rules: list[dict[str, object]]
    sitemap_new: list[str]
    sitemap_gone: list[str]
    addresses_new: list[str]
    addresses_gone: list[str]
    findings_new: list[Finding]
    findings_gone: list[Finding]
    findings_still: int
    unknown: list[dict[str, object]]
    """What could not be read in one of the audits: `url`, `because`, and the checks that spoke of it in the other."""

    @property
    def worse(self) -> int:
        """Wanted URLs that were open to a crawler and no longer are."""
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
    hosts = hosts or HostMap()
    states = changed_states(before, after, hosts)
    common = in_common(before, after)
    then, now = Unreadable(before), Unreadable(after)
    sets = _known_sets(then, now, hosts)
    findings = _findings(before, after, hosts)
    return Comparison(
        common, states, _edits(before, after, states, hosts), _directives(after), _rules(before, after), sets.sitemap_new,
        sets.sitemap_gone, sets.new, sets.gone, findings.new, findings.gone, findings.still,
        _unknown(then, now, sets, findings),
    )  # fmt: skip


def in_common(before: Site, after: Site) -> int:
    """How many URLs both audits know, once the earlier ones were brought over. Raises AuditCutShort for none: nothing can be
    concluded from two audits of different places."""
    common = int(after.one("SELECT count(*) FROM fact JOIN earlier USING (origin, path) WHERE known"))
    if not common and before.one("SELECT count(*) FROM fact WHERE known AND site"):
        raise AuditCutShort(
            f"nothing was compared: no URL is in both audits, one is of {before.base} and one of {after.base}; "
            "give both the same base (--base)"
        )
    return common


def _bring_over(before: Site, after: Site, hosts: HostMap) -> None:
    """`earlier`, `earlier_said` and `earlier_listed` in the later snapshot's connection, hosts mapped."""
    con = before.con
    origins = [(origin, hosts.origin(origin)) for (origin,) in before.rows("SELECT DISTINCT origin FROM address")]
    con.execute("CREATE OR REPLACE TEMP TABLE stands_for (origin VARCHAR, other VARCHAR)")
    con.executemany("INSERT INTO stands_for VALUES (?, ?)", origins)
    states = ", ".join(f"{before.state_sql(i)} AS s{i}" for i in range(len(before.crawlers)))
    tables = {
        "earlier": f"SELECT other AS origin, path, want, kind, html, {unknown_state_sql(before)} AS unseen, {states} FROM fact "
        "JOIN stands_for USING (origin) WHERE known",
        "earlier_said": f"SELECT other AS origin, path, robots, canonical FROM ({said_sql('m.other')}) JOIN stands_for USING (origin)",
        "earlier_listed": "SELECT DISTINCT m.other AS origin, a.path, s.url AS file FROM entry e "
        "JOIN sitemap s ON s.id = e.sitemap JOIN address a ON a.id = e.address JOIN stands_for m ON m.origin = a.origin",
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


def _origins(names: Iterable[str]) -> str:
    """Origins for a query's IN, which must not be empty."""
    return quoted_list(["", *sorted(names)])


def lost_since(before: Site, after: Site) -> list[Lost]:
    """Wanted URLs that were open to a crawler and are known not to be now, with the evidence."""
    worse = [c for c in changed_states(before, after) if c.is_worse]
    in_common(before, after)
    causes = _Causes(after, list(dict.fromkeys(c.url for c in worse)))
    found = []
    for one in worse:
        line = causes.of(one.url, one.crawler)
        place = line_of(line, after.section(one.url), one.url) if line else ()
        found.append(Lost(one.url, one.crawler, one.after, line, place))
    return found


def changed_states(before: Site, after: Site, hosts: HostMap | None = None) -> list[StateChange]:
    """Addresses whose state changed, by crawler: wanted ones that got worse first."""
    hosts = hosts or HostMap()
    _bring_over(before, after, hosts)
    shut, shut_then = _origins(unreachable(after)), _origins(map(hosts.origin, unreachable(before)))
    unknown = unknown_state_sql(after)
    found = []
    for i, crawler in enumerate(after.crawlers):
        found += [
            StateChange(url, crawler.token, old, new, wanted, want)
            for url, old, new, wanted, want in after.rows(
                f"""SELECT origin || path AS url, e.s{i}, {after.state_sql(i)} AS state,
                    fact.want = 'show' OR (e.want = 'show' AND fact.entry IS NULL
                        AND NOT ({MOVED} AND coalesce(there.opens, 0) & {1 << i} > 0)), fact.want
                FROM fact JOIN earlier e USING (origin, path)
                LEFT JOIN (SELECT id AS place, open AS opens FROM fact) there ON there.place = coalesce(folds_into, folds_to)
                WHERE known AND state <> e.s{i}
                AND NOT ({unknown} AND (state <> 'barred' OR origin IN ({shut})))
                AND NOT (e.unseen AND (e.s{i} <> 'barred' OR origin IN ({shut_then}))) ORDER BY url"""
            )
        ]
    found += [
        StateChange(page.url, crawler.token, state, State.GONE, page.want == Want.SHOW, page.want)
        for page in vanished(after)
        for crawler, state in zip(after.crawlers, page.states, strict=True)
        if state != State.GONE
    ]
    found += _barred_now(after)
    return sorted(found, key=lambda c: (not c.is_worse, not c.wanted, c.after == State.OPEN, c.url))


def _barred_now(after: Site) -> list[StateChange]:
    """Pages of the earlier audit that the later one did not come across, and that its robots.txt blocks: a rule that blocks a
    URL says so whether or not anything else could be read."""
    known = {o: h for o, h in after.robots.items() if h.known and h.access is Access.RULES}
    seen = ", ".join(f"s{i}" for i in range(len(after.crawlers)))
    rows = after.rows(
        f"""SELECT origin, path, kind, want, {seen} FROM earlier ANTI JOIN (SELECT origin, path FROM fact WHERE known)
        USING (origin, path) WHERE NOT unseen AND origin IN ({_origins(known)}) ORDER BY origin, path"""
    )
    found = []
    for origin, path, kind, want, *states in rows:
        url = origin + path
        entries = after.intent.deciding(url, kind)
        wish = entries[0].want if entries else want
        for crawler, state in zip(after.crawlers, states, strict=True):
            if state != State.BARRED and not known[origin].verdict.decide(path, crawler).allowed:
                found.append(StateChange(url, crawler.token, state, State.BARRED, wish == Want.SHOW, wish))
    return found


class _Sets(NamedTuple):
    """Addresses and sitemap entries that only one of the audits has. `unseen_gone` and `unseen_new` are the ones that the other
    could not have come across: neither gone nor new; `files_new` and `files_gone` are sitemaps that it could not read, with
    the reason."""

    new: list[str]
    gone: list[str]
    sitemap_new: list[str]
    sitemap_gone: list[str]
    unseen_new: list[str]
    unseen_gone: list[str]
    files_new: dict[str, str]
    files_gone: dict[str, str]


def _known_sets(then: Unreadable, now: Unreadable, hosts: HostMap) -> _Sets:
    after = now.site
    here = "SELECT origin, path FROM fact WHERE known"
    after.con.execute(
        """CREATE OR REPLACE TEMP TABLE later_listed AS SELECT DISTINCT a.origin, a.path, s.url AS file FROM entry e
        JOIN sitemap s ON s.id = e.sitemap JOIN address a ON a.id = e.address"""
    )
    no_more, not_yet = (
        _files_unknown(after, "earlier_listed", now, hosts.url),
        _files_unknown(after, "later_listed", then, hosts.back().url),
    )
    listed, listed_then = "SELECT origin, path FROM later_listed", "SELECT origin, path FROM earlier_listed"
    new, gone, sitemap_new, sitemap_gone = (
        [
            url
            for (url,) in after.rows(
                f"SELECT origin || path AS url FROM (({ours}) EXCEPT ({theirs})) ORDER BY url", [list(unknown)] if unknown else None
            )
        ]
        for ours, theirs, unknown in (
            (here, "SELECT origin, path FROM earlier", {}), ("SELECT origin, path FROM earlier", here, {}),
            (listed, _or_in_files(listed_then, "later_listed", not_yet), not_yet),
            (listed_then, _or_in_files(listed, "earlier_listed", no_more), no_more),
        )
    )  # fmt: skip
    unseen_new: list[str] = []
    unseen_gone: list[str] = []
    if now.whole:
        unseen_gone, gone = gone, []
    if then.whole:
        unseen_new, new = new, []
    return _Sets(new, gone, sitemap_new, sitemap_gone, unseen_new, unseen_gone, not_yet, no_more)


def _files_unknown(site: Site, table: str, there: Unreadable, mapped: Callable[[str], str]) -> dict[str, str]:
    """Sitemap files of a table that the other audit could not read, with the reason."""
    files = {file: mapped(file) for (file,) in site.rows(f"SELECT DISTINCT file FROM {table}")}
    because = there.why(files.values())
    return {file: because[other] for file, other in files.items() if other in because}


def _or_in_files(listed: str, table: str, files: Iterable[str]) -> str:
    """What is listed, and what stands in files of a table of which the other audit does not know: their names come as a list."""
    return (
        f"{listed} UNION SELECT origin, path FROM {table} WHERE file IN (SELECT unnest(?::VARCHAR[]))"
        if files
        else listed
    )


def _directives(after: Site) -> list[dict[str, object]]:
    """Directives of addresses that both audits know, where they changed."""
    return [
        {"url": url, "what": what, "before": old, "after": new}
        for what in ("robots", "canonical")
        for url, old, new in after.rows(
            f"SELECT origin || path AS url, e.{what}, n.{what} FROM ({said_sql()}) n JOIN earlier_said e USING (origin, path) "
            f"WHERE e.{what} <> n.{what} ORDER BY url"
        )
    ]


def _rules(before: Site, after: Site) -> list[dict[str, object]]:
    """Rules of the main host's robots.txt that only one of the files has."""
    sides = []
    for site in (before, after):
        host = site.robots.get(site.base_origin)
        groups = host.file.groups if host else ()
        sides.append({(", ".join(g.agents), r.label): r for g in groups for r in g.rules})
    old, new = sides
    return [
        {"change": change, "group": group, "text": rule.text, "line": rule.line}
        for change, ours, theirs in (("gone", old, new), ("new", new, old))
        for (group, label), rule in ours.items()
        if (group, label) not in theirs
    ]


class _Findings(NamedTuple):
    """Findings that only one of the audits has, how many both have, and those of which one audit cannot know: by address and
    reason the checks."""

    new: list[Finding]
    gone: list[Finding]
    still: int
    unseen_now: dict[tuple[str, str], list[str]]
    unseen_then: dict[tuple[str, str], list[str]]


def _findings(before: Site, after: Site, hosts: HostMap) -> _Findings:
    old, now = verdict_of(before), verdict_of(after)
    fresh, gone = apart(old.findings, now.findings, hosts, accepted=False)
    gone_known, unseen_now = known_of(after, gone, hosts.url)
    new_known, unseen_then = known_of(before, fresh, hosts.back().url)
    return _Findings(new_known, gone_known, sum(now.tally.values()) - len(fresh), unseen_now, unseen_then)


def _unknown(then: Unreadable, now: Unreadable, sets: _Sets, findings: _Findings) -> list[dict[str, object]]:
    """What could not be read in one of the audits, and why."""
    unknown: list[dict[str, object]] = [
        {"url": url, "because": because, "when": when, "checks": checks}
        for when, unseen in (("now", findings.unseen_now), ("then", findings.unseen_then))
        for (url, because), checks in unseen.items()
    ]
    told = {str(one["url"]) for one in unknown}
    lost_sight = now.site.rows(
        f"""SELECT origin || path AS url FROM fact JOIN earlier e USING (origin, path) WHERE known AND ({UNKNOWN})
        AND (barred = 0 OR origin IN ({_origins(unreachable(now.site))})) AND NOT e.unseen ORDER BY url"""
    )
    reasons_of = now.why([url for (url,) in lost_sight])
    reasons_of |= dict.fromkeys(sets.unseen_gone, now.whole or "") | sets.files_gone
    then_of = dict.fromkeys(sets.unseen_new, then.whole or "") | sets.files_new
    for when, because in (("now", reasons_of), ("then", then_of)):
        unknown += [
            {"url": url, "because": why, "when": when, "checks": []} for url, why in because.items() if url not in told
        ]
    return unknown


def known_of(
    site: Site, findings: Sequence[Finding], there: Callable[[str], str]
) -> tuple[list[Finding], dict[tuple[str, str], list[str]]]:
    """Findings of one audit of whose addresses the other, `site`, knows something, and of the rest address, reason, checks.

    `there` gives the address that stands for one in the other audit.
    """
    why = Unreadable(site).of(findings, there)
    unasked = Unasked(site)
    known: list[Finding] = []
    unknown: dict[tuple[str, str], list[str]] = {}
    for finding in findings:
        reason = why(finding) or unasked.why(finding.check, there(finding.url))
        if reason:
            unknown.setdefault((finding.url, reason), []).append(finding.check)
        else:
            known.append(finding)
    return known, unknown


def apart(
    old: Sequence[Finding], new: Sequence[Finding], hosts: HostMap | None = None, accepted: bool = True
) -> tuple[list[Finding], list[Finding]]:
    """The findings that only the later audit has, and the ones that only the earlier one has; all but accepted ones if so asked.

    Findings are the same by check and subject, and by line for those of robots.txt. Each side is read once, and only what
    is reported is held.
    """
    mapped = hosts or HostMap()

    def key(finding: Finding) -> tuple[str, str, str] | None:
        if finding.accepted and not accepted:
            return None
        url = mapped.url(finding.url)
        robots = finding.evidence[0].text if url.endswith("/robots.txt") and finding.evidence else ""
        return finding.check, url, robots

    def only(
        ones: Sequence[Finding], keys: Sequence[tuple[str, str, str] | None], others: Sequence[tuple[str, str, str] | None]
    ) -> list[Finding]:  # fmt: skip
        left = Counter(others)
        found = []
        for place, one in enumerate(keys):
            if one is not None and left[one] > 0:
                left[one] -= 1
            elif one is not None:
                found.append(ones[place])
        return found

    then, now = [key(f) for f in old], [key(f) for f in new]
    return only(new, now, then), only(old, then, now)


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
        if url not in self.numbers:
            site = self.site
            _, rule, _ = site.rule_for(url, site.crawlers[self.tokens.index(crawler)])
            host = site.robots.get(origin_of(url))
            return robots_line(host, rule.line, rule.text) if rule and not rule.allow and host else gone_from(url)
        found = self.reasons.get(self.numbers[url], [])
        return next(iter(decides(found, self.tokens.index(crawler))), None)

    def allowing(self, url: str, crawler: str) -> Evidence | None:
        """The Allow line that lets a crawler in, if there is one."""
        allowed, rule, _ = self.site.rule_for(url, self.site.crawlers[self.tokens.index(crawler)])
        host = self.site.robots.get(origin_of(url))
        return robots_line(host, rule.line, rule.text) if allowed and rule and host else None


def _edits(before: Site, after: Site, states: list[StateChange], hosts: HostMap) -> list[Edit]:
    """Gather changes by what explains them, the most harmful first."""
    urls = list(dict.fromkeys(c.url for c in states))[:MOST_EXPLAINED]
    back = hosts.back()
    earlier = {url: back.url(url) for url in urls}
    now, then = _Causes(after, urls), _Causes(before, list(earlier.values()))
    groups: dict[tuple[str, ...], dict[str, Any]] = {}
    for change in states:
        if change.url not in earlier:
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
