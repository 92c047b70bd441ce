"""The checks of robots.txt on one file, alone or in the place of a snapshot's."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from indrel.ask.robots.loaded import Loaded
from indrel.ask.robots.placed import alone, in_place
from indrel.checks import checks, judge
from indrel.checks.rule_use import RuleUse, rule_uses
from indrel.core.address import origin_of
from indrel.core.crawlers import Crawler
from indrel.core.model import Finding, Skipped

NOT_OF_THE_FILE = ("barred-unread", "listed-barred", "barred-noindex", "barred-canonical")
TOPICS = ("robots", "robots_lines", "robots_pages", "robots_reach")


@dataclass(frozen=True)
class Checked:
    """What the checks said of one file, and, against a snapshot, what each of its rules does there."""

    findings: list[Finding]
    crashed: list[Skipped]
    uses: list[RuleUse]

    def as_json(self) -> dict[str, object]:
        found: dict[str, object] = {"findings": [f.as_json() for f in self.findings]}
        if self.uses:
            found["rules"] = [
                {
                    "line": u.rule.line, "text": u.rule.text, "group": u.group, "decides": u.decides, "wanted": u.wanted,
                    "loses": u.loses,
                }
                for u in self.uses
            ]  # fmt: skip
        return found


def check(loaded: Loaded, crawlers: Sequence[Crawler], snapshot: Path | None) -> Checked:
    """The checks of robots.txt on one file; with a snapshot also the ones that need known addresses."""
    only = [c.id for c in checks().values() if c.topic in TOPICS and c.id not in NOT_OF_THE_FILE]
    site = in_place(snapshot, crawlers, loaded) if snapshot else alone(loaded, crawlers)
    try:
        verdict = judge(site, only)
        host = site.robots[site.base_origin]
        uses = rule_uses(site, host) if snapshot else []
        # a snapshot knows other hosts too: what is reported of their files is not said of this one
        found = [
            f
            for f in verdict.findings
            if origin_of(f.url) == site.base_origin or any(e.where == host.where for e in f.evidence)
        ]
        return Checked(found, list(verdict.crashed), uses)
    finally:
        site.close()
