"""Draft tickets: one Markdown file a cause, for a developer who does not know search engines."""

from __future__ import annotations

import re
from collections.abc import Iterable

from indrel.checks import checks
from indrel.core.model import Cause, Evidence, Severity, Verdict, plural
from indrel.decide.site import Site
from indrel.reports.markdown import code, prose, text
from indrel.reports.terminal import short

MOST_URLS = 30
NOINDEX_CHECKS = ("noindex-wanted", "site-noindex")
"""Where it is certain that the noindex is not meant."""


def draft(verdict: Verdict, site: Site, least: Severity = Severity.ASK) -> dict[str, bytes]:
    """Tickets by file name, for the causes from a severity on that are not accepted."""
    return {
        f"{int(c.id[1:]):04}-{c.check}.md": _ticket(c, site).encode("utf-8", "backslashreplace")
        for c in verdict.causes
        if c.severity.value >= least.value and not c.accepted
    }


def _ticket(cause: Cause, site: Site) -> str:
    about, first = checks()[cause.check], cause.findings[0]
    what = first.message if cause.count == 1 else cause.summary
    lines = [
        f"# {cause.check}: {prose(what.rstrip('.'))}", "",
        f"{plural(cause.count, 'address', 'addresses')} in {code(cause.section or '/')}, severity {cause.severity.word}.", "",
        "## What is wrong", "", prose(about.why), "",
        "## Where it comes from", "",
        *(_place(e, site.base_origin) for e in first.evidence[:4]), "",
        "## What to do", "", prose(cause.mend), "",
    ]  # fmt: skip
    change = before_and_after(cause)
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
    lines += ["", "## How to check", "", *_block("\n".join(_commands(cause))), ""]
    lines += [f"Rests on: {text(about.rests_on)}", ""]
    return "\n".join(lines)


def _place(evidence: Evidence, origin: str) -> str:
    where = short(evidence.where, origin) + (f", line {evidence.line}" if evidence.line else "")
    return f"- {code(where)}: {code(evidence.text)}"


def _block(value: str) -> list[str]:
    fence = "`" * max(3, max((len(run) for run in re.findall("`+", value)), default=0) + 1)
    return [fence, *value.splitlines(), fence]


def before_and_after(cause: Cause) -> tuple[str, str] | None:
    """The text that does it, and the same as it should be, where one follows from the other."""
    first = cause.findings[0]
    evidence = first.evidence[0] if first.evidence else None
    if evidence is None:
        return None
    if cause.check in NOINDEX_CHECKS and evidence.kind in ("tag", "header"):
        kept = re.sub(r"\b(noindex|none)\b\s*,?\s*", "", evidence.text, flags=re.IGNORECASE)
        empty = re.search(r"content\s*=\s*([\"']?)\s*\1\s*/?>|X-Robots-Tag:\s*$", kept, re.IGNORECASE)
        return evidence.text, "(the line goes)" if empty else re.sub(r",\s*([\"'])", r"\1", kept)
    if cause.check.startswith("canonical-") and evidence.kind == "canonical" and "first" not in cause.check:
        return evidence.text, f'<link rel="canonical" href="{first.url}">  (each page its own address)'
    if cause.check == "robots-token-slip" and (
        meant := re.search(r"`([^`]+)`: no such token; `([^`]+)`", first.message)
    ):
        return evidence.text, evidence.text.replace(meant[1], meant[2])
    if cause.check.startswith("listed-") and first.evidence[-1].kind == "sitemap":
        return first.evidence[
            -1
        ].text, f"(the entry goes, or lists {first.also[0]})" if first.also else "(the entry goes)"
    return None


def _commands(cause: Cause) -> Iterable[str]:
    first = cause.findings[0]
    yield "# audit the site again with Indrel, then:"
    if first.url.endswith("/robots.txt"):
        yield f"indrel robots check {_quoted(first.url)}"
    elif first.url.startswith(("http://", "https://")):
        yield f"indrel explain {_quoted(first.url)}"
    yield f"indrel checks {cause.check}"


def _quoted(url: str) -> str:
    """An address for a shell: it may hold quotes."""
    return "'" + url.replace("'", "%27") + "'"
