"""The verdict as JSON, schema 1: keys are only ever added."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from typing import Any

from indrel.base.version import __version__
from indrel.core.model import Severity, Verdict
from indrel.decide.flow import link_flow
from indrel.decide.matrix import site_matrix
from indrel.decide.site import Site
from indrel.decide.sitemaps import left_out, sitemap_states, unlisted

SCHEMA = 1


def document(verdict: Verdict, site: Site) -> dict[str, Any]:
    """The document as plain values, but for its findings."""
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
            "folded_by": verdict.folded_by,
            "findings": {s.word: verdict.count(s) for s in Severity},
            "consequences": sum(c.count for c in verdict.consequences),
        },
        "skipped_checks": [{"check": s.check, "because": s.because} for s in verdict.skipped],
        "causes": [c.as_json() for c in (*verdict.causes, *verdict.consequences)],
        "findings": [],
    }
    doc["crawler_matrix"] = [row.as_json() for row in site_matrix(site)]
    flow = link_flow(site)
    doc["sitemaps"] = [one.as_json() for one in sitemap_states(site)]
    doc["wanted_unlisted"] = unlisted(site)
    doc["left_out_of_sitemaps"] = [{"section": section, "pages": pages} for section, pages in left_out(site)]
    doc["bounded_patterns"] = [{"pattern": p, "left": n} for p, n in (site.meta.get("bounded") or {}).items()]
    doc["bounded_copies"] = [{"url": url, "left": n} for url, n in (site.meta.get("copies") or {}).items()]
    doc["notes"] = list(verdict.notes)
    doc["link_flow"] = flow.as_json() if flow else None
    if verdict.baseline:
        doc["baseline"] = {
            "snapshot": verdict.baseline, "new": len(verdict.new), "lost": [one.as_json() for one in verdict.lost],
        }  # fmt: skip
    if verdict.crashed:
        doc["crashed_checks"] = [{"check": s.check, "because": s.because} for s in verdict.crashed]
    return doc


def render(verdict: Verdict, site: Site) -> Iterator[bytes]:
    """The document in pieces: one finding per line, made as it is written."""
    return pieces(document(verdict, site), "findings", _findings(verdict))


def _findings(verdict: Verdict) -> Iterator[dict[str, object]]:
    for finding in verdict.findings:
        row = finding.as_json()
        if verdict.baseline:
            row["new"] = verdict.is_new(finding)
        yield row
    for cause in verdict.consequences:
        yield from (f.as_json() for f in cause.findings)


def pieces(document: object, name: str, values: Iterable[object]) -> Iterator[bytes]:
    """A JSON document whose one empty list of a name is filled with values, each in a line of its own."""
    before, after = json.dumps(document, ensure_ascii=False, indent=1).split(f'"{name}": []')
    yield f'{before}"{name}": ['.encode("utf-8", "backslashreplace")
    encode = json.JSONEncoder(ensure_ascii=False).encode
    for number, value in enumerate(values):
        yield f"{',' if number else ''}\n  {encode(value)}".encode("utf-8", "backslashreplace")
    yield f"]{after}\n".encode("utf-8", "backslashreplace")
