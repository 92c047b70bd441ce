"""The verdict as Markdown, for a ticket or a pull request: first line, causes, fixes; with a baseline, only what is new."""

from __future__ import annotations

import re

from indrel.base.plain import safe
from indrel.core.model import Cause, Severity, Verdict, plural
from indrel.decide.site import Site
from indrel.reports.terminal import A_CAUSE, GLOSSES, HEADINGS, explains, fix_of, said_of, sentence, short

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
    lines = [f"# {text(sentence(verdict))}", ""]
    lines += [line for note in verdict.notes[:NOTES] for line in (f"Note: {text(note)}.", "")]
    for urls, after, by, crawlers in verdict.lost_together():
        who = "" if len(crawlers) == len(verdict.crawlers) else f" for {', '.join(map(code, crawlers))}"
        named = ", ".join(code(short(url, site.base_origin)) for url in urls[:MOST_LOST])
        more = f" and {len(urls) - MOST_LOST:,} more" if len(urls) > MOST_LOST else ""
        line = (
            f": {code(short(by.where, site.base_origin) + (f':{by.line}' if by.line else ''))} {code(by.text)}"
            if by
            else ""
        )
        lines.append(f"- **lost**{who}: {named}{more} {'is' if len(urls) == 1 else 'are'} {after}{line}")
    verdict = verdict.fresh()
    lines += [f"**The check {c.check} crashed**, so its findings are missing." for c in verdict.crashed]
    lines += _states(verdict)
    if any(not c.accepted for c in verdict.causes):
        lines += ["", A_CAUSE]
    shown = 0
    for severity in Severity:
        causes = [c for c in verdict.causes if c.severity is severity and not c.accepted]
        if not causes:
            continue
        lines += ["", f"## {HEADINGS[severity]}", ""]
        room = max(0, MOST_CAUSES - shown)
        for cause in causes[:room]:
            lines += _cause(cause, site.base_origin, verdict.joined(cause))
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
    if verdict.skipped:
        lines += ["", "## Skipped", ""]
        lines += [f"- {s.check}: {text(s.because)}" for s in verdict.skipped]
    return ("\n".join(lines) + "\n").encode("utf-8", "backslashreplace")


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


def _cause(cause: Cause, origin: str, joined: list[Cause]) -> list[str]:
    first = cause.findings[0]
    lines = [f"### {prose(said_of(cause))}", "", f"{cause.check}, cause {code(cause.short)}{explains(cause)}", ""]
    for evidence in first.evidence[:3]:
        where = short(evidence.where, origin) + (f":{evidence.line}" if evidence.line else "")
        lines.append(f"- set by {code(where)} {code(evidence.text)}")
    lines += [f"- also: {prose(said_of(one))} ({one.check})" for one in joined]
    urls = [f.url for f in cause.findings]
    if cause.count > 1 or urls[0] != first.evidence[0].where:
        more = f" and {len(urls) - EXAMPLES:,} more" if len(urls) > EXAMPLES else ""
        lines.append("- on " + ", ".join(code(short(u, origin)) for u in urls[:EXAMPLES]) + more)
    return [*lines, "", f"**Fix:** {prose(fix_of(cause))}", ""]
