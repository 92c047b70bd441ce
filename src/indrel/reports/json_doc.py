"""The verdict as JSON, schema 1: keys are only ever added."""

from __future__ import annotations

import json
from typing import Any

from indrel import __version__
from indrel.core.model import Severity, Verdict
from indrel.decide.flow import link_flow
from indrel.decide.matrix import site_matrix
from indrel.decide.site import Site
from indrel.decide.sitemaps import sitemap_states, unlisted

SCHEMA = 1


def document(verdict: Verdict, site: Site) -> dict[str, Any]:
    """The whole document as plain values."""
    doc: dict[str, Any] = {
        "indrel": __version__,
        "schema": SCHEMA,
        "source": verdict.source,
        "complete": verdict.complete,
        "incomplete_because": verdict.incomplete_because,
        "verdict": verdict.headline.as_json(),
        "crawlers": list(verdict.crawlers),
        "counts": {
            "addresses": verdict.addresses,
            "states": verdict.states,
            "findings": {s.word: verdict.count(s) for s in Severity},
        },
        "skipped_checks": [{"check": s.check, "because": s.because} for s in verdict.skipped],
        "causes": [c.as_json() for c in verdict.causes],
        "findings": [f.as_json() for f in verdict.findings],
    }
    doc["crawler_matrix"] = [row.as_json() for row in site_matrix(site)]
    flow = link_flow(site)
    doc["sitemaps"] = [one.as_json() for one in sitemap_states(site)]
    doc["wanted_unlisted"] = unlisted(site)
    doc["bounded_patterns"] = [{"pattern": p, "left": n} for p, n in (site.meta.get("bounded") or {}).items()]
    doc["link_flow"] = flow.as_json() if flow else None
    if verdict.baseline:
        doc["baseline"] = {
            "snapshot": verdict.baseline, "new": len(verdict.new), "lost": [one.as_json() for one in verdict.lost],
        }  # fmt: skip
        for finding, row in zip(verdict.findings, doc["findings"], strict=True):
            row["new"] = verdict.is_new(finding)
    if verdict.crashed:
        doc["crashed_checks"] = [{"check": s.check, "because": s.because} for s in verdict.crashed]
    return doc


def render(verdict: Verdict, site: Site) -> bytes:
    return (json.dumps(document(verdict, site), ensure_ascii=False, indent=1) + "\n").encode(
        "utf-8", "backslashreplace"
    )
