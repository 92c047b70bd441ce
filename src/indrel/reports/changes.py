"""Two audits compared, as a report for a client: what was fixed, what is new, what moved, states over time, and
what became of the recrawl requests. One set of tables, written as a page, a spreadsheet, Markdown or CSV."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from indrel.ask.compare import Comparison
from indrel.ask.history import History
from indrel.base.files import write_together
from indrel.base.plain import field as csv_field
from indrel.checks import verdict_of
from indrel.checks.headline import spoken_of
from indrel.core.model import Cause, Evidence, Finding, Severity, moment, plural, verb
from indrel.decide.site import Site
from indrel.ledger import Request
from indrel.reports import csv_table
from indrel.reports.panels import Panel, history_panel
from indrel.reports.terminal import said_of, short

SHOWN = 200
"""Rows of a table in a page or in Markdown; a spreadsheet holds all."""


@dataclass(frozen=True)
class Table:
    """One table of the report, and what it says in a sentence. Cells are texts and numbers."""

    title: str
    says: str
    heads: tuple[str, ...]
    rows: Sequence[tuple[object, ...]]


@dataclass(frozen=True)
class Changes:
    """What a report of a period holds: `lead` for a reader who knows no term, `sentence` for one who does."""

    site: str
    lead: tuple[str, ...]
    sentence: str
    tables: list[Table]
    found: Comparison
    origin: str
    panel: Panel | None = field(default=None)


def changes(
    found: Comparison, before: Site, after: Site, history: History | None = None, requests: Iterable[Request] = ()
) -> Changes:
    """Everything that the report shows. `history` are the audits from the earlier to the later one, `requests` those of the ledger."""
    origin = after.base_origin
    since = moment(before.meta.get("started"))
    fixed = _by_cause(found.findings_gone, verdict_of(before).causes)
    new = _by_cause(found.findings_new, verdict_of(after).causes)
    left = {cause.id: cause.count for cause in verdict_of(after).causes}
    asked = _requests(requests, after)
    now_open = sum(row[-1] == "open" for row in asked)
    lead = [
        f"Since {since}: {plural(_grave(fixed), 'problem')} fixed or reduced, {_grave(new):,} new.",
        f"{plural(found.worse, 'wanted page')} can no longer be indexed."
        if found.worse
        else "No wanted page was lost.",
    ]
    lead += (
        [f"Recrawl requests: {len(asked):,}; {now_open:,} of these URLs {verb(now_open, 'is', 'are')} open now."]
        if asked
        else []
    )
    tables = [
        Table("Fixed", "Problems of the earlier audit of which findings are gone.",
              ("severity", "check", "problem", "fixed", "left", "such as"),
              [(c.severity.word, c.check, said_of(c), n, left.get(c.id, 0), short(url, origin)) for c, n, url in fixed]),
        Table("New problems", "Findings that the earlier audit did not have.",
              ("severity", "check", "problem", "new", "such as", "set by", "fix"),
              [(c.severity.word, c.check, said_of(c), n, short(url, origin), _place(c, origin), c.fix) for c, n, url in new]),
        *_of_pages(found, origin), *_of_files(found, origin),
        Table("Recrawl requests", "What was requested from engines, and the state of the URL now.",
              ("URL", "why", "requested on", "how", "state now"), [(short(str(url), origin), *rest) for url, *rest in asked]),
        Table("Over time", "Audits that say the same are one row.",
              ("from", "to", "audits", "wanted", "lost", "exposed", *(s.word for s in Severity), "open"),
              list(_over_time(history)) if history else []),
    ]  # fmt: skip
    panel = history_panel(history) if history and len(history.runs) > 1 else None
    subject = f"{spoken_of(after)}, since {since}"
    return Changes(
        subject, tuple(lead), f"{subject}: {found.sentence}.", [t for t in tables if t.rows], found, origin, panel
    )


def _of_pages(found: Comparison, origin: str) -> list[Table]:
    """What became of pages."""
    worse = _together((short(c.url, origin), c.crawler, c.before, c.after) for c in found.states if c.is_worse)
    better = _together((short(c.url, origin), c.crawler, c.before) for c in found.states if c.is_better)
    moved = [(short(url, origin), short(to, origin)) for url, to in found.moved.items()]
    edits = [
        (len(e.urls), e.before, e.after, e.section, e.wanted, _line(e.evidence, origin), _line(e.was, origin))
        for e in found.edits
    ]
    return [
        Table("Wanted pages that got worse", "They were open, and are not now.", ("URL", "crawlers", "before", "now"), worse),
        Table("Wanted pages that are open now", "They were not open before.", ("URL", "crawlers", "before"), better),
        Table("Moved", "They redirect to an open page.", ("URL", "now at"), moved),
        Table("What explains changed states", "One row for each edit.",
              ("URLs", "before", "now", "section", "wanted", "set by", "was set by"), edits),
    ]  # fmt: skip


def _together(rows: Iterable[tuple[str, ...]]) -> list[tuple[object, ...]]:
    """Rows of URL, crawler and states: crawlers of which the same is true in one row."""
    crawlers: dict[tuple[str, ...], list[str]] = {}
    for url, crawler, *states in rows:
        crawlers.setdefault((url, *states), []).append(crawler)
    return [(url, ", ".join(names), *states) for (url, *states), names in crawlers.items()]


def _of_files(found: Comparison, origin: str) -> list[Table]:
    """What changed in robots.txt, and what only one of the audits knows."""
    rules = [(str(r["change"]), _number(r["line"]), str(r["text"]), str(r["group"])) for r in found.rules]
    sides = (("only now", found.addresses_new), ("only before", found.addresses_gone))
    known = [(short(url, origin), side) for side, urls in sides for url in urls]
    unknown = [
        (short(str(u["url"]), origin), "this one" if u["when"] == "now" else "the earlier one", str(u["because"]))
        for u in found.unknown
    ]
    return [
        Table("robots.txt", "Rules that only one of the two files has.", ("change", "line", "rule", "group"), rules),
        Table("URLs that only one audit knows", "", ("URL", "known"), known),
        Table("Unknown", "They could not be read in one of the audits: neither better nor worse.", ("URL", "audit", "because"), unknown),
    ]  # fmt: skip


def _by_cause(findings: Iterable[Finding], causes: Iterable[Cause]) -> list[tuple[Cause, int, str]]:
    """The causes that some findings belong to, the most serious first, with how many are of each and one of their URLs."""
    known = {cause.id: cause for cause in causes if not cause.accepted}
    counts: Counter[str] = Counter()
    examples: dict[str, str] = {}
    for finding in findings:
        if finding.cause in known and not finding.consequence:
            counts[finding.cause] += 1
            examples.setdefault(finding.cause, finding.url)
    ordered = sorted(counts, key=lambda id: (-known[id].severity.value, -counts[id], id))
    return [(known[id], counts[id], examples[id]) for id in ordered]


def _grave(causes: Iterable[tuple[Cause, int, str]]) -> int:
    """How many are more than notes."""
    return sum(cause.severity is not Severity.NOTE for cause, _, _ in causes)


def _requests(requests: Iterable[Request], site: Site) -> list[tuple[object, ...]]:
    told = [one for one in requests if one.done]
    urls = [one.url for one in told]
    last = len(site.crawlers) - 1
    asked = f"SELECT origin || path AS url, {site.state_sql(last)} FROM fact WHERE url IN (SELECT unnest(?::VARCHAR[]))"
    states = dict(site.rows(asked, [urls])) if urls else {}
    return [(one.url, one.why, one.done, one.how or "", states.get(one.url, "unknown")) for one in told]


def _over_time(history: History) -> Iterable[tuple[object, ...]]:
    for first, last, count in history.steps:
        states = next(reversed(first.states.values()), {})
        told = first.headline
        yield (
            moment(first.started), moment(last.started), count, told.wanted, told.lost, told.exposed,
            *(first.findings[s.word] for s in Severity), states.get("open", 0),
        )  # fmt: skip


def _number(value: object) -> int:
    return value if isinstance(value, int) else 0


def _line(evidence: Evidence | None, origin: str) -> str:
    if evidence is None:
        return ""
    return f"{short(evidence.where, origin)}{f':{evidence.line}' if evidence.line else ''} {evidence.text}"


def _place(cause: Cause, origin: str) -> str:
    return _line(cause.findings[0].evidence[0], origin) if cause.findings and cause.findings[0].evidence else ""


def _page(told: Changes) -> bytes:
    from indrel.reports.page import rendered

    figures = {"history": told.panel} if told.panel else {}
    return rendered("changes.html.j2", told=told, figures=figures, shown=SHOWN)


def _markdown(told: Changes) -> bytes:
    from indrel.reports.markdown import prose, text

    lines = [f"# {text(told.sentence)}", ""]
    for table in told.tables:
        lines += [f"## {table.title}", "", *([table.says, ""] if table.says else [])]
        lines += ["| " + " | ".join(table.heads) + " |", "|---" * len(table.heads) + "|"]
        lines += [
            "| " + " | ".join(f"{v:,}" if isinstance(v, int) else prose(str(v)) for v in row) + " |"
            for row in table.rows[:SHOWN]
        ]
        if len(table.rows) > SHOWN:
            lines += ["", f"and {len(table.rows) - SHOWN:,} more."]
        lines.append("")
    return "\n".join(lines).encode("utf-8", "backslashreplace")


def _workbook(told: Changes) -> bytes:
    from indrel.reports.workbook import overview_book

    overview = [("summary", told.sentence), *((f"{t.title}", len(t.rows)) for t in told.tables)]
    return overview_book(overview, [(t.title[:31], t.heads, t.rows) for t in told.tables])


_CSV = ("what", "url", "crawler", "before", "now", "severity", "check", "message", "where", "line", "text")


def _csv(told: Changes) -> Iterable[bytes]:
    """One row for each URL and change."""
    found = told.found
    rows: list[tuple[object, ...]] = []
    for what, findings in (("fixed", found.findings_gone), ("new", found.findings_new)):
        for f in findings:
            e = f.evidence[0] if f.evidence else Evidence("", "", None, "")
            rows.append(
                (
                    what,
                    f.url,
                    " ".join(f.crawlers),
                    "",
                    "",
                    f.severity.word,
                    f.check,
                    f.message,
                    e.where,
                    e.line or "",
                    e.text,
                )
            )
    for c in found.states:
        what = "moved" if c.moved_to else "worse" if c.is_worse else "better" if c.is_better else "changed"
        rows.append((what, c.url, c.crawler, c.before, c.after, "", "", c.moved_to or "", "", "", ""))
    rows += [("new URL", url, *[""] * 9) for url in found.addresses_new]
    rows += [("gone URL", url, *[""] * 9) for url in found.addresses_gone]
    rows += [("unknown", str(u["url"]), "", "", "", "", "", str(u["because"]), "", "", "") for u in found.unknown]
    return csv_table.pieces(_CSV, [[[csv_field(str(v)) for v in row] for row in rows]])


WRITERS: dict[str, Callable[[Changes], bytes | Iterable[bytes]]] = {
    ".html": _page, ".xlsx": _workbook, ".md": _markdown, ".csv": _csv,
}  # fmt: skip


def write(files: Sequence[Path], told: Changes) -> None:
    """Write the report in each form, all made before the first is put in place."""
    write_together((file, WRITERS[file.suffix.lower()](told)) for file in files)
