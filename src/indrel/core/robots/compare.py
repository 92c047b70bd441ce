"""What can be told of rules from the rules alone: which can never win, which differ from another group's."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from indrel.core.robots.file import Pattern, Rule
from indrel.core.robots.single import matches, weight

MOST_COMPARED = 400_000
"""Pairs of a rule with a wildcard and another that are compared; beyond, in one group, only exact duplicates are looked for."""

_ANY = "\x03"
"""Stands in a pattern for what its wildcard may become; only another wildcard covers it."""


def covers(wide: Pattern, narrow: Pattern) -> bool:
    """Whether everything that `narrow` matches is matched by `wide` (never wrongly true)."""
    text = _ANY.join(narrow.pieces) + ("" if narrow.anchored else _ANY)
    if wide.anchored and not narrow.anchored and wide.pieces[-1]:
        return False
    return matches(replace(wide, anchored=wide.anchored and bool(wide.pieces[-1])), text)


def never_wins(rules: Sequence[Rule]) -> list[tuple[Rule, Rule]]:
    """Rules of one group that another always beats, each with the one that beats it."""
    found: list[tuple[Rule, Rule]] = []
    first: dict[Pattern, Rule] = {}
    # a rule without wildcard that covers a longer one is shorter, and loses: only those as long can beat it
    alike: dict[str, list[int]] = {}
    wild = []
    for k, rule in enumerate(rules):
        if len(rule.pattern.pieces) > 1 or rule.pattern.anchored:
            wild.append(k)
        else:
            alike.setdefault(rule.pattern.pieces[0], []).append(k)
    if len(wild) * len(rules) > MOST_COMPARED:
        wild = []
    for i, rule in enumerate(rules):
        pattern = rule.pattern
        same = first.get(pattern)
        if same is not None and same.allow == rule.allow:
            found.append((rule, same))
            continue
        first.setdefault(pattern, rule)
        others = (
            sorted([*wild, *alike.get(pattern.pieces[0], [])[:2]]) if wild else alike.get(pattern.pieces[0], [])[:2]
        )
        for k in others:
            if weight(rules[k], k) > weight(rule, i) and covers(rules[k].pattern, pattern):
                found.append((rule, rules[k]))
                break
    return found


def left_out(named: Sequence[Rule], general: Sequence[Rule]) -> list[Rule]:
    """Rules of the general group that bar what the named group does not bar as a whole."""
    bars = [r.pattern for r in named if not r.allow]
    real = [r for r in general if not r.allow and r.path[0] in "/*"]
    return [r for r in real if not any(covers(p, r.pattern) for p in bars)]
