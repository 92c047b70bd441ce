"""Draft tickets: one Markdown file per cause, for a developer who does not know search engines."""

from __future__ import annotations

import json
import re
import shlex
from collections.abc import Iterable
from typing import NamedTuple

from indrel.base.plain import field, safe
from indrel.base.readable import readable
from indrel.checks import checks
from indrel.core.model import Cause, Evidence, Severity, Verdict, plural, verb
from indrel.decide.site import Site
from indrel.reports.csv_table import pieces
from indrel.reports.markdown import code, prose, text
from indrel.reports.terminal import said_of, short

MOST_URLS = 30


class Ticket(NamedTuple):
    """One edit, described for a developer. `id` is the cause's and stays the same in every audit that has it; `text` is Markdown."""

    id: str
    name: str
    title: str
    text: str
    labels: tuple[str, ...]
    urls: tuple[str, ...]

    def as_json(self) -> dict[str, object]:
        return {**self._asdict(), "labels": list(self.labels), "urls": list(self.urls)}


def draft(verdict: Verdict, site: Site, least: Severity = Severity.ASK) -> list[Ticket]:
    """Tickets for the causes from a severity on that are not accepted, the most harmful first."""
    return [
        Ticket(
            c.id, f"{c.rank:04}-{c.check}.md", safe(said_of(c, sections=False).removesuffix(".").replace("`", "")),
            _ticket(c, site, verdict.joined(c)), (c.severity.word, c.cls.value, c.check), tuple(f.url for f in c.findings),
        )
        for c in verdict.causes
        if c.severity.value >= least.value and not c.accepted
    ]  # fmt: skip


def as_csv(tickets: Iterable[Ticket]) -> bytes:
    """Tickets as a table that trackers import: one row each."""
    rows = [
        tuple(field_in_lines(v) for v in (t.id, t.title, t.text, " ".join(t.labels), "\n".join(t.urls)))
        for t in tickets
    ]
    return b"".join(pieces(("id", "title", "text", "labels", "urls"), [rows]))


def field_in_lines(value: str) -> str:
    """A cell of several lines: none begins as a formula does, and nothing in them drives a terminal."""
    first, *rest = value.split("\n")
    return "\n".join([field(first), *map(safe, rest)])


def as_json(tickets: Iterable[Ticket]) -> bytes:
    return (json.dumps([t.as_json() for t in tickets], ensure_ascii=False, indent=1) + "\n").encode(
        "utf-8", "backslashreplace"
    )


def _ticket(cause: Cause, site: Site, joined: list[Cause]) -> str:
    about, first = checks()[cause.check], cause.findings[0]
    lines = [
        f"# {prose(said_of(cause, sections=False).removesuffix('.'))}", "",
        f"{plural(cause.count, 'URL')} in {code(cause.section or '/')}. "
        f"Severity {cause.severity.word}, check {cause.check}, cause {code(cause.short)}.", "",
        "## Why it matters", "", prose(about.why), "",
        "## Where it is set", "",
        *(_place(e, site.base_origin) for e in first.evidence[:4]), "",
    ]  # fmt: skip
    for one in joined:
        lines += [f"The same line also causes: {prose(said_of(one, sections=False))} ({one.check})", ""]
    lines += ["## Fix", "", prose(cause.mend), ""]
    if cause.proof:
        lines += [f"Tried on the pages of this audit: {prose(cause.proof)}.", ""]
    if cause.now:
        lines += ["Now:", "", *_block(cause.now), "", "Instead:", "", *_block(cause.instead), ""]
    lines += ["## URLs", ""]
    lines += [f"- {code(readable(f.url))}" for f in cause.findings[:MOST_URLS]]
    if cause.count > MOST_URLS:
        lines.append(f"- and {cause.count - MOST_URLS:,} more")
    if cause.share is not None and cause.others:
        others = ", ".join(code(short(u, site.base_origin)) for u in cause.others)
        do = verb(len(cause.others), "does", "do")
        lines += [
            "",
            f"This is {cause.share:.0%} of the pages read in this section; {others} {do} not have the problem.",
        ]
    lines += ["", "## How to check", "", *_block("\n".join(_commands(cause, site))), ""]
    lines += [f"Source: {text(about.rests_on)}", ""]
    return "\n".join(lines)


def _place(evidence: Evidence, origin: str) -> str:
    where = short(evidence.where, origin) + (f", line {evidence.line}" if evidence.line else "")
    return f"- {code(where)}: {code(evidence.text)}"


def _block(value: str) -> list[str]:
    fence = "`" * max(3, max((len(run) for run in re.findall("`+", value)), default=0) + 1)
    return [fence, *map(safe, value.split("\n")), fence]


def _commands(cause: Cause, site: Site) -> Iterable[str]:
    """Commands that show whether it is fixed, run in the folder of the snapshot."""
    first, snapshot = cause.findings[0], site.snapshot.path
    if site.traits.can_ask_again:
        yield "# fetches only these URLs again; the exit code is 0 once all of them are fixed"
        yield f"indrel recheck {_quoted(str(snapshot))} --cause {cause.short}"
    else:
        yield "# reads the build again and shows what remains"
        yield f"indrel audit {_quoted(str(site.meta['source']['location']))} --base {_quoted(site.base)}"
    if first.url.endswith("/robots.txt") and "://" in first.url:
        yield f"indrel robots check {_quoted(first.url)}"
    elif first.url.startswith(("http://", "https://")):
        yield f"indrel explain {_quoted(first.url)}"
    if draft := checks()[cause.check].draft:
        yield f"# a proposal, tried on every known URL\nindrel draft {draft} {_quoted(str(snapshot))}"
    yield f"indrel checks {cause.check}"


def _quoted(word: str) -> str:
    """A word for a shell, whatever it holds."""
    return shlex.quote(safe(word))
