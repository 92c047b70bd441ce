"""`docs/checks.md`, produced from the catalogue: run as a module to write it."""

from __future__ import annotations

from collections.abc import Iterable
from itertools import groupby
from pathlib import Path

from indrel.checks import Check, checks

TOPICS = {
    "robots_lines": "robots.txt, line by line",
    "robots_reach": "robots.txt, compared with the site",
    "robots_pages": "robots.txt and single pages",
    "links_out": "links to other sites",
    "robots": "robots.txt",
}

INTRO = """# Checks

Produced from the catalogue in the code; `indrel checks ID` shows the same. Classes: *blocked* (wanted, but a crawler
cannot fetch or must not index it), *exposed* (unwanted, but it can), *conflict* (two directives, or a directive and the
sitemap, disagree), *flaw* (malformed, or without the effect it seems to have). Severities: *stop* (a whole site or
section: deal with it first), *fix*, *ask* (only a person can decide whether it is intended), *note*.
"""


def render(catalogue: Iterable[Check]) -> str:
    """The page as Markdown."""
    parts = [INTRO]
    for topic, members in groupby(catalogue, key=lambda c: c.topic):
        parts.append(f"\n## {TOPICS.get(topic, topic).capitalize()}\n")
        for one in members:
            milder = " One severity lower if the want is only inferred." if one.rests_on_want else ""
            needs = f"\n- **Needs:** {', '.join(one.needs)}." if one.needs else ""
            parts.append(
                f"\n### {one.id}\n\n*{one.cls.value}, {one.severity.word}.* {one.summary}{milder}\n\n- **Why:** {one.why}\n"
                f"- **Fix:** {one.mend}\n- **Source:** {one.rests_on}\n- **Evidence:** {one.evidence}{needs}\n"
            )
    return "".join(parts)


if __name__ == "__main__":
    Path("docs/checks.md").write_text(render(checks().values()), "utf-8")
