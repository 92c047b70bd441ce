"""Asking again for the addresses of findings: what is fixed, what is still there, what has changed."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from indrel import pipeline
from indrel.ask.pairing import paired, said, why_unknown
from indrel.ask.sides import Sides, StateChange
from indrel.ask.unknown import Unreadable, rests_on, rests_on_all
from indrel.base.errors import UsageError
from indrel.core.address import split
from indrel.core.model import Cause, Finding, Severity
from indrel.decide.site import Site
from indrel.sources.options import Gathering, GatherOptions

if TYPE_CHECKING:
    from indrel.core.intent import Intent
    from indrel.pipeline import Gathered

_OLD = re.compile(r"c?[0-9]{1,3}", re.IGNORECASE)
"""A cause as reports numbered it before causes had ids."""

MOST_BESIDE = 200
"""Addresses beside one finding that are asked for again."""


@dataclass(frozen=True)
class Rechecked:
    """Findings by what became of them; `changed` are pairs of what was said and what is said now.

    `unknown` are findings of addresses that could not be read this time, each with the reason: neither fixed nor worse.
    """

    mended: Sequence[Finding]
    still: Sequence[Finding]
    changed: Sequence[tuple[Finding, Finding]]
    new: Sequence[Finding]
    unknown: Sequence[tuple[Finding, str]]
    answered: int = 0
    """Addresses asked for again that answered."""
    states: Sequence[StateChange] = ()
    """Those of them whose state changed, by crawler."""

    def as_json(self) -> dict[str, object]:
        return {
            "mended": [f.as_json() for f in self.mended], "still": [f.as_json() for f in self.still],
            "changed": [{"before": a.as_json(), "after": b.as_json()} for a, b in self.changed],
            "new": [f.as_json() for f in self.new],
            "unknown": [{**f.as_json(), "unknown_because": why} for f, why in self.unknown], "answered": self.answered,
            "states": [s.as_json() for s in self.states],
        }  # fmt: skip

    def fails(self, severity: Severity) -> bool:
        """Whether anything as grave is still there or new."""
        now = [*self.still, *(after for _, after in self.changed), *self.new]
        return any(f.severity.value >= severity.value for f in now)


def causes_named(causes: Iterable[Cause], given: Sequence[str]) -> list[str]:
    """The ids of causes that were named by prefixes. Raises UsageError for one that names none, or several."""
    ids = {cause.id: cause.short for cause in causes}
    found = []
    for word in given:
        if _OLD.fullmatch(word):
            raise UsageError(
                f"{word} is a number from an older report: causes have ids now, such as {next(iter(ids.values()), 'c7f3a')}; "
                "`indrel report --all -o x.md` shows them, and --check ID chooses by check"
            )
        hits = [id for id in ids if id.startswith(word.lower())]
        if len(hits) != 1:
            several = f"it begins {len(hits)} ids: {', '.join(sorted(ids[h] for h in hits)[:5])}"
            raise UsageError(
                f"no cause {word} here: {several if hits else 'it may be fixed, or be of another snapshot'}"
            )
        found += hits
    return found


def chosen(
    findings: Iterable[Finding], checks: Sequence[str], causes: Sequence[str], urls: Sequence[str]
) -> list[Finding]:
    """The findings of some checks, causes or addresses; all that are not accepted where none are named."""
    return [
        f
        for f in findings
        if not f.accepted
        and (not checks or f.check in checks)
        and (not causes or f.cause in causes)
        and (not urls or f.address in urls or bool(set(urls) & set(f.also)))
    ]


def addresses(site: Site, findings: Iterable[Finding], urls: Iterable[str] = ()) -> set[str]:
    """The addresses of the site that findings depend on: subjects, those beside them, pages that are evidence."""
    named = set(urls)
    for finding in findings:
        named.update(rests_on(finding))
        named.update(finding.also[:MOST_BESIDE])
    return {
        url
        for (url,) in site.rows(
            """SELECT url FROM (SELECT origin || path AS url FROM address WHERE site UNION ALL SELECT url FROM probe)
            WHERE url IN (SELECT unnest(?::VARCHAR[]))""",
            [sorted(named)],
        )
    }


def held(
    before: Site, stood: Sequence[Finding], picked: Collection[Finding], after: Site, now: Sequence[Finding], asked: set[str]
) -> Rechecked:  # fmt: skip
    """What became of the findings `picked` among all that `stood`, after the addresses `asked` were requested again.

    What stood already is never new, and what rests on an address that the earlier audit had not read is not either.
    """
    pairs = paired(stood, now, accepted=False)
    still: list[Finding] = []
    changed: list[tuple[Finding, Finding]] = []
    unknown: list[tuple[Finding, str]] = []
    for one, other in ((stood[a], now[b]) for a, b in pairs.both if stood[a] in picked):
        if said(one) != said(other):
            changed.append((one, other))
        elif why := rests_on_all(one.check):
            unknown.append((one, why))
        else:
            still.append(one)
    gone = [one for one in (stood[place] for place in pairs.gone) if one in picked]
    came = [one for one in (now[place] for place in pairs.new) if one.address in asked or _of_file(one)]
    because, unread_then = why_unknown(after, gone, str), _unread(before, asked)
    mended, new = [], []
    for one in gone:
        if why := because(one):
            unknown.append((one, why))
        else:
            mended.append(one)
    for one in came:
        if unread_then.isdisjoint(rests_on(one)):
            new.append(one)
        else:
            unknown.append((one, "not read in the earlier audit"))
    states = [change for change in Sides(before, after).states if change.url in asked]
    return Rechecked(mended, still, changed, new, unknown, len(asked) - len(Unreadable(after).why(asked)), states)


def _unread(site: Site, urls: Iterable[str]) -> set[str]:
    """Of some addresses the ones that an audit did not read though nothing blocked them: what is found there need not be new. What a
    block hid is new to its reader once the block is gone."""
    sql = (
        "SELECT origin || path AS url FROM fact WHERE NOT read AND barred = 0 AND url IN (SELECT unnest(?::VARCHAR[]))"
    )
    return {url for (url,) in site.rows(sql, [sorted(urls)])}


def _of_file(finding: Finding) -> bool:
    """Whether a finding is of a line of robots.txt, which is always read again."""
    return bool(finding.evidence) and finding.evidence[0].kind == "robots" and finding.url.endswith("/robots.txt")


@dataclass(frozen=True)
class Again:
    """The answer of `recheck`, where the responses are kept, and how many URLs were requested; `site` names the later audit."""

    found: Rechecked
    gathered: Gathered
    asked: int
    site: str
    origin: str


def as_before(site: Site) -> Gathering:
    """The options with which an audit was made, for asking again. Where it connected and which headers it sent is not among them: a
    snapshot may come from a stranger."""
    meta = site.meta
    return {
        "rate": rate_before(meta), "read_barred": bool(meta.get("read_barred")), "as_crawlers": bool(meta.get("as_crawlers")),
        "render": "all" if meta.get("rendered") else None,
    }  # fmt: skip


def rate_before(meta: Mapping[str, Any]) -> float:
    """The requests per second and host of an audit."""
    return float((meta.get("asked") or {}).get("rate", GatherOptions.rate))


def recheck(
    path: Path, keep: Path | None, intent: Intent, options: Callable[[Site], GatherOptions], urls: Sequence[str] = (),
    checks: Sequence[str] = (), causes: Sequence[str] = (),
) -> Again:  # fmt: skip
    """Request the pages of some findings again (of all, if none are named), into a new snapshot. `options` gives, for the audit that
    is asked about, how. Raises UsageError where there is nothing to request."""
    site, verdict = pipeline.examine(path, None, intent)
    named = [pipeline.page_address(text, site) for text in urls]
    stood = list(verdict.findings)
    picked = set(chosen(stood, checks, causes_named(verdict.causes, causes), named))
    asked = addresses(site, picked, named)
    picked = {f for f in stood if not f.accepted and (f in picked or f.url in asked)}
    crawlers = [c.token for c in site.crawlers]
    wanted, host, origin = options(site), split(site.base).host, site.base_origin
    site.close()
    if not picked and not named:
        raise UsageError(f"{path} has no such finding: there is nothing to fetch again")
    gathered = pipeline.ask_again(path, keep or pipeline.new_snapshot_path(host), asked, wanted)
    later, after = pipeline.examine(gathered.snapshot, crawlers, intent)
    before = pipeline.open_site(path, crawlers, intent)
    try:
        found = held(before, stood, picked, later, list(after.findings), asked)
    finally:
        before.close()
        later.close()
    return Again(found, gathered, len(asked), after.headline.subject, origin)
