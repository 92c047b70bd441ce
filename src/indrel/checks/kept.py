"""Findings and causes as rows of the snapshot: judged once, read by every later question."""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import asdict
from typing import Any

from indrel.core.model import Accepted, Cause, CheckClass, Evidence, Finding, Headline, Severity, Skipped, Verdict
from indrel.decide.site import Site

_FINDING = "id, cause, check_id, cls, severity, url, crawlers, message, also, section, accepted, until"


def verdict_of(site: Site) -> Verdict:
    """The verdict of a site: as it is kept, or judged now and then kept."""
    if site.decided:
        return _read(site, site.decided)
    from indrel.checks.run import judge

    verdict = judge(site)
    keep(site, verdict)
    return verdict


def keep(site: Site, verdict: Verdict) -> None:
    """Hold what was decided and found as rows: in the snapshot if that is possible, else for this process.

    A run in which a check crashed is not kept: the next one may be with another Indrel.
    """
    if site.decided:
        return
    from indrel.decide.place import placed

    placed(site)
    site.kept.pop("graph", None)  # the largest thing in memory, and few questions after this one read it
    key = {
        "key": site.key, "folders": sorted(site.sections.folders), "states": verdict.states, "addresses": verdict.addresses,
        "skipped": [[s.check, s.because] for s in verdict.skipped], "headline": asdict(verdict.headline),
    }  # fmt: skip
    rows = _rows(verdict)
    if site.key is None or verdict.crashed or not site.snapshot.keep(key, ("fact", "place", "reason", "scope"), rows):
        key["crashed"] = [[s.check, s.because] for s in verdict.crashed]
        site.snapshot.hold(rows)
    site.decided = key


def _rows(verdict: Verdict) -> dict[str, list[tuple[Any, ...]]]:
    """Causes, findings and their evidence as rows of the tables of these names."""
    numbers = {c.id: n for n, c in enumerate(verdict.causes)}
    causes = [
        (
            n, c.check, c.cls.value, c.severity.value, c.section, json.dumps(c.sections), c.count, c.summary, c.mend, c.share,
            list(c.others),
        )
        for n, c in enumerate(verdict.causes)
    ]  # fmt: skip
    findings = [
        (
            n, numbers[f.cause], f.check, f.cls.value, f.severity.value, f.url, list(f.crawlers), f.message, list(f.also),
            f.section, f.accepted.because if f.accepted else None, f.accepted.until if f.accepted else None,
        )
        for n, f in enumerate(verdict.findings)
    ]  # fmt: skip
    shown = [
        (n, rank, e.kind, e.where, e.line, e.text)
        for n, f in enumerate(verdict.findings)
        for rank, e in enumerate(f.evidence)
    ]
    return {"cause": causes, "finding": findings, "shown": shown}


def findings_of(site: Site, url: str) -> list[Finding]:
    """The findings that speak of one address."""
    if not site.decided:
        verdict_of(site)
    return _findings(site, "url = $url OR list_contains(also, $url)", {"url": url})


def _findings(site: Site, condition: str = "true", parameters: dict[str, Any] | None = None) -> list[Finding]:
    rows = site.con.execute(
        f"SELECT {_FINDING} FROM finding WHERE {condition} ORDER BY id", parameters or {}
    ).fetchall()
    shown: dict[int, list[Evidence]] = {}
    chosen = "" if condition == "true" else "WHERE finding IN (SELECT unnest(?::INTEGER[]))"
    for number, kind, file, line, text in site.rows(
        f"SELECT finding, kind, file, line, text FROM shown {chosen} ORDER BY finding, rank",
        [[row[0] for row in rows]] if chosen else None,
    ):
        shown.setdefault(number, []).append(Evidence(kind, file, line, text))
    return [
        Finding(
            check=check, cls=CheckClass(cls), severity=Severity(severity), url=url, crawlers=tuple(crawlers), message=message,
            evidence=tuple(shown.get(number, ())), also=tuple(also), section=section, cause=f"c{cause + 1}",
            accepted=Accepted(accepted, until) if accepted is not None else None,
        )
        for number, cause, check, cls, severity, url, crawlers, message, also, section, accepted, until in rows
    ]  # fmt: skip


def _read(site: Site, decided: dict[str, Any]) -> Verdict:
    from indrel.checks.run import notes_of, source_of

    findings = _findings(site)
    causes = list(_causes(site, findings))
    return Verdict(
        source=source_of(site), complete=site.complete, incomplete_because=site.meta.get("incomplete_because"),
        crawlers=tuple(c.token for c in site.crawlers), addresses=decided["addresses"], states=decided["states"],
        causes=tuple(causes), findings=tuple(findings), skipped=tuple(Skipped(*pair) for pair in decided["skipped"]),
        crashed=tuple(Skipped(*pair) for pair in decided.get("crashed", ())),
        headline=Headline(**decided["headline"]), notes=notes_of(site),
    )  # fmt: skip


def _causes(site: Site, findings: list[Finding]) -> Iterable[Cause]:
    members: dict[str, list[Finding]] = {}
    for finding in findings:
        members.setdefault(finding.cause, []).append(finding)
    for number, check, cls, severity, section, sections, count, summary, mend, share, others in site.rows(
        "SELECT id, check_id, cls, severity, section, sections, count, summary, mend, share, others FROM cause ORDER BY id"
    ):
        name = f"c{number + 1}"
        yield Cause(
            name, check, CheckClass(cls), Severity(severity), section, count, summary, mend, tuple(members.get(name, ())),
            share, tuple(others), json.loads(sections),
        )  # fmt: skip
