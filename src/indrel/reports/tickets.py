"""Draft tickets: one Markdown file a cause, for a developer who does not know search engines."""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterable

from indrel.base.plain import safe
from indrel.checks import checks
from indrel.core.model import Cause, Evidence, Severity, Verdict, plural
from indrel.decide.site import Site
from indrel.reports.markdown import code, prose, text
from indrel.reports.terminal import short

MOST_URLS = 30


def draft(verdict: Verdict, site: Site, least: Severity = Severity.ASK) -> dict[str, bytes]:
    """Tickets by file name, for the causes from a severity on that are not accepted."""
    return {
        f"{c.rank:04}-{c.check}.md": _ticket(c, site).encode("utf-8", "backslashreplace")
        for c in verdict.causes
        if c.severity.value >= least.value and not c.accepted
    }


def _ticket(cause: Cause, site: Site) -> str:
    about, first = checks()[cause.check], cause.findings[0]
    what = first.message if cause.count == 1 else cause.summary
    lines = [
        f"# {cause.check}: {prose(what.rstrip('.'))}", "",
        f"{plural(cause.count, 'address', 'addresses')} in {code(cause.section or '/')}, "
        f"severity {cause.severity.word}, cause {code(cause.short)}.", "",
        "## What is wrong", "", prose(about.why), "",
        "## Where it comes from", "",
        *(_place(e, site.base_origin) for e in first.evidence[:4]), "",
        "## What to do", "", prose(cause.mend), "",
    ]  # fmt: skip
    change = about.change.of(first) if about.change else None
    if change:
        lines += ["Now:", "", *_block(change[0]), "", "Instead:", "", *_block(change[1]), ""]
    lines += ["## Which addresses", ""]
    lines += [f"- {code(f.url)}" for f in cause.findings[:MOST_URLS]]
    if cause.count > MOST_URLS:
        lines.append(f"- and {cause.count - MOST_URLS:,} more")
    if cause.share is not None and cause.others:
        others = ", ".join(code(short(u, site.base_origin)) for u in cause.others)
        verb = "do" if len(cause.others) > 1 else "does"
        lines += ["", f"That is {cause.share:.0%} of the pages read in this section; {others} {verb} not have it."]
    lines += ["", "## How to check", "", *_block("\n".join(_commands(cause, site))), ""]
    lines += [f"Rests on: {text(about.rests_on)}", ""]
    return "\n".join(lines)


def _place(evidence: Evidence, origin: str) -> str:
    where = short(evidence.where, origin) + (f", line {evidence.line}" if evidence.line else "")
    return f"- {code(where)}: {code(evidence.text)}"


def _block(value: str) -> list[str]:
    fence = "`" * max(3, max((len(run) for run in re.findall("`+", value)), default=0) + 1)
    return [fence, *map(safe, value.split("\n")), fence]


def _commands(cause: Cause, site: Site) -> Iterable[str]:
    """What shows that it is mended, run beside the snapshot."""
    first, snapshot = cause.findings[0], site.snapshot.path
    if site.traits.can_ask_again:
        yield "# asks again just for these; ends with 0 when all is mended"
        yield f"indrel recheck {_quoted(str(snapshot))} --cause {cause.short}"
    else:
        yield "# reads the build again, and shows what is left"
        yield f"indrel audit {_quoted(str(site.meta['source']['location']))} --base {_quoted(site.base)}"
    if first.url.endswith("/robots.txt") and "://" in first.url:
        yield f"indrel robots check {_quoted(first.url)}"
    elif first.url.startswith(("http://", "https://")):
        yield f"indrel explain {_quoted(first.url)}"
    if draft := checks()[cause.check].draft:
        yield f"# a proposal, tried on every known address\nindrel draft {draft} {_quoted(str(snapshot))}"
    yield f"indrel checks {cause.check}"


def _quoted(word: str) -> str:
    """A word for a shell, whatever it holds."""
    return shlex.quote(safe(word))
