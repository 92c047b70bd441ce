"""The verdict as Markdown, for a ticket or a pull request: first line, causes, fixes; with a baseline, only what is new."""

from __future__ import annotations

import re

from indrel.base.plain import safe
from indrel.checks.headline import spoken_of
from indrel.core.model import Cause, Evidence, Severity, Verdict, moment, plural
from indrel.decide.site import Site
from indrel.reports.terminal import A_CAUSE, GLOSSES, HEADINGS, explains, said_of, sentence, short, since_then

MOST_LOST = 10
MOST_CAUSES = 60
EXAMPLES = 5
NOTES = 3


_PLACE = re.compile(r"(?:https?://|www\.|/?(?:[\w-]+\.)+[A-Za-z]{2,})[^\s,;()<>\"“”`]*", re.IGNORECASE)
"""A URL, a host or a file's name: a reader of Markdown would make a link of it."""

_LIVE = re.compile(r"[@#:!~%$&^](?=\S)")
"""What makes a mention or a reference of plain text, in comments: a backslash does not stop it."""


def text(value: str) -> str:
    """A text in which nothing is taken for Markdown or HTML, and nothing comes alive as a mention or a link."""
    shown, found, at = safe(value), "", 0
    for place in _PLACE.finditer(shown):
        name = place[0].rstrip(".:!?'")
        found += _words(shown[at : place.start()]) + code(name)
        at = place.start() + len(name)
    return found + _words(shown[at:])


def _words(value: str) -> str:
    return re.sub(r"([\\`*_{}\[\]()#+!|<>~&])", r"\\\1", _LIVE.sub(lambda m: f"{m[0]}\u2060", value))


def prose(message: str) -> str:
    """A message: what it quotes, between backticks, as code spans."""
    parts = message.split("`")
    return "".join(code(part) if place % 2 and part else text(part) for place, part in enumerate(parts))


def code(value: str) -> str:
    """A site's text as a code span, whatever backticks it holds; a bar would end the cell of a table."""
    shown = safe(value).replace("|", "\u2223") or " "
    fence = "`" * (max((len(run) for run in re.findall("`+", shown)), default=0) + 1)
    pad = " " if shown[0] in "` " or shown[-1] in "` " else ""
    return f"{fence}{pad}{shown}{pad}{fence}"


def render(verdict: Verdict, site: Site) -> bytes:
    """First what is lost and new since the baseline, if there is one; the rest, by severity; what was skipped, in a line."""
    lines = [f"# {text(_title(verdict, site))}", ""]
    lines += [line for note in verdict.notes[:NOTES] for line in (f"Note: {text(note)}.", "")]
    for urls, after, by, crawlers, fix in verdict.lost_together():
        who = "" if len(crawlers) == len(verdict.crawlers) else f" for {', '.join(map(code, crawlers))}"
        named = ", ".join(code(short(url, site.base_origin)) for url in urls[:MOST_LOST])
        more = f" and {len(urls) - MOST_LOST:,} more" if len(urls) > MOST_LOST else ""
        line = f": {_place(by, verdict, site)} {code(by.text)}" if by else ""
        lines.append(f"- **lost**{who}: {named}{more} {'is' if len(urls) == 1 else 'are'} {after}{line}")
        lines += [f"  **Fix:** {prose(fix)}"] if fix else []
    shown = verdict.fresh()
    lines += [f"**The check {c.check} crashed**, so its findings are missing." for c in verdict.crashed]
    if not verdict.baseline:
        lines += _states(verdict)
    lines += _causes(shown, site)
    if verdict.baseline:
        lines += ["", "## The whole site", "", f"{text(verdict.headline.said)}.", "", *_states(verdict)]
    if verdict.skipped:
        lines += ["", f"{plural(len(verdict.skipped), 'check')} skipped: {text(_skipped(verdict))}."]
    return ("\n".join(lines) + "\n").encode("utf-8", "backslashreplace")


def _title(verdict: Verdict, site: Site) -> str:
    """The first line: in a pull request the host, without the folder in which a job has its files."""
    if not verdict.baseline:
        return sentence(verdict)
    return f"{spoken_of(site, bare=True)}, since {moment(verdict.baseline_started)}: {since_then(verdict)}"


def _causes(verdict: Verdict, site: Site) -> list[str]:
    lines = ["", A_CAUSE] if any(not c.accepted for c in verdict.causes) else []
    shown = 0
    for severity in Severity:
        causes = [c for c in verdict.causes if c.severity is severity and not c.accepted]
        if not causes:
            continue
        lines += ["", f"## {HEADINGS[severity]}", ""]
        room = max(0, MOST_CAUSES - shown)
        for cause in causes[:room]:
            lines += _cause(cause, site, verdict)
        if len(causes) > room:
            lines += [f"and {plural(len(causes) - room, 'more cause')}.", ""]
        shown += len(causes)
    accepted = [c for c in verdict.causes if c.accepted]
    if accepted:
        lines += ["", "## Accepted", ""]
        lines += [
            f"- {c.check}, {plural(c.count, 'finding')}: {text(c.accepted.because if c.accepted else '')}"
            for c in accepted
        ]
    return lines


def _skipped(verdict: Verdict) -> str:
    """The checks that were skipped, by reason."""
    reasons: dict[str, list[str]] = {}
    for one in verdict.skipped:
        reasons.setdefault(one.because, []).append(one.check)
    return "; ".join(f"{because}: {', '.join(names)}" for because, names in reasons.items())


def _place(evidence: Evidence, verdict: Verdict, site: Site) -> str:
    where = short(verdict.file_of(evidence.where) if evidence.kind != "intent" else evidence.where, site.base_origin)
    return code(where + (f":{evidence.line}" if evidence.line else ""))


def _states(verdict: Verdict) -> list[str]:
    """The table of states, with what each means."""
    groups = verdict.states_together()
    states = [s for s in GLOSSES if any(s in seen for _, seen in groups)]
    if not states:
        return []
    return [
        "| | " + " | ".join(f"{s.value} ({GLOSSES[s]})" for s in states) + " |",
        "|---" * (len(states) + 1) + "|",
        *(
            f"| {', '.join(map(code, names))} | " + " | ".join(seen.get(s, "0") for s in states) + " |"
            for names, seen in groups
        ),
    ]


def _cause(cause: Cause, site: Site, verdict: Verdict) -> list[str]:
    origin, joined, first = site.base_origin, verdict.joined(cause), cause.findings[0]
    lines = [f"### {prose(said_of(cause))}", "", f"{cause.check}, cause {code(cause.short)}{explains(cause)}", ""]
    for evidence in first.evidence[:3]:
        lines.append(f"- set by {_place(evidence, verdict, site)} {code(evidence.text)}")
    lines += [f"- also: {prose(said_of(one))} ({one.check})" for one in joined]
    urls = [f.url for f in cause.findings]
    if cause.count > 1 or urls[0] != first.evidence[0].where:
        more = f" and {len(urls) - EXAMPLES:,} more" if len(urls) > EXAMPLES else ""
        lines.append("- on " + ", ".join(code(short(u, origin)) for u in urls[:EXAMPLES]) + more)
    return [*lines, "", f"**Fix:** {prose(cause.fix)}", ""]
