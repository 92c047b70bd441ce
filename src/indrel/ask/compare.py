"""Two snapshots compared: what changed, what one edit explains it, what got worse."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

from indrel.ask.change_step import BRING_BACK
from indrel.ask.explain import explain
from indrel.ask.pairing import apart, known_of
from indrel.ask.removed_pages import gone_from
from indrel.ask.sides import Sides, StateChange, said_sql
from indrel.ask.unknown import Unreadable
from indrel.checks import verdict_of
from indrel.checks.causes import line_of
from indrel.checks.evidence import robots_line
from indrel.core.address import origin_of
from indrel.core.mapping import AddressMap
from indrel.core.model import Evidence, Finding, Lost, State, Want, capital, plural
from indrel.decide.reasons import decides, reasons
from indrel.decide.site import Site

MOST_EXPLAINED = 5_000
"""Changed addresses whose cause is looked up; of more, the first in order of harm."""

MOST_FIXES = 20
"""Places to edit for which it is worked out what brings lost pages back."""


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
    same: int
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

    @property
    def better(self) -> int:
        """Wanted URLs that are open to a crawler now and were not."""
        return len({c.url for c in self.states if c.is_better})

    @property
    def sentence(self) -> str:
        """What changed, the worst first."""
        altered = {c.url for c in self.states}
        changed, both = len(altered), self.common + len(altered.intersection(self.addresses_gone))
        lost = len({c.url for c in self.states if c.before == State.OPEN and c.want == Want.ANY and not c.moved_to})
        if self.worse:
            verdict = f"{plural(self.worse, 'wanted page')} got worse"
        elif lost:
            verdict = f"{plural(lost, 'URL is', 'URLs are')} no longer open, none of them known to be wanted"
        else:
            verdict = "nothing wanted got worse"
        if self.better:
            verdict += f", {plural(self.better, 'wanted page')} became open"
        counts = [
            f"{changed:,} of {both:,} changed state",
            f"{len(self.addresses_new):,} new",
            f"{len(self.addresses_gone):,} gone",
        ]
        counts += [f"{n:,} {what}" for n, what in ((len(self.moved), "moved"), (len(self.unknown), "unknown")) if n]
        return (
            f"{verdict}. URLs: {', '.join(counts)}. Findings: {len(self.findings_new):,} new, {len(self.findings_gone):,} gone, "
            f"{self.findings_still:,} unchanged"
        )

    @property
    def moved(self) -> dict[str, str]:
        """URLs that were open and redirect to an open page now, with that page."""
        return {c.url: c.moved_to for c in self.states if c.moved_to}

    def as_json(self) -> dict[str, object]:
        return {
            "states": [c.as_json() for c in self.states], "edits": [e.as_json() for e in self.edits],
            "directives": self.directives, "rules": self.rules,
            "sitemap": {"new": self.sitemap_new, "gone": self.sitemap_gone},
            "addresses": {"new": self.addresses_new, "gone": self.addresses_gone, "common": self.common},
            "findings_new": [f.as_json() for f in self.findings_new],
            "findings_gone": [f.as_json() for f in self.findings_gone], "findings_still": self.findings_still,
            "unknown": self.unknown, "moved": [{"url": url, "to": to} for url, to in self.moved.items()],
            "worse": self.worse, "better": self.better, "same": self.same,
        }  # fmt: skip


def compare(before: Site, after: Site, places: AddressMap | None = None) -> Comparison:
    """Compare two audits by URL and crawler; `places` says which places of the later one the earlier one's stand for."""
    sides = Sides(before, after, places)
    then, now = Unreadable(before), Unreadable(after)
    sets = _known_sets(then, now, sides.places)
    findings = _findings(before, after, sides.places)
    return Comparison(
        sides.common, sides.same, sides.states, _edits(sides), _directives(after), changed_rules(before, after), sets.sitemap_new,
        sets.sitemap_gone, sets.new, sets.gone, findings.new, findings.gone, findings.still,
        _unknown(sides, then, now, sets, findings),
    )  # fmt: skip


def lost_since(before: Site, after: Site) -> list[Lost]:
    """Wanted URLs that were open to a crawler and are known not to be now, with the evidence."""
    worse = [c for c in Sides(before, after).states if c.is_worse]
    causes = _Causes(after, list(dict.fromkeys(c.url for c in worse)))
    fixes: dict[tuple[str, ...], str] = {}
    found = []
    for one in worse:
        line = causes.of(one.url, one.crawler)
        place = line_of(line, after.section(one.url), one.url) if line else ()
        if place not in fixes:
            fixes[place] = _fix(after, one) if len(fixes) < MOST_FIXES else ""
        found.append(Lost(one.url, one.crawler, one.after, line, place, fixes[place]))
    return found


def _fix(site: Site, lost: StateChange) -> str:
    """What brings a lost page back."""
    if lost.after == State.GONE:
        return capital(f"{BRING_BACK}.")
    steps = explain(site, lost.url).steps.get(lost.crawler, [])
    return next((capital(f"{step.outcome}.") for step in steps if step.step == "change"), "")


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


def _known_sets(then: Unreadable, now: Unreadable, places: AddressMap) -> _Sets:
    after = now.site
    here = "SELECT origin, path FROM fact WHERE known"
    after.con.execute(
        """CREATE OR REPLACE TEMP TABLE later_listed AS SELECT DISTINCT a.origin, a.path, s.url AS file FROM entry e
        JOIN sitemap s ON s.id = e.sitemap JOIN address a ON a.id = e.address"""
    )
    no_more, not_yet = (
        _files_unknown(after, "earlier_listed", now, places.url),
        _files_unknown(after, "later_listed", then, places.back().url),
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


def changed_rules(before: Site, after: Site) -> list[dict[str, object]]:
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


def _findings(before: Site, after: Site, places: AddressMap) -> _Findings:
    old, now = verdict_of(before), verdict_of(after)
    fresh, gone = apart(old.findings, now.findings, places, accepted=False)
    gone_known, unseen_now = known_of(after, gone, places.url)
    new_known, unseen_then = known_of(before, fresh, places.back().url)
    return _Findings(new_known, gone_known, sum(now.tally.values()) - len(fresh), unseen_now, unseen_then)


def _unknown(
    sides: Sides, then: Unreadable, now: Unreadable, sets: _Sets, findings: _Findings
) -> list[dict[str, object]]:
    """What could not be read in one of the audits, and why."""
    unknown: list[dict[str, object]] = [
        {"url": url, "because": because, "when": when, "checks": checks}
        for when, unseen in (("now", findings.unseen_now), ("then", findings.unseen_then))
        for (url, because), checks in unseen.items()
    ]
    told = {str(one["url"]) for one in unknown}
    reasons_of = now.why(sides.lost_sight)
    reasons_of |= dict.fromkeys(sets.unseen_gone, now.whole or "") | sets.files_gone
    then_of = dict.fromkeys(sets.unseen_new, then.whole or "") | sets.files_new
    for when, because in (("now", reasons_of), ("then", then_of)):
        unknown += [
            {"url": url, "because": why, "when": when, "checks": []} for url, why in because.items() if url not in told
        ]
    return unknown


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


def _edits(sides: Sides) -> list[Edit]:
    """Gather changes by what explains them, the most harmful first."""
    before, after, states = sides.before, sides.after, sides.states
    urls = list(dict.fromkeys(c.url for c in states))[:MOST_EXPLAINED]
    back = sides.places.back()
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
        group["urls"][change.url] = group["urls"].get(change.url, False) or (change.wanted and not change.moved_to)
    edits = [
        Edit(b, a, section, g["evidence"], g["was"], tuple(g["crawlers"]), tuple(g["urls"]), sum(g["urls"].values()))
        for (b, a, section, *_), g in groups.items()
    ]
    return sorted(edits, key=lambda e: (not e.is_worse, -e.wanted, e.after == State.OPEN, -len(e.urls), e.section))


UNSEEN = (State.UNREAD, State.BROKEN)
"""Earlier states that no edit of the site made, or none that is known."""
