"""Which rule decides an address, per crawler."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import islice

from indrel.ask.robots.loaded import Loaded
from indrel.core.address import split
from indrel.core.crawlers import Crawler
from indrel.core.robots import ALWAYS_ALLOWED, Access, Rule, Ruleset, matching
from indrel.core.robots.single import RESERVED

CHUNK = 20_000
FEW = 200
"""Up to so many addresses are matched one by one: the array libraries would take longer to load."""


@dataclass(frozen=True, slots=True)
class Match:
    """What decides one address for one crawler."""

    url: str
    crawler: str
    allowed: bool
    rule: Rule | None
    group: str | None
    note: str | None = None
    """Where the standard's letter decides otherwise than engines do: how."""

    def as_json(self) -> dict[str, object]:
        found: dict[str, object] = {
            "url": self.url,
            "crawler": self.crawler,
            "allowed": self.allowed,
            "rule": self.rule.label if self.rule else None,
            "line": self.rule.line if self.rule else None,
            "group": self.group,
        }
        return {**found, "note": self.note} if self.note else found


def match(loaded: Loaded, urls: Iterable[str], crawlers: Sequence[Crawler]) -> Iterator[list[Match]]:
    """Per normalised address one row a crawler, in order; streams in bounded memory."""
    rulesets = [loaded.verdict.ruleset(c) for c in crawlers]
    left = iter(urls)
    while chunk := list(islice(left, CHUNK)):
        yield from _match_chunk(loaded, chunk, crawlers, rulesets)


def _match_chunk(
    loaded: Loaded, urls: list[str], crawlers: Sequence[Crawler], rulesets: list[Ruleset]
) -> Iterator[list[Match]]:
    paths = [split(u).path for u in urls]
    decided: dict[object, list[Rule | None]] = {}
    for rules in rulesets:
        if rules.key not in decided:
            decided[rules.key] = _deciding(rules, paths)
    shut = loaded.verdict.access is Access.ALL_BARRED
    escaped = any(RESERVED.search(r.path.upper()) for rules in rulesets for r in rules.rules)
    for i, (url, path) in enumerate(zip(urls, paths, strict=True)):
        row = []
        for one, rules in zip(crawlers, rulesets, strict=True):
            rule = decided[rules.key][i] if path != ALWAYS_ALLOWED else None
            allowed = path == ALWAYS_ALLOWED or (rule.allow if rule else not shut)
            note = loaded.verdict.by_letter(path, one) if "%" in path or escaped else None
            row.append(Match(url, one.token, allowed, rule, rules.group, note))
        yield row


def _deciding(rules: Ruleset, paths: Sequence[str]) -> list[Rule | None]:
    if len(paths) <= FEW:
        return [next(iter(matching(rules.rules, path)), None) for path in paths]
    from indrel.core.robots import Paths, match_many

    found = match_many(rules.rules, Paths(paths)).tolist()
    return [rules.rules[index] if index >= 0 else None for index in found]
