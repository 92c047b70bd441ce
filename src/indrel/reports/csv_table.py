"""Findings as CSV (RFC 4180), one a row; texts that a spreadsheet would run as formulas are disarmed."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator, Sequence
from itertools import chain, islice

from indrel.base.plain import field
from indrel.core.model import Finding, Verdict
from indrel.decide.site import Site

COLUMNS = (
    "severity", "class", "check", "cause", "section", "url", "crawlers", "message", "evidence_kind", "evidence_where",
    "evidence_line", "evidence_text", "more_evidence", "also",
)  # fmt: skip


AT_ONCE = 1_000
"""Rows that are handed on together."""


def row(finding: Finding) -> list[str]:
    first = finding.evidence[0] if finding.evidence else None
    more = " | ".join(f"{e.where}:{e.line or ''} {e.text}" for e in finding.evidence[1:])
    values = [
        finding.severity.word, finding.cls.value, finding.check, finding.cause, finding.section, finding.url,
        " ".join(finding.crawlers), finding.message, first.kind if first else "", first.where if first else "",
        str(first.line or "") if first else "", first.text if first else "", more, " ".join(finding.also),
    ]  # fmt: skip
    return [field(v) for v in values]


def render(verdict: Verdict, site: Site) -> Iterator[bytes]:
    rows = (row(finding) for finding in verdict.findings)
    return pieces(COLUMNS, iter(lambda: list(islice(rows, AT_ONCE)), []))


def pieces(heads: Iterable[str], batches: Iterable[Iterable[Sequence[object]]]) -> Iterator[bytes]:
    """A table as is written: the heads, then its rows, a batch at a time."""
    out = io.StringIO(newline="")
    writer = csv.writer(out, lineterminator="\r\n")
    for rows in chain([[tuple(heads)]], batches):
        writer.writerows(rows)
        yield out.getvalue().encode("utf-8", "backslashreplace")
        out.seek(0)
        out.truncate()
