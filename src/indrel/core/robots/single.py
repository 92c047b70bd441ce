"""Which rule decides one address: RFC 9309 section 2.2.2."""

from __future__ import annotations

from collections.abc import Sequence

from indrel.core.robots.file import Pattern, Rule, comparable_path

ALWAYS_ALLOWED = "/robots.txt"
"""RFC 9309 section 2.2.2: the file's own address is implicitly allowed."""


def matches(pattern: Pattern, path: str) -> bool:
    """Whether a pattern matches a path in its comparable form. Linear in the path's length."""
    pieces = pattern.pieces
    first = pieces[0]
    if not path.startswith(first):
        return False
    if len(pieces) == 1:
        return not pattern.anchored or len(path) == len(first)
    at = len(first)
    for piece in pieces[1:-1]:
        found = path.find(piece, at)
        if found < 0:
            return False
        at = found + len(piece)
    last = pieces[-1]
    if pattern.anchored:
        return len(path) - at >= len(last) and path.endswith(last)
    return path.find(last, at) >= 0


def weight(rule: Rule, position: int) -> tuple[int, bool, int]:
    """Orders rules by who wins: the longest, then `allow`, then the one that stands first."""
    return (rule.pattern.length, rule.allow, -position)


def matching(rules: Sequence[Rule], path: str) -> list[Rule]:
    """All rules that match a path and query, the deciding one first."""
    text = comparable_path(path)
    hits = [(weight(rule, i), rule) for i, rule in enumerate(rules) if matches(rule.pattern, text)]
    hits.sort(key=lambda hit: hit[0], reverse=True)
    return [rule for _, rule in hits]


def decide(rules: Sequence[Rule], path: str) -> tuple[bool, Rule | None]:
    """Whether a path and query may be fetched, and the rule that says so (None: none does)."""
    if path == ALWAYS_ALLOWED:
        return True, None
    hits = matching(rules, path)
    return (hits[0].allow, hits[0]) if hits else (True, None)
