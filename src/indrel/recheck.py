"""Asking again for the addresses of findings: what is mended, what is still there, what has changed."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from indrel.core.model import Finding
from indrel.decide.site import Site

MOST_BESIDE = 200
"""Addresses beside one finding that are asked for again."""


@dataclass
class Rechecked:
    """Findings by what became of them; `changed` are pairs of what was said and what is said now."""

    mended: list[Finding] = field(default_factory=list)
    still: list[Finding] = field(default_factory=list)
    changed: list[tuple[Finding, Finding]] = field(default_factory=list)
    new: list[Finding] = field(default_factory=list)

    def as_json(self) -> dict[str, object]:
        return {
            "mended": [f.as_json() for f in self.mended], "still": [f.as_json() for f in self.still],
            "changed": [{"before": a.as_json(), "after": b.as_json()} for a, b in self.changed],
            "new": [f.as_json() for f in self.new],
        }  # fmt: skip


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
        and (not urls or f.url in urls or bool(set(urls) & set(f.also)))
    ]


def addresses(site: Site, findings: Iterable[Finding], urls: Iterable[str] = ()) -> set[str]:
    """The addresses of the site that findings depend on: subjects, those beside them, pages that are evidence."""
    named = set(urls)
    for finding in findings:
        named.add(finding.url)
        named.update(finding.also[:MOST_BESIDE])
        named.update(e.where for e in finding.evidence if "://" in e.where)
    return {
        url
        for (url,) in site.rows(
            "SELECT origin || path AS url FROM address WHERE site AND url IN (SELECT unnest(?::VARCHAR[]))",
            [sorted(named)],
        )
    }


def held(before: Sequence[Finding], after: Iterable[Finding], asked: set[str]) -> Rechecked:
    """What became of findings; new ones count where their subject was asked for again."""
    found = Rechecked()
    now: dict[tuple[str, str], list[Finding]] = {}
    for finding in after:
        now.setdefault((finding.check, finding.url), []).append(finding)
    for finding in before:
        same = now.get((finding.check, finding.url), [])
        exact = next((f for f in same if _said(f) == _said(finding)), None)
        if exact is not None:
            same.remove(exact)
            found.still.append(finding)
        elif same:
            found.changed.append((finding, same.pop(0)))
        else:
            found.mended.append(finding)
    told = {(f.check, f.url) for f in before}
    found.new = [f for rest in now.values() for f in rest if f.url in asked and (f.check, f.url) not in told]
    return found


def _said(finding: Finding) -> tuple[object, ...]:
    return finding.crawlers, finding.evidence[0].text if finding.evidence else "", finding.severity
