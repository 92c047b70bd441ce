"""Findings and causes as rows of the snapshot: judged once, read by every later question."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from dataclasses import asdict
from itertools import accumulate
from typing import Any

from indrel.checks.causes import shortened
from indrel.checks.findings import MOST_HELD, Rows, as_rows, read
from indrel.core.model import Accepted, Cause, CheckClass, Finding, Headline, Severity, Skipped, Verdict
from indrel.decide.site import Site

TABLES = ("finding", "shown")


def verdict_of(site: Site) -> Verdict:
    """The verdict of a site: as is kept, or judged now and then kept."""
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
    # the largest thing in memory, and few questions after this one read it
    site.kept.pop("indrel.decide.graph.link_graph", None)
    key = {
        "key": site.key, "folders": sorted(site.sections.folders), "states": verdict.states, "folded_by": verdict.folded_by,
        "addresses": verdict.addresses,
        "skipped": [[s.check, s.because] for s in verdict.skipped], "headline": asdict(verdict.headline),
    }  # fmt: skip
    staged = {name: name for name in ("fact", "place", "reason", "scope")}
    rows = {"cause": _cause_rows(verdict)}
    if isinstance(verdict.findings, Rows):
        staged |= {"finding": verdict.findings.finding, "shown": verdict.findings.shown}
    else:
        rows |= as_rows((*verdict.findings, *(f for cause in verdict.consequences for f in cause.findings)))
    if site.key is None or verdict.crashed or not site.snapshot.keep(key, staged, rows):
        key["crashed"] = [[s.check, s.because] for s in verdict.crashed]
        site.snapshot.hold({name: staged[name] for name in TABLES if name in staged}, rows)
    site.decided = key


def _cause_rows(verdict: Verdict) -> list[tuple[Any, ...]]:
    return [
        (
            n, c.id, c.check, c.cls.value, c.severity.value, c.section, json.dumps(c.sections), c.count, c.summary, c.mend, c.share,
            list(c.others), c.relation, c.follows or None, c.consequence, c.consequences, c.now, c.instead, c.proof,
        )
        for n, c in enumerate((*verdict.causes, *verdict.consequences))
    ]  # fmt: skip


def findings_of(site: Site, url: str) -> list[Finding]:
    """The findings that speak of one address."""
    if not site.decided:
        verdict_of(site)
    written = "SELECT e.loc FROM entry e JOIN address a ON a.id = e.address WHERE a.origin || a.path = $url"
    return read(site, *TABLES, f"url = $url OR list_contains(also, $url) OR url IN ({written})", {"url": url})


def _read(site: Site, decided: dict[str, Any]) -> Verdict:
    from indrel.checks.run import notes_of, source_of

    count, consequences = site.rows("SELECT count(*), count(*) FILTER (consequence) FROM finding")[0]
    findings: Sequence[Finding] = Rows(site, *TABLES, count) if count > MOST_HELD else tuple(read(site, *TABLES))
    tally = site.rows(
        "SELECT severity, count(*) FROM finding WHERE accepted IS NULL AND NOT consequence GROUP BY severity"
    )
    causes = list(_causes(site, findings))
    return Verdict(
        source=source_of(site), complete=site.complete, incomplete_because=site.meta.get("incomplete_because"),
        crawlers=tuple(c.token for c in site.crawlers), addresses=decided["addresses"],
        states=decided["states"], folded_by=decided["folded_by"],
        causes=tuple(c for c in causes if not c.consequence), consequences=tuple(c for c in causes if c.consequence),
        findings=findings[: count - consequences], tally={Severity(s): n for s, n in tally},
        skipped=tuple(Skipped(*pair) for pair in decided["skipped"]),
        crashed=tuple(Skipped(*pair) for pair in decided.get("crashed", ())),
        headline=Headline(**decided["headline"]), notes=notes_of(site),
    )  # fmt: skip


def _causes(site: Site, findings: Sequence[Finding]) -> Iterable[Cause]:
    rows = site.rows(
        """SELECT id, name, check_id, cls, severity, section, sections, count, summary, mend, share, others,
        relation, follows, consequence, consequences, now, instead, proof FROM cause ORDER BY id"""
    )
    begins = [0, *accumulate(row[7] for row in rows)]
    accepted = {
        at: Accepted(because, until)
        for at, because, until in site.rows(
            "SELECT id, accepted, until FROM finding WHERE accepted IS NOT NULL AND id IN (SELECT unnest(?::INTEGER[]))",
            [begins],
        )
    }
    shorts = shortened(row[1] for row in rows)
    for begin, (
        number,
        name,
        check,
        cls,
        severity,
        section,
        sections,
        count,
        summary,
        mend,
        share,
        others,
        *rest,
    ) in zip(begins, rows, strict=False):
        relation, follows, consequence, explains, now, instead, proof = rest
        yield Cause(
            name, check, CheckClass(cls), Severity(severity), section, count, summary, mend, findings[begin : begin + count],
            accepted.get(begin), share, tuple(others), json.loads(sections), number + 1, shorts[name],
            relation, follows or "", consequence, explains, now, instead, proof,
        )  # fmt: skip
