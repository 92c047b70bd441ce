"""The findings as SARIF 2.1.0 (OASIS): for folders with real file paths and lines, so that code hosts show them in place."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from urllib.parse import quote

from indrel.base.plain import safe
from indrel.base.version import __version__
from indrel.checks import checks
from indrel.core.model import Evidence, Finding, Severity, Verdict
from indrel.decide.site import Site
from indrel.reports.json_doc import pieces

LEVELS = {Severity.STOP: "error", Severity.FIX: "error", Severity.ASK: "warning", Severity.NOTE: "note"}
SOURCES = "%SRCROOT%"
"""Base of paths from the root of the sources: what reads the file knows where that is."""

FOLDER = "FOLDER"
SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"


def render(verdict: Verdict, site: Site) -> Iterator[bytes]:
    used = sorted({c.check for c in verdict.causes})
    source = verdict.source
    folder = Path(str(source["location"])) if source.get("kind") == "folder" else None
    rules = [
        {
            "id": one.id,
            "shortDescription": {"text": one.summary},
            "fullDescription": {"text": one.why},
            "help": {"text": f"{one.mend}\n{one.rests_on}"},
            "defaultConfiguration": {"level": LEVELS[one.severity]},
            "properties": {"class": one.cls.value, "severity": one.severity.word},
        }
        for one in (checks()[check] for check in used)
    ]
    run: dict[str, Any] = {
        "tool": {"driver": {"name": "Indrel", "version": __version__, "rules": rules}},
        "columnKind": "unicodeCodePoints",
        "invocations": [{"executionSuccessful": not verdict.crashed and verdict.complete}],
        "results": [],
    }
    if folder and folder.is_absolute():
        run["originalUriBaseIds"] = {FOLDER: {"uri": folder.as_uri() + "/"}}
    document = {"$schema": SCHEMA, "version": "2.1.0", "runs": [run]}
    return pieces(document, "results", (_result(f, used, folder, verdict) for f in verdict.findings))


def _result(finding: Finding, used: list[str], folder: Path | None, verdict: Verdict) -> dict[str, Any]:
    places = [_place(e, folder, verdict) for e in _to_mend(finding)[:10]]
    result: dict[str, Any] = {
        "ruleId": finding.check,
        "ruleIndex": used.index(finding.check),
        "level": LEVELS[finding.severity],
        "message": {"text": _words(f"{finding.url}: {finding.message}")},
        "locations": places[:1],
        "partialFingerprints": {"subject/v1": f"{finding.check} {finding.url}", "cause/v1": finding.cause},
        "properties": {"url": finding.url, "crawlers": list(finding.crawlers), "cause": finding.cause},
    }
    if places[1:]:
        result["relatedLocations"] = [{"id": n, **place} for n, place in enumerate(places[1:], 1)]
    if verdict.baseline:
        result["baselineState"] = "new" if verdict.is_new(finding) else "unchanged"
    if finding.accepted:
        result["suppressions"] = [{"kind": "external", "justification": finding.accepted.because or "accepted"}]
    return result


def _words(text: str) -> str:
    """A site's text in a message: nothing that drives a terminal, and no link (SARIF 2.1.0 section 3.11.6)."""
    shown = safe(text)
    return re.sub(r"([\\\[\]])", r"\\\1", shown) if "](" in shown else shown


def _to_mend(finding: Finding) -> list[Evidence]:
    """The evidence, first where a person can fix it: a line of a file, never the dead address that is linked."""
    shown = list(finding.evidence)
    best = next((e for e in shown if e.line), None)
    if shown and best is not None and not shown[0].line and shown[0].kind in ("status", "text", "header"):
        shown.remove(best)
        shown.insert(0, best)
    return shown


def _place(evidence: Evidence, folder: Path | None, verdict: Verdict) -> dict[str, Any]:
    """Where a piece of evidence stands: files by their path from the root of the sources."""
    where: dict[str, Any] = {"uri": evidence.where}
    if "://" not in evidence.where and not evidence.where.startswith("/"):
        own = folder is not None and evidence.kind != "intent"
        if own:
            where["uri"] = verdict.file_of(evidence.where)
        where["uriBaseId"] = FOLDER if own and folder is not None and folder.is_absolute() else SOURCES
    where["uri"] = quote(where["uri"], safe=":/?#[]@!$&'()*+,;=%~-._")
    physical: dict[str, Any] = {"artifactLocation": where}
    if evidence.line:
        physical["region"] = {"startLine": evidence.line, "snippet": {"text": evidence.text}}
    return {"physicalLocation": physical, "message": {"text": _words(evidence.text)}}
